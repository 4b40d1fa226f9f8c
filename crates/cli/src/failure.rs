//! What a failure says: one shape for all; `causes` and `stored` make it from the errors of the libraries.

mod causes;
mod sources;
pub mod stored;

use std::any::Any;
use std::panic::PanicHookInfo;
use std::path::Path;
use std::str::FromStr;
use std::sync::{Mutex, PoisonError};

use bibliotax_core::fault::{Fault, MOST_SHOWN};
use bibliotax_core::lock::{Change, ChangedRelease};
use bibliotax_core::name::{PackageName, RegistryName};
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::resolve::{Conflict, OpenCapability, Unresolved};
use bibliotax_disk::{DiskError, Refusal};
use bibliotax_present::conflict as proof;
use bibliotax_registry::RegistryError;
use serde::Serialize;
use serde_json::Value;

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
    pub mend: Option<String>,
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
    /// The proof, for programs.
    pub proof: Value,
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
    pub name: String,
    pub text: String,
    /// What is wrong in it: the first `MOST_SHOWN`.
    pub faults: Vec<Fault>,
    /// How many more faults there are.
    pub more: usize,
}

impl Failure {
    pub fn new(code: &'static str, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), ..Self::default() }
    }

    /// With what was probably meant by a word, or with all that there is; with `none` where there is nothing.
    pub fn suggest(self, word: &str, known: &[&str], none: &str) -> Self {
        match (known, nearest(word, known.iter().copied(), 2).as_slice()) {
            ([], _) => self.mend(none),
            (known, []) => self.mend(format!("there are {}", known.join(", "))),
            (_, near) => self.mend(format!("perhaps {} was meant", either(near))),
        }
    }

    /// Ways out, each tried.
    pub fn ways(&self) -> &[Way] {
        self.unsolved.as_ref().map_or(&[], |unsolved| &unsolved.ways)
    }

    pub fn mend(mut self, mend: impl Into<String>) -> Self {
        self.mend = Some(mend.into());
        self
    }

    pub fn because(mut self, because: impl IntoIterator<Item = String>) -> Self {
        self.because.extend(because);
        self
    }

    /// Faults in a text that people wrote; the first one gives the code.
    pub fn in_text(name: impl AsRef<Path>, text: &str, mut faults: Vec<Fault>) -> Self {
        let (code, message) =
            faults.first().map_or(("defect", String::new()), |f| (f.code, f.message.clone()));
        let more = faults.len().saturating_sub(MOST_SHOWN);
        faults.truncate(MOST_SHOWN);
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

/// Where the last panic was.
static PANICKED_AT: Mutex<Option<String>> = Mutex::new(None);

/// Notes where somebody panicked, for the report of the defect and for the log of a server.
pub fn note_panic(panic: &PanicHookInfo<'_>) {
    let place = panic.location().map(ToString::to_string).unwrap_or_default();
    tracing::error!(place, "panicked");
    *PANICKED_AT.lock().unwrap_or_else(PoisonError::into_inner) = Some(place);
}

/// The failure behind a panic: a defect of ours, whatever was asked.
pub fn defect(panic: &(dyn Any + Send)) -> Failure {
    let text = panic.downcast_ref::<String>().cloned();
    let text = text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_owned()));
    let place = PANICKED_AT.lock().unwrap_or_else(PoisonError::into_inner).take();
    Failure::new("defect", "this is a defect of bibliotax, not of your files")
        .because(text)
        .because(place.map(|place| format!("It is in {place}, of version {}.", env!("CARGO_PKG_VERSION"))))
        .mend("please report it with the command and, if you can, the manifest; files on disk are whole")
}

/// What to do about something that stands where only bibliotax's own things may be.
const MOVE_AWAY: &str = "move it away or delete it, then run the command again";

impl From<DiskError> for Failure {
    fn from(error: DiskError) -> Self {
        let message = error.to_string();
        let (code, why, mend) = match error.refusal() {
            Refusal::Full => (
                "disk.full",
                "the disk is full",
                "make room there and run the command again; nothing is half-written",
            ),
            Refusal::ReadOnly => {
                ("disk.read-only", "the disk can't be written", "choose a folder that can be written")
            }
            Refusal::Denied => {
                ("disk.denied", "there is no permission", "check who owns it, and its permissions")
            }
            Refusal::Foreign => ("disk.foreign", "", MOVE_AWAY),
            Refusal::Missing => ("disk.missing", "it isn't there", "check the path"),
            Refusal::NoText => {
                let mend = "it isn't what bibliotax wrote or wants there; mend it, or move it away and run the command again";
                return Self::new("file.no-text", format!("{message}: {}", error.source)).mend(mend);
            }
            Refusal::Failed => ("disk.failed", "", "check the disk and run the command again"),
        };
        let why = if why.is_empty() { plain(&error.source) } else { why.to_owned() };
        Self::new(code, format!("{message}: {why}")).mend(mend)
    }
}

