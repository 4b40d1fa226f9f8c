//! Errors of the store, the shelf and archives as failures.

use bibliotax_archive::error::{ArchiveError, RefusedEntries, RefusedEntry};
use bibliotax_present::words::{self, capitalised, count, size};
use bibliotax_registry::RegistryError;
use bibliotax_store::StoreError;
use bibliotax_store::error::KitError;
use bibliotax_store::install::{InstallError, MissingArchive};

use super::Failure;

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Self {
        let message = error.to_string();
        match error {
            StoreError::Disk(error) => error.into(),
            StoreError::Lost { .. } => {
                Self::new("store.lost", message).advice("run the command again: it downloads what is missing")
            }
            StoreError::NotForMachine(missing) => {
                let there_are: Vec<String> = missing.there_are.iter().map(words::fits).collect();
                Self::new("install.not-for-machine", message)
                    .because([format!("Its files are for {}.", there_are.join(", or for "))])
                    .advice("declare the targets that the project runs on (`[targets.NAME]`), or drop the package")
            }
            StoreError::Foreign { .. } => Self::new("disk.foreign", message).advice(super::MOVE_AWAY),
            StoreError::TwoParts { .. } => Self::new("archive.two-parts", message)
                .advice("tell the package's authors (the shelf wasn't changed)"),
            StoreError::Newer { .. } => Self::new("store.newer", message)
                .advice("use that version, or another folder: BIBLIOTAX_STORE=DIR"),
            StoreError::Kit(error) => {
                let (code, advice) = of_kit(&error);
                Self::new(code, message).advice(advice)
            }
            StoreError::Unrenderable(_) => Self::new("links.path", message).advice(
                "leave the tool out of `for` under `[links]`, or ask the package's authors for another name",
            ),
            StoreError::Damaged { .. } => Self::new("store.damaged", message).advice(
                "`bibliotax store check --repair` downloads what is damaged again; the disk may be failing",
            ),
            StoreError::NoSuchWay { source, .. } => Self::new("shelf.link", message)
                .because([format!("The disk says: {source}.")])
                .advice("set `link = \"auto\"` under `[shelf]`"),
            StoreError::Template { name, text, fault } => Self::in_text(&name, &text, vec![*fault]),
            StoreError::Archive { source: ArchiveError::Disk(error), .. } => error.into(),
            StoreError::Archive { source, .. } => of_archive(message, &source),
        }
    }
}

fn of_kit(error: &KitError) -> (&'static str, &'static str) {
    match error {
        KitError::NoKit => ("kit.none", "check the path; `bibliotax kit make FILE` makes one"),
        KitError::Newer { .. } => ("kit.newer", "use the version of bibliotax that made it"),
        KitError::CutShort => ("kit.cut-short", "copy it again; the complete packages are in the store"),
        KitError::BadLock { .. }
        | KitError::Strange { .. }
        | KitError::WrongCard { .. }
        | KitError::TooMuch => ("kit.wrong", "don't use it; ask for a new kit"),
    }
}

/// The failure of an archive that can't be used.
pub fn of_archive(message: String, source: &ArchiveError) -> Failure {
    let (code, advice) = match source {
        ArchiveError::WrongDigest { .. } | ArchiveError::WrongSize { .. } => (
            "archive.wrong-bytes",
            "don't use it; tell the registry's maintainers that a published file changed (the shelf wasn't changed)",
        ),
        ArchiveError::BrokeOff { .. } => (
            "archive.broke-off",
            "run the command again; complete downloads are kept (the shelf wasn't changed)",
        ),
        ArchiveError::Refused(refused) => return of_refused(message, refused),
        ArchiveError::NoArchive { .. } => (
            "archive.none",
            "check the URL in a browser: it may lead to a page that asks for a sign-in, or to another kind of file",
        ),
        ArchiveError::NothingTaken => ("archive.nothing", "check the patterns of `include` and `exclude`"),
        ArchiveError::Unreadable { .. } => {
            ("archive.unreadable", "tell the package's authors (the shelf wasn't changed)")
        }
        _ => ("archive.refused", "don't use it; tell the package's authors (the shelf wasn't changed)"),
    };
    Failure::new(code, message).because([format!("{}.", capitalised(&source.to_string()))]).advice(advice)
}

/// Most refused entries that are listed.
const MAX_LISTED: usize = 12;

/// The failure of an archive with entries that can't be part of a package: which, why, and how to leave them out.
pub fn of_refused(message: String, refused: &RefusedEntries) -> Failure {
    let line = |entry: &RefusedEntry| format!("`{}`: {}", entry.path, entry.problem);
    let mut because: Vec<String> = refused.entries.iter().take(MAX_LISTED).map(line).collect();
    if refused.count() > MAX_LISTED {
        because.push(format!("and {} more", refused.count() - MAX_LISTED));
    }
    let patterns: Vec<String> =
        refused.patterns().iter().map(|pattern| toml_edit::Value::from(pattern).to_string()).collect();
    let advice = format!(
        "if the package works without them, leave them out in its need or card: `exclude = [{}]` (nothing was installed)",
        patterns.join(", ")
    );
    Failure::new("archive.refused", message).because(because).advice(advice)
}

/// A failure with all that is not here because of it.
fn lacks(failure: Failure, lacking: &[MissingArchive]) -> Failure {
    let bytes = lacking.iter().map(|archive| archive.size).sum();
    let head = format!("Not in the store yet: {} ({}).", count(lacking.len(), "archive"), size(bytes));
    let line = |archive: &MissingArchive| {
        format!("  {} {} ({})", archive.package, archive.version, size(archive.size))
    };
    let lines = [head].into_iter().chain(lacking.iter().map(line));
    Failure { because: failure.because.iter().cloned().chain(lines).collect(), ..failure }
}

impl From<InstallError<RegistryError>> for Failure {
    fn from(error: InstallError<RegistryError>) -> Self {
        match error {
            InstallError::Store(error) => error.into(),
            InstallError::Supply(error, lacking) => lacks(error.into(), &lacking),
        }
    }
}
