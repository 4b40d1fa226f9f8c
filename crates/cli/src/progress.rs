//! Progress of long work: drawn on a terminal once it takes longer than a moment, told line by line with `-v`.

use std::sync::Mutex;
use std::time::Duration;

use bibliotax_core::notice::{Listener, Notice};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use crate::ui::Ui;

/// What is over sooner is not worth drawing.
const MOMENT: Duration = Duration::from_millis(300);

/// How often a drawing is renewed while nothing is heard.
const TICK: Duration = Duration::from_millis(120);

/// Shows what it hears.
pub struct Progress<'u> {
    ui: &'u Ui,
    bar: Mutex<Option<ProgressBar>>,
}

impl<'u> Progress<'u> {
    pub fn new(ui: &'u Ui) -> Self {
        Self { ui, bar: Mutex::new(None) }
    }

    fn begin(&self, what: &'static str, length: u64, shape: &str) {
        if length == 0 || !self.ui.shows_progress() {
            return;
        }
        let bar = ProgressBar::with_draw_target(Some(length), ProgressDrawTarget::hidden());
        // The shapes below are fixed and well-formed; a bar without its style is still a bar.
        if let Ok(style) = ProgressStyle::with_template(shape) {
            bar.set_style(style.progress_chars("█▌·"));
        }
        bar.set_message(what);
        draw_after_a_moment(bar.clone());
        self.replace(Some(bar));
    }

    fn replace(&self, bar: Option<ProgressBar>) {
        if let Ok(mut current) = self.bar.lock()
            && let Some(old) = std::mem::replace(&mut *current, bar)
        {
            old.finish_and_clear();
        }
    }

    fn advance(&self, by: u64) {
        if let Ok(bar) = self.bar.lock()
            && let Some(bar) = bar.as_ref()
        {
            bar.inc(by);
        }
    }
}

fn draw_after_a_moment(bar: ProgressBar) {
    std::thread::spawn(move || {
        std::thread::sleep(MOMENT);
        if !bar.is_finished() {
            bar.set_draw_target(ProgressDrawTarget::stderr());
            bar.enable_steady_tick(TICK);
        }
    });
}

const BYTES: &str = "{msg} {bar:30} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left";
const COUNT: &str = "{msg} {bar:30} {pos} of {len} packages, {eta} left";

impl Listener for Progress<'_> {
    fn hear(&self, notice: &Notice) {
        match notice {
            Notice::Waiting => self.ui.warn("another bibliotax is at work in this project; waiting for it"),
            Notice::Unpacking { bytes, .. } => self.begin("unpacking", *bytes, BYTES),
            Notice::Shelving { packages } => self.begin("onto the shelf", *packages as u64, COUNT),
            Notice::Verifying { packages } => self.begin("verifying", *packages as u64, COUNT),
            Notice::Unpacked { package, bytes } => {
                self.advance(*bytes);
                self.ui.tell(1, format!("unpacked {package} ({bytes} bytes)"));
            }
            Notice::Shelved { package } => {
                self.advance(1);
                self.ui.tell(1, format!("put {package} on the shelf"));
            }
            Notice::Verified { package } => {
                self.advance(1);
                self.ui.tell(2, format!("verified {package}"));
            }
        }
    }
}

impl Drop for Progress<'_> {
    fn drop(&mut self) {
        self.replace(None);
    }
}