/// What the system said, without its number.
fn plain(error: &std::io::Error) -> String {
    let text = error.to_string();
    text.split(" (os error").next().unwrap_or(&text).to_lowercase()
}

/// The conflict that a problem ended in; the failure where it ended without an answer.
pub fn conflict_of(unresolved: Unresolved<RegistryError>) -> Result<Box<Conflict>, Failure> {
    match unresolved {
        Unresolved::Conflict(conflict) => Ok(conflict),
        Unresolved::Catalogue(error) => Err(error.into()),
        Unresolved::GaveUp(struggled) => Err(gave_up(&struggled)),
        Unresolved::Open(open) => Err(open_capability(&open)),
    }
}

/// The failure of a locked release that its registry has otherwise now.
pub fn changed_release(changed: &ChangedRelease) -> Failure {
    let ChangedRelease { package, version, registry, what } = changed;
    let what = match what {
        Change::Gone => format!("{registry} doesn't have it any more"),
        Change::Card => format!("{registry} has another card for it"),
        Change::Archive => format!("{registry} has another archive for it"),
    };
    let message = format!("{package} {version} isn't the release that is locked: {what}");
    Failure::new("registry.changed-release", message).mend(accept_changed(package))
}

/// That nobody chose who is to provide a capability.
pub fn open_capability(open: &OpenCapability) -> Failure {
    let OpenCapability { name, providers, more, needed_in } = open;
    let told = |(provider, registry): &(PackageName, Option<RegistryName>)| match registry {
        Some(registry) => format!("{provider} of {registry}"),
        None => provider.to_string(),
    };
    let more = (*more > 0).then(|| format!("{more} more"));
    let providers = providers.iter().map(told).chain(more).collect::<Vec<_>>().join(" and ");
    let message = match needed_in {
        Some(registry) => format!("a package of {registry} needs {name}, and only {providers} provides it"),
        None => format!("{providers} provide {name}, and nothing says which is meant"),
    };
    let key = if name.as_str().contains('/') { format!("\"{name}\"") } else { name.to_string() };
    let mend = format!("say which is meant under `[capabilities]`: `{key} = \"PACKAGE\"`");
    Failure::new("package.ambiguous", message).mend(mend)
}

/// What to do about something published that changed.
pub fn accept_changed(package: &PackageName) -> String {
    format!(
        "nothing was changed; ask the registry's keepers why, and if it is right so, add `--accept-changed {package}`"
    )
}

/// The failure of a search that found no answer in the time that it had.
fn gave_up(struggled: &[PackageName]) -> Failure {
    let names: Vec<&str> = struggled.iter().map(PackageName::as_str).collect();
    let mend = "narrow the ranges of these or of what needs them, or give it longer: `bibliotax resolve --effort 300`; \
        nothing was changed";
    Failure::new(
        "resolve.gave-up",
        "no answer was found in the time there was, neither a set nor why there is none",
    )
    .because([format!("Tried most often were {}.", names.join(", "))])
    .mend(mend)
}

/// The failure of a conflict with the ways out that were found; told in full, or cut to its heart where it is long.
pub fn conflict(conflict: &Conflict, ways: Vec<Way>, full: bool) -> Failure {
    let mend = match (ways.as_slice(), conflict.is_minimal) {
        ([], true) => "no change of one or two needs helps; nothing was changed",
        ([], false) => "no single change was found that helps; nothing was changed",
        _ => "take one of the ways below; nothing was changed",
    };
    let failure = Failure::new("resolve.conflict", "no set of releases satisfies all needs");
    let failure = failure.because(proof::as_lines(conflict, full)).mend(mend);
    let unsolved = Unsolved { ways, proof: proof::as_json(conflict) };
    Failure { unsolved: Some(Box::new(unsolved)), ..failure }
}

#[cfg(test)]
mod tests {
    use std::panic;

    use super::*;

    #[test]
    fn a_defect_tells_its_place() {
        panic::set_hook(Box::new(note_panic));
        let caught = panic::catch_unwind(|| panic!("the moss is gone")).unwrap_err();
        let _ = panic::take_hook();
        let told = defect(caught.as_ref()).because.join(" ");
        assert!(told.contains("the moss is gone") && told.contains("src/failure.rs:"), "{told}");
    }
}
