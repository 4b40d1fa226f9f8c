//! Shows progress: drawn on a terminal when work takes longer than a moment, line by line with `-v`.

use std::fmt;
use std::path::PathBuf;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener, Work};
use bibliotax_present::words::{count, first_few};
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use crate::drawn_bar;
use crate::ui::{Ui, clean, error_width, is_ascii};
use crate::waiting::waits;

/// Most projects that are named.
const MAX_SHARING: usize = 5;

/// The columns that a drawing has where the terminal doesn't say how many it has.
const PIPE_WIDTH: usize = 80;

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
    /// What was requested and hasn't arrived yet, the oldest first.
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
    /// Begins to show that a command works; more is shown as it is heard.
    pub fn new(ui: &'u Ui) -> Self {
        let progress = Self { ui, bar: Mutex::new(None), way: Mutex::default() };
        progress.begin(doing(ui.command().unwrap_or_default()), None, &Shape::SPINNER);
        progress
    }

    fn begin(&self, what: &'static str, length: Option<u64>, shape: &Shape) {
        if length == Some(0) || !self.ui.shows_progress() {
            return;
        }
        let bar = ProgressBar::with_draw_target(length, ProgressDrawTarget::hidden());
        let width = error_width().unwrap_or(PIPE_WIDTH);
        let (template, room) = shape.at(width);
        // The shapes are fixed and well-formed; a bar without its style is still a bar.
        if let Ok(style) = ProgressStyle::with_template(template) {
            let style = style.with_key("waits", move |state: &ProgressState, out: &mut dyn fmt::Write| {
                // A text takes everything.
                let _ = out.write_str(&cut(&waiting_sentence(state.elapsed()), room));
            });
            let (ticks, bars) =
                if is_ascii() { (r"-\|/ ", "#>.") } else { ("⠁⠂⠄⡀⢀⠠⠐⠈ ", "█▌·") };
            bar.set_style(style.tick_chars(ticks).progress_chars(bars));
        }
        bar.set_message(what);
        drawn_bar::draw_after_a_moment(&bar);
        self.replace(Some(bar));
    }

    fn count(&self, what: &'static str, packages: usize) {
        self.begin(what, Some(packages as u64), &Shape::COUNT);
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
            let room = error_width().unwrap_or(PIPE_WIDTH).saturating_sub(BYTES_WIDTH);
            bar.set_prefix(cut(&way.sentence(), room));
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

/// What is done with packages, in a word.
fn word(work: Work) -> &'static str {
    match work {
        Work::Checking => "checking",
        Work::Copying => "copying",
        Work::Following => "asking upstream of",
    }
}

/// What a command does before anything is heard of it.
fn doing(command: &str) -> &'static str {
    match command {
        "need" | "drop" | "resolve" | "update" | "install" | "explain" | "newer" | "check" => "resolving",
        "find" => "searching",
        "publish" => "packing",
        "verify" | "store check" => "verifying",
        "registry check" => "checking",
        "registry load" => "loading",
        "registry mirror" => "copying",
        "registry follow" => "asking upstream",
        "describe" | "fit" | "ready" | "steps" | "graph" => "asking registries",
        _ => "working",
    }
}

/// The host that this process waits for, and how many answers came.
fn waiting_sentence(elapsed: Duration) -> String {
    let waits = waits();
    let answers = match waits.answers() {
        0 => String::new(),
        number => format!(", {}", count(usize::try_from(number).unwrap_or(usize::MAX), "answer")),
    };
    let longest = waits.longest().map(|subject| format!("; waiting for {subject}")).unwrap_or_default();
    format!("{answers} ({} s){longest}", elapsed.as_secs())
}

