//! The one shape of all failures; `registry`, `sources` and `store` make it from the errors of the libraries.

mod registry;
mod sources;
pub mod store;

use std::path::Path;
use std::str::FromStr;

use bibliotax_core::fault::{Fault, MAX_SHOWN};
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::resolve::Conflict;
use bibliotax_disk::{DiskError, Refusal};
use bibliotax_present::conflict;
use serde::Serialize;

/// Why a command did not do what it was asked to.
#[derive(Debug, Default)]
pub struct Failure {
    /// The stable code; see `codes`.
    pub code: &'static str,
    /// What is wrong, one sentence.
    pub message: String,
    /// Why, sentence by sentence.
    pub because: Vec<String>,
    /// What to do about it.
    pub advice: Option<String>,
    /// What is known of a problem without a solution.
    pub unsolved: Option<Box<Unsolved>>,
    /// The text that people wrote, and what is wrong in it.
    pub source: Option<Box<Source>>,
}

/// What is known of a problem without a solution.
#[derive(Debug)]
pub struct Unsolved {
    /// Ways out, each tried.
    pub ways: Vec<Way>,
    /// Why there is none.
    pub conflict: Box<Conflict>,
    /// Whether a long conflict is shown with all its sentences.
    pub in_full: bool,
}

/// A way out of a conflict.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Way {
    /// What to run.
    pub command: String,
    /// What that does, in a few words.
    #[serde(rename = "effect")]
    pub note: String,
}

/// A text with faults.
#[derive(Debug)]
pub struct Source {
    /// What it is called.
    pub name: String,
    /// All of it.
    pub text: String,
    /// What is wrong in it: the first `MAX_SHOWN`.
    pub faults: Vec<Fault>,
    /// How many more faults there are.
    pub more: usize,
}

impl Failure {
    /// A failure with this stable code and this sentence.
    pub fn new(code: &'static str, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), ..Self::default() }
    }

    /// With what was probably meant by a word, or with all that there is; with `none` where there is nothing.
    pub fn suggest(self, word: &str, known: &[&str], none: &str) -> Self {
        match (known, nearest(word, known.iter().copied(), 2).as_slice()) {
            ([], _) => self.advice(none),
            (known, []) => self.advice(format!("there are {}", known.join(", "))),
            (_, near) => self.advice(either(near)),
        }
    }

    /// Ways out, each tried.
    pub fn ways(&self) -> &[Way] {
        self.unsolved.as_ref().map_or(&[], |unsolved| &unsolved.ways)
    }

    /// Why it failed, sentence by sentence: a conflict's first.
    pub fn reasons(&self) -> Vec<String> {
        let unsolved = self.unsolved.iter();
        let sentences =
            unsolved.flat_map(|unsolved| conflict::as_lines(&unsolved.conflict, unsolved.in_full));
        sentences.chain(self.because.iter().cloned()).collect()
    }

    /// With what to do about it.
    pub fn advice(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }

    /// With further sentences that say why.
    pub fn because(mut self, because: impl IntoIterator<Item = String>) -> Self {
        self.because.extend(because);
        self
    }

    /// Faults in a text that people wrote; the first one gives the code.
    pub fn in_text(name: impl AsRef<Path>, text: &str, mut faults: Vec<Fault>) -> Self {
        let (code, message) =
            faults.first().map_or(("defect", String::new()), |f| (f.code, f.message.clone()));
        let more = faults.len().saturating_sub(MAX_SHOWN);
        faults.truncate(MAX_SHOWN);
        let name = name.as_ref().display().to_string();
        let source = Source { name, text: text.to_owned(), faults, more };
        Self { code, message, source: Some(Box::new(source)), ..Self::default() }
    }

    /// What a word of the command line means.
    pub fn read_word<T: FromStr<Err = Fault>>(word: &str) -> Result<T, Self> {
        word.parse().map_err(|fault| Self::in_words("the command line", word, fault))
    }

    /// A fault in words of the command line.
    pub fn in_words(what: &str, words: &str, fault: Fault) -> Self {
        Self::in_text(what, words, vec![fault])
    }
}

/// What to do about something that stands where only bibliotax's own things may be.
const MOVE_AWAY: &str = "move it away or delete it, then run the command again";

impl From<DiskError> for Failure {
    fn from(error: DiskError) -> Self {
        let message = error.to_string();
        let (code, why, advice) = match error.refusal() {
            Refusal::Full => (
                "disk.full",
                "the disk is full",
                "free some space there and run the command again; no file is incomplete",
            ),
            Refusal::ReadOnly => {
                ("disk.read-only", "the disk is read-only", "choose a folder that you can write to")
            }
            Refusal::Denied => ("disk.denied", "there is no permission", "check its owner and permissions"),
            Refusal::Foreign => ("disk.foreign", "", MOVE_AWAY),
            Refusal::Missing => ("disk.missing", "it doesn't exist", "check the path"),
            Refusal::NoText => {
                let advice = "repair the file, or move it away and run the command again";
                return Self::new("file.no-text", format!("{message}: {}", error.source)).advice(advice);
            }
            Refusal::Failed => ("disk.failed", "", "check the disk and run the command again"),
        };
        let why = if why.is_empty() { plain(&error.source) } else { why.to_owned() };
        Self::new(code, format!("{message}: {why}")).advice(advice)
    }
}

/// What the system said, without its number.
fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}

/// What to do about something published that changed.
pub fn accept_changed(package: &PackageName) -> String {
    format!(
        "nothing was changed; ask the registry's maintainers why; if the change is right, add `--accept-changed {package}`"
    )
}

/// The failure of a conflict with the ways out that were found.
pub fn conflict(conflict: Box<Conflict>, ways: Vec<Way>, in_full: bool) -> Failure {
    let advice = match (ways.as_slice(), conflict.is_minimal) {
        ([], true) => "change several of the needs above: no change of one or two of them is enough",
        ([], false) => "change the needs above: no single change was found that is enough",
        _ => "one of these; each was tried and works",
    };
    let failure = Failure::new("resolve.conflict", "no versions satisfy all requirements").advice(advice);
    Failure { unsolved: Some(Box::new(Unsolved { ways, conflict, in_full })), ..failure }
}
