//! What a failure says: one shape for all, made from the errors of the libraries in one place.

use std::any::Any;
use std::path::Path;
use std::str::FromStr;

use bibliotax_core::fault::Fault;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Conflict, Unresolved};
use bibliotax_disk::{DiskError, Refusal};
use bibliotax_registry::RegistryError;
use bibliotax_store::StoreError;
use bibliotax_store::error::ArchiveError;
use bibliotax_store::install::InstallError;
use serde::Serialize;
use serde_json::Value;

use crate::show::proof;

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
    pub faults: Vec<Fault>,
}

impl Failure {
    pub fn new(code: &'static str, message: impl Into<String>) -> Self {
        Self { code, message: message.into(), ..Self::default() }
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
    pub fn in_text(name: impl AsRef<Path>, text: &str, faults: Vec<Fault>) -> Self {
        let (code, message) =
            faults.first().map_or(("defect", String::new()), |f| (f.code, f.message.clone()));
        let source = Source { name: name.as_ref().display().to_string(), text: text.to_owned(), faults };
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

/// The failure behind a panic: a defect of ours, whatever was asked.
pub fn defect(panic: &(dyn Any + Send)) -> Failure {
    let text = panic.downcast_ref::<String>().cloned();
    let text = text.or_else(|| panic.downcast_ref::<&str>().map(|text| (*text).to_owned()));
    Failure::new("defect", "this is a defect of bibliotax, not of your files")
        .because(text)
        .mend("please report it with the command and, if you can, the manifest; files on disk are whole")
}

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
            Refusal::Missing => ("disk.missing", "it isn't there", "check the path"),
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

impl From<RegistryError> for Failure {
    fn from(error: RegistryError) -> Self {
        use RegistryError as E;
        let message = error.to_string();
        let (code, mend) = match error {
            E::Disk(error) => return error.into(),
            E::BadLines { path, text, faults } => return Self::in_text(path, &text, faults),
            E::Missing { .. } => (
                "registry.missing",
                "check the path under `[registries]`; `bibliotax registry create DIR` makes a new one",
            ),
            E::NoRegistry { .. } => {
                ("registry.missing", "`bibliotax registry create DIR` makes one in a new folder")
            }
            E::BadDescription { .. } => {
                ("registry.broken", "restore the file; it is one line of JSON with `format` and `name`")
            }
            E::Newer { .. } => {
                ("registry.newer", "use the version of bibliotax that the registry's keepers use")
            }
            E::NotEmpty { .. } => ("registry.not-empty", "name a folder that is new or empty"),
            E::Scheme { .. } => ("registry.scheme", "name a folder, relative to the manifest"),
            E::BrokenHistory { .. } => (
                "registry.broken",
                "tell the registry's keepers; packages whose history is whole can still be had",
            ),
            E::Ambiguous { ref package, ref registries } => {
                let registry = registries.first().map_or("…", |name| name.as_str());
                let mend = format!(
                    "settle it: `bibliotax need {package} --registry {registry}`, or `owns = [\"{package}\"]` with one of the registries"
                );
                return Self::new("package.ambiguous", message).mend(mend);
            }
            E::Undeclared { .. } => {
                ("registry.undeclared", "declare it again under `[registries]`, or run `bibliotax resolve`")
            }
            E::NoFile { .. } => {
                ("registry.no-file", "tell the registry's keepers: an archive that was published is gone")
            }
            E::WrongCard { .. } => (
                "registry.wrong-card",
                "don't use it; tell the registry's keepers that a published card changed",
            ),
            E::Exists { .. } => {
                ("registry.exists", "a release never changes: raise `version` in the manifest")
            }
            E::FacetClash { .. } => ("facet.clash", "let one of them define it, or give yours another name"),
            E::Facet { .. } => {
                ("facet.value", "check the name and the value, or define the facet under `[facets]`")
            }
            E::NameTaken { .. } => ("registry.name-taken", "choose another name"),
            E::NoVersion { .. } => ("manifest.no-version", "write `version = \"0.1.0\"` under `[project]`"),
            E::Unpackable { .. } => {
                ("publish.path", "rename it, or name the wanted ones with `files = [\"…\"]` under `[card]`")
            }
            E::Link { .. } => (
                "publish.link",
                "put the file itself there, or leave it out with `files = [\"…\"]` under `[card]`",
            ),
            E::Clash { .. } => ("publish.clash", "rename one of them"),
            E::NoFiles { .. } => ("publish.nothing", "check `files` under `[card]`"),
            E::BadPattern { .. } => ("card.no-pattern", "a pattern is like `include/**` or `src/*.c`"),
            E::ExposesNothing { .. } => ("card.exposes-nothing", "check the path and `files` under `[card]`"),
        };
        Self::new(code, message).mend(mend)
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        let message = error.to_string();
        match error {
            StoreError::Disk(error) => error.into(),
            StoreError::Lost { .. } => {
                Self::new("store.lost", message).mend("run the command again: it fetches what is missing")
            }
            StoreError::Newer { .. } => Self::new("store.newer", message)
                .mend("use that version, or another folder: BIBLIOTAX_STORE=DIR"),
            StoreError::Archive { source: ArchiveError::Disk(error), .. } => error.into(),
            StoreError::Archive { source, .. } => {
                let (code, mend) = match &source {
                    ArchiveError::WrongDigest { .. } | ArchiveError::WrongSize { .. } => (
                        "archive.wrong-bytes",
                        "don't use it; tell the registry's keepers that a published file changed; the shelf is as it was",
                    ),
                    ArchiveError::Unreadable { .. } => {
                        ("archive.unreadable", "tell the package's authors; the shelf is as it was")
                    }
                    _ => (
                        "archive.refused",
                        "don't use it; tell the package's authors; the shelf is as it was",
                    ),
                };
                Self::new(code, message).because([format!("{}.", capital(&source.to_string()))]).mend(mend)
            }
        }
    }
}

/// A sentence begins with a capital letter.
fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |first| first.to_uppercase().chain(chars).collect())
}

impl From<InstallError<RegistryError>> for Failure {
    fn from(error: InstallError<RegistryError>) -> Self {
        match error {
            InstallError::Store(error) => error.into(),
            InstallError::Supply(error) => error.into(),
        }
    }
}

/// The conflict that a problem ended in; the failure where it ended without an answer.
pub fn conflict_of(unresolved: Unresolved<RegistryError>) -> Result<Box<Conflict>, Failure> {
    match unresolved {
        Unresolved::Conflict(conflict) => Ok(conflict),
        Unresolved::Catalogue(error) => Err(error.into()),
        Unresolved::GaveUp(struggled) => Err(gave_up(&struggled)),
    }
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
