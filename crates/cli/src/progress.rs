//! Shows progress: drawn on a terminal when work takes longer than a moment, line by line with `-v`.

use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_present::words::{count, first_few};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle, WeakProgressBar};

use crate::ui::{Ui, clean};

/// What is over sooner is not worth drawing.
const SHOW_AFTER: Duration = Duration::from_millis(300);

/// Most projects that are named.
const MAX_SHARING: usize = 5;

/// How often a drawing is renewed while nothing is heard.
const REDRAW_INTERVAL: Duration = Duration::from_millis(120);

/// Shows what it hears.
pub struct Progress<'u> {
    ui: &'u Ui,
    bar: Mutex<Option<ProgressBar>>,
    way: Mutex<OnTheWay>,
}

/// What is being fetched.
#[derive(Debug, Default)]
struct OnTheWay {
    total: usize,
    done: usize,
    /// What was asked for and isn't there yet, the longest first.
    open: Vec<PackageName>,
}

impl OnTheWay {
    fn close(&mut self, package: &PackageName) {
        self.done += 1;
        if let Some(at) = self.open.iter().position(|open| open == package) {
            self.open.remove(at);
        }
    }

    /// How far it is, and what has been waited for longest.
    fn sentence(&self) -> String {
        let longest = self.open.first().map(|package| format!("; waiting for {package}")).unwrap_or_default();
        format!("; {} of {}{longest}", self.done, count(self.total, "archive"))
    }
}

impl<'u> Progress<'u> {
    pub fn new(ui: &'u Ui) -> Self {
        Self { ui, bar: Mutex::new(None), way: Mutex::default() }
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
        *lock(&DRAWN) = Some(bar.downgrade());
        self.replace(Some(bar));
    }

    fn replace(&self, bar: Option<ProgressBar>) {
        if let Ok(mut current) = self.bar.lock()
            && let Some(old) = std::mem::replace(&mut *current, bar)
        {
            old.finish_and_clear();
        }
    }

    fn on_the_way(&self) -> MutexGuard<'_, OnTheWay> {
        lock(&self.way)
    }

    fn change(&self, change: impl FnOnce(&mut OnTheWay)) {
        let mut way = self.on_the_way();
        change(&mut way);
        if let Ok(bar) = self.bar.lock()
            && let Some(bar) = bar.as_ref()
        {
            bar.set_prefix(way.sentence());
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

/// The bar that is drawn, or was.
static DRAWN: Mutex<Option<WeakProgressBar>> = Mutex::new(None);

/// Prints a line on the standard error without disturbing the bar that is drawn there.
pub fn above_the_bar(line: &str) {
    let bar = lock(&DRAWN).as_ref().and_then(WeakProgressBar::upgrade);
    match bar.filter(|bar| !bar.is_finished()) {
        Some(bar) => bar.suspend(|| Ui::aside_line(line)),
        None => Ui::aside_line(line),
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

fn draw_after_a_moment(bar: ProgressBar) {
    std::thread::spawn(move || {
        std::thread::sleep(SHOW_AFTER);
        if !bar.is_finished() {
            bar.set_draw_target(ProgressDrawTarget::stderr());
            bar.enable_steady_tick(REDRAW_INTERVAL);
        }
    });
}

/// Who else has a damaged copy on the shelf, and what to do there.
pub fn shared_with(projects: &[PathBuf]) -> Option<String> {
    let shown: Vec<String> = projects.iter().map(|project| clean(&project.display().to_string())).collect();
    let sentence = || {
        format!(
            "the damaged copy is on the shelf of {}, too; run `bibliotax verify --repair` there",
            first_few(&shown, MAX_SHARING)
        )
    };
    (!projects.is_empty()).then(sentence)
}

const BYTES: &str = "{msg} {bar:24} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left{prefix}";
const COUNT: &str = "{msg} {bar:30} {pos} of {len} packages, {eta} left";

impl ProgressListener for Progress<'_> {
    fn on_event(&self, notice: &ProgressEvent) {
        match notice {
            ProgressEvent::Waiting => {
                self.ui.warn("another bibliotax is at work in this project; waiting for it");
            }
            ProgressEvent::Fetching { archives, bytes } => {
                *self.on_the_way() = OnTheWay { total: *archives, ..OnTheWay::default() };
                self.begin("fetching", *bytes, BYTES);
            }
            ProgressEvent::Asked { package } => self.change(|way| way.open.push(package.clone())),
            ProgressEvent::Uploading { bytes } => self.begin("uploading", *bytes, BYTES),
            ProgressEvent::Arrived { bytes } | ProgressEvent::Sent { bytes } => self.advance(*bytes),
            ProgressEvent::WrongBytes { package, from } => {
                self.ui.warn(format!("{from} sent wrong bytes for {package}; trying another source"));
            }
            ProgressEvent::Damaged { package, shared_by } => {
                self.ui.warn(format!("{package} is damaged in the store; downloading it again"));
                shared_with(shared_by).into_iter().for_each(|sentence| self.ui.warn(sentence));
            }
            ProgressEvent::Touched { place } => {
                self.ui.warn(format!("{place} on the shelf was changed; it is built again"));
            }
            ProgressEvent::Shelving { packages } => self.begin("onto the shelf", *packages as u64, COUNT),
            ProgressEvent::Verifying { packages } => self.begin("verifying", *packages as u64, COUNT),
            ProgressEvent::Unpacked { package, bytes } => {
                self.change(|way| way.close(package));
                self.ui.tell(1, format!("unpacked {package} ({bytes} bytes)"));
            }
            ProgressEvent::Shelved { package } => {
                self.advance(1);
                self.ui.tell(1, format!("put {package} on the shelf"));
            }
            ProgressEvent::Verified { package } => {
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