/// A text of at most so many columns.
fn cut(text: &str, most: usize) -> String {
    if text.width() <= most {
        return text.to_owned();
    }
    let mut width = 0;
    let is_within = |letter: &char| {
        width += letter.width().unwrap_or(0);
        width < most
    };
    text.chars().take_while(is_within).collect()
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
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

/// What a bar looks like on a wide terminal and on a narrow one. No line is wider than its terminal.
struct Shape {
    wide: &'static str,
    narrow: &'static str,
    /// The columns that all but the waiting sentence takes.
    taken: usize,
}

/// The columns from which on there is room for a bar.
const WIDE: usize = 80;

/// The columns of a bar that counts bytes, without what is waited for.
const BYTES_WIDTH: usize = 78;

impl Shape {
    const SPINNER: Self =
        Self { wide: "{spinner} {msg}{waits}", narrow: "{spinner} {msg}{waits}", taken: 20 };
    const BYTES: Self = Self {
        wide: "{msg} {bar:16} {bytes} of {total_bytes}, {bytes_per_sec}, {eta} left{prefix}",
        narrow: "{msg} {percent}%, {bytes_per_sec}",
        taken: 0,
    };
    const COUNT: Self = Self {
        wide: "{msg} {bar:24} {pos} of {len} packages, {per_sec}, {eta} left",
        narrow: "{msg} {pos} of {len}",
        taken: 0,
    };

    /// What it looks like at a width, and how much room is left for the waiting sentence.
    fn at(&self, width: usize) -> (&'static str, usize) {
        (if width < WIDE { self.narrow } else { self.wide }, width.saturating_sub(self.taken))
    }
}

impl ProgressListener for Progress<'_> {
    fn on_event(&self, notice: &ProgressEvent) {
        match notice {
            ProgressEvent::Waiting => {
                self.ui.warn("another bibliotax runs in this project; waiting for it");
            }
            ProgressEvent::Fetching { archives, bytes } => {
                *self.on_the_way() = OnTheWay { total: *archives, ..OnTheWay::default() };
                self.begin("fetching", Some(*bytes), &Shape::BYTES);
            }
            ProgressEvent::Asked { package } => self.change(|way| way.open.push(package.clone())),
            ProgressEvent::Uploading { bytes } => self.begin("uploading", Some(*bytes), &Shape::BYTES),
            ProgressEvent::Arrived { bytes } | ProgressEvent::Sent { bytes } => self.advance(*bytes),
            ProgressEvent::WrongBytes { package, from } => {
                self.ui.warn(format!("{from} sent wrong bytes for {package}; trying another source"));
            }
            ProgressEvent::Damaged { package, shared_by } => {
                self.ui.warn(format!("{package} is damaged in the store; downloading it again"));
                shared_with(shared_by).into_iter().for_each(|sentence| self.ui.warn(sentence));
            }
            ProgressEvent::Touched { place } => {
                self.ui.warn(format!("{place} changed on the shelf; it is installed again"));
            }
            ProgressEvent::NamesElsewhere { package, count, first, why } => {
                self.ui.warn(names_elsewhere(package, *count, first, why));
            }
            ProgressEvent::Shelving { packages } => self.count("installing", *packages),
            ProgressEvent::Verifying { packages } => self.count("verifying", *packages),
            ProgressEvent::Counting { work, packages } => self.count(word(*work), *packages),
            ProgressEvent::Counted { package } => {
                self.advance(1);
                self.ui.tell(1, format!("done with {package}"));
            }
            ProgressEvent::Wrote { file } => self.ui.tell(1, format!("wrote {}", file.display())),
            ProgressEvent::Unpacked { package, bytes } => {
                self.change(|way| way.close(package));
                self.ui.tell(1, format!("unpacked {package} ({bytes} bytes)"));
            }
            ProgressEvent::Shelved { package } => {
                self.advance(1);
                self.ui.tell(1, format!("installed {package}"));
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

/// That files of a package can't be on every system.
fn names_elsewhere(package: &PackageName, count: usize, first: &str, why: &str) -> String {
    match count {
        1 => format!("{package} has a file that not every system can have: `{first}`: {why}"),
        count => {
            format!("{package} has {count} files that not every system can have, such as `{first}`: {why}")
        }
    }
}
