//! What a registry's files are kept in: a folder, a bucket, or a copy in front of another registry, which can only be read.
//!
//! Each trait is what some of them can do; callers don't know which of them they have. What it promises holds also
//! while others work, in other threads,
//! processes and machines: a history only grows, no event is lost, and a file is there whole or not at all.

pub mod pending;

use std::collections::BTreeMap;
use std::io::Read;
use std::ops::Range;
use std::path::PathBuf;
use std::time::SystemTime;

use bibliotax_core::card::Event;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::history::History;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::range::Range as Versions;
use bibliotax_disk::remains::Remains;
use jiff::Timestamp;

use self::pending::{FileStatus, Pending};
use crate::model::description::{Description, FORMAT};
use crate::model::error::RegistryError;
use crate::model::names::{Named, named, read_names};
use crate::model::partial_upload::{UploadPiece, UploadProblem};
use crate::model::staging::Staged;

/// Largest card that is read, in bytes.
pub(crate) const MAX_CARD_SIZE: u64 = 16 << 20;

/// What events a history gets, decided by what it holds.
pub type Decide<'d> = dyn FnMut(&History) -> Result<Vec<Event>, RegistryError> + 'd;

/// What tells whether a history changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stamp {
    /// A file's length and time.
    File(u64, Option<SystemTime>),
    /// A validator.
    Tag(String),
}

/// A package's history, checked against what was known of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Since {
    /// The registry doesn't hold the name.
    Missing,
    /// It is as it was.
    Same,
    /// It is this text, with this stamp.
    New(Stamp, String),
}

/// What a server keeps for itself, line by line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Private {
    /// Who may publish.
    Tokens,
    /// What was done.
    Log,
}

/// A registry that can be read: its histories, files and names.
pub trait ReadRegistry: Send + Sync {
    /// The name that the registry gives itself.
    fn name(&self) -> &str;

    /// The facets that the registry defines.
    fn facets(&self) -> &BTreeMap<FacetName, Facet>;

    /// Where it is, for messages.
    fn place(&self) -> PathBuf;

    /// Whether it can be read now.
    fn check(&self) -> Result<(), RegistryError>;

    /// Whether looking at a stamp waits for nothing but this machine's own memory or disk.
    fn is_on_this_machine(&self) -> bool;

    /// A folder of this machine for files on their way, and for what can be made again.
    fn scratch(&self) -> Result<PathBuf, RegistryError>;

    /// What tells whether a package's history changed; `None` if the registry doesn't hold the name.
    fn history_stamp(&self, package: &PackageName) -> Result<Option<Stamp>, RegistryError>;

    /// The whole lines of a package's history; `None` if the registry doesn't hold the name.
    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError>;

    /// The text of a package's history as it is now, unless it is as it was when it had this stamp.
    fn history_since(&self, package: &PackageName, known: Option<&Stamp>) -> Result<Since, RegistryError> {
        let Some(stamp) = self.history_stamp(package)? else { return Ok(Since::Missing) };
        if known == Some(&stamp) {
            return Ok(Since::Same);
        }
        let text = self.history_text(package)?;
        Ok(text.map_or(Since::Missing, |text| Since::New(stamp, text)))
    }

    /// A package's history as it was a moment ago, or is now: for what is decided again with [`WriteRegistry::append`].
    fn recent_history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        let Some(text) = self.history_text(package)? else { return Ok(None) };
        read_history(package, &text, None, || self.place()).map(Some)
    }

    /// Is told that the histories of all that these needs reach will be asked for.
    fn prefetch_closure(&self, _: &[(PackageName, Versions)]) {}

    /// The length of an archive or card in bytes; `None` if it is not there.
    fn file_size(&self, digest: &Digest) -> Result<Option<u64>, RegistryError>;

    /// Reads these bytes of an archive or card.
    fn read_file(&self, digest: &Digest, bytes: Range<u64>) -> Result<Box<dyn Read + Send>, RegistryError>;

    /// Opens an archive or card.
    fn open_file(&self, digest: &Digest) -> Result<Box<dyn Read + Send>, RegistryError> {
        let missing = || RegistryError::NoFile { digest: *digest, path: self.place() };
        let size = self.file_size(digest)?.ok_or_else(missing)?;
        self.read_file(digest, 0..size)
    }

    /// The names of all packages, in no order; for suggestions and audits.
    fn names(&self) -> Result<Vec<PackageName>, RegistryError>;

    /// A file of this machine with the list of names as it is now; it only ever grows, or starts over.
    fn name_list_file(&self) -> Result<PathBuf, RegistryError>;
}

/// A registry that can be written: files and events are added, and nothing that is there changes.
pub trait WriteRegistry: ReadRegistry {
    /// Defines these facets from the next opening on, in place of those before.
    fn set_facets(&self, facets: &BTreeMap<FacetName, Facet>) -> Result<(), RegistryError>;

    /// All archives and cards with their sizes, by digest.
    fn files(&self) -> Result<Vec<(Digest, u64)>, RegistryError>;

    /// Appends the events that `decide` makes of a package's history as it stands; how many they were. Where others change it
    /// meanwhile, it is decided again.
    ///
    /// What the events name has to be durable before, so that no event names a file that a crash can lose.
    fn append(&self, package: &PackageName, decide: &mut Decide<'_>) -> Result<usize, RegistryError>;

    /// Appends lines to a package's history that is `before` and nothing else.
    ///
    /// What they name has to be durable before.
    fn append_text(&self, package: &PackageName, before: &str, lines: &str) -> Result<(), RegistryError>;

    /// Notes in the list of names how these packages stand now.
    fn update_name_list(&self, packages: &[PackageName]) -> Result<(), RegistryError>;

    /// Sees that changes by several at once are kept apart here, before anything is changed; how, where that differs from store to
    /// store.
    fn check_changes(&self) -> Result<Option<&'static str>, RegistryError> {
        Ok(None)
    }

    /// Makes the list of names say how all packages stand; how many there are.
    fn rebuild_name_list(&self) -> Result<usize, RegistryError>;

    /// Keeps a staged file, durably; its digest and size.
    fn keep(&self, staged: Staged) -> Result<(Digest, u64), RegistryError>;

    /// Keeps a staged file; its digest and size. It is durable only after [`WriteRegistry::sync`].
    fn keep_unsynced(&self, staged: Staged) -> Result<(Digest, u64), RegistryError> {
        self.keep(staged)
    }

    /// Makes durable all files that were kept for now.
    fn sync(&self) -> Result<(), RegistryError> {
        Ok(())
    }
}

/// Uploads to a registry: files that come in pieces, and whole ones that no release has named yet.
pub trait UploadStorage: ReadRegistry {
    /// How many bytes of a file have come in pieces; none where no upload was begun.
    fn uploaded(&self, digest: &Digest) -> Result<u64, RegistryError>;

    /// Takes a piece of a file in; after the last one the file is kept. What comes before the source breaks off is kept, too.
    fn receive(
        &self,
        digest: &Digest,
        piece: UploadPiece,
        source: &mut dyn Read,
    ) -> Result<(), UploadProblem>;

    /// Uploads that no release has named yet.
    fn pending(&self) -> Result<Vec<Pending>, RegistryError>;

    /// The whole file of an upload, where no release has named it yet.
    fn unreleased_file(&self, digest: &Digest) -> Result<Option<Pending>, RegistryError>;

    /// Notes of a file of this size that no release has named it yet.
    fn mark(&self, digest: &Digest, size: u64) -> Result<(), RegistryError>;

    /// How a file stands that somebody wants to upload, of this length where that is known.
    fn file_status(&self, digest: &Digest, _length: Option<u64>) -> Result<FileStatus, RegistryError> {
        let is_there = self.file_size(digest)?.is_some();
        let mark = if is_there { self.unreleased_file(digest)? } else { None };
        Ok(FileStatus { is_there, mark, came: if is_there { 0 } else { self.uploaded(digest)? } })
    }

    /// The same as it was a moment ago, or is now.
    fn recent_file_status(&self, digest: &Digest) -> Result<FileStatus, RegistryError> {
        self.file_status(digest, None)
    }

    /// How many bytes wait for their release, or did a moment ago.
    fn pending_bytes(&self) -> Result<u64, RegistryError> {
        Ok(self.pending()?.iter().map(|pending| pending.bytes).sum())
    }

    /// Forgets an upload: of half a file the half, of a whole one that it was an upload and, where that is asked, the file.
    fn discard_pending(&self, pending: &Pending, with_file: bool) -> Result<(), RegistryError>;

    /// What processes that were killed left behind on this machine.
    fn remains(&self) -> Result<Vec<Remains>, RegistryError> {
        Ok(Vec::new())
    }
}

/// What a server keeps for itself beside a registry, line by line.
pub trait ServerState: Send + Sync {
    /// The whole lines of what a server keeps for itself.
    fn read_private(&self, what: Private) -> Result<String, RegistryError>;

    /// Appends a line to what a server keeps for itself.
    fn append_private(&self, what: Private, line: &str) -> Result<(), RegistryError>;
}

/// All that a registry's files are kept in can do: a folder, or a bucket.
pub trait RegistryStorage: ReadRegistry + WriteRegistry + UploadStorage + ServerState {}

impl<S: ReadRegistry + WriteRegistry + UploadStorage + ServerState> RegistryStorage for S {}

/// What every registry that can be read can do with that.
pub trait ReadRegistryExt: ReadRegistry {
    /// The facets that everybody knows who uses this registry: those that it defines and those that are built in.
    fn all_facets(&self) -> Facets {
        with_built_in(self.facets())
    }

    /// The description, as a server gives it that has an interface for programs at `service`.
    fn served_description(&self, service: &str) -> String {
        let (name, facets) = (self.name().to_owned(), self.facets().clone());
        Description { format: FORMAT, name, facets, service: Some(service.to_owned()) }.to_string()
    }

    /// The history of a package; `None` if the registry doesn't hold the name.
    fn history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        let Some(text) = self.history_text(package)? else { return Ok(None) };
        read_history(package, &text, None, || self.place()).map(Some)
    }

    /// Whether there is a file with this digest.
    fn has_file(&self, digest: &Digest) -> Result<bool, RegistryError> {
        Ok(self.file_size(digest)?.is_some())
    }

    /// The text of a card; `None` if it is no text.
    fn card_text(&self, digest: &Digest) -> Result<Option<String>, RegistryError> {
        let mut text = String::new();
        let read = self.open_file(digest)?.take(MAX_CARD_SIZE).read_to_string(&mut text);
        Ok(read.is_ok().then_some(text))
    }

    /// What the list has to say of a package.
    fn named(&self, package: &PackageName, history: &History) -> Named {
        named(package, history, |digest| self.card_text(digest).ok().flatten())
    }

    /// What the list of names says.
    fn listed_names(&self) -> Result<BTreeMap<PackageName, Named>, RegistryError> {
        read_names(&self.name_list_file()?)
    }
}

impl<R: ReadRegistry + ?Sized> ReadRegistryExt for R {}

/// What every registry that can be written can do with that.
pub trait WriteRegistryExt: WriteRegistry {
    /// Begins a new file.
    fn stage(&self) -> Result<Staged, RegistryError> {
        Staged::in_folder(&self.scratch()?)
    }

    /// A new file with these bytes.
    fn stage_bytes(&self, bytes: &[u8]) -> Result<Staged, RegistryError> {
        Staged::of_bytes(&self.scratch()?, bytes)
    }

    /// The lines of the list of names about these packages, by their histories.
    fn name_lines(
        &self,
        packages: &[PackageName],
        history: impl Fn(&PackageName) -> Result<Option<History>, RegistryError>,
    ) -> Result<Vec<u8>, RegistryError> {
        let mut lines = Vec::new();
        for package in packages {
            let named = self.named(package, &history(package)?.unwrap_or_default());
            // Texts: nothing that could fail to be JSON.
            lines.extend(serde_json::to_vec(&named).unwrap_or_default());
            lines.push(b'\n');
        }
        Ok(lines)
    }

    /// Lets the list of names say how these packages stand, where it doesn't: for who finds done what somebody began and perhaps
    /// didn't end.
    fn complete_name_list(&self, packages: &[PackageName]) -> Result<(), RegistryError> {
        if packages.is_empty() {
            return Ok(());
        }
        let listed = self.listed_names()?;
        let mut missing = Vec::new();
        for name in packages {
            let history = self.history(name)?.unwrap_or_default();
            if listed.get(name) != Some(&self.named(name, &history)) {
                missing.push(name.clone());
            }
        }
        if missing.is_empty() { Ok(()) } else { self.update_name_list(&missing) }
    }

    /// Lets the list of names say how packages stand after work on them: of those that it changed, and where the list lacks
    /// something, of the others.
    fn update_name_list_after(&self, packages: Vec<(PackageName, bool)>) -> Result<(), RegistryError> {
        let (changed, same): (Vec<_>, Vec<_>) = packages.into_iter().partition(|(_, is_changed)| *is_changed);
        let names =
            |some: Vec<(PackageName, bool)>| some.into_iter().map(|(name, _)| name).collect::<Vec<_>>();
        if !changed.is_empty() {
            self.update_name_list(&names(changed))?;
        }
        self.complete_name_list(&names(same))
    }
}

impl<W: WriteRegistry + ?Sized> WriteRegistryExt for W {}

/// These facets beside those that are built in.
pub(crate) fn with_built_in(defined: &BTreeMap<FacetName, Facet>) -> Facets {
    let mut facets = Facets::default();
    for (name, facet) in defined {
        // What is built in stays as it is.
        let _ = facets.define(name, facet);
    }
    facets
}

/// The history of a package as it was at a time; `place` names where its text is from.
pub(crate) fn read_history(
    package: &PackageName,
    text: &str,
    until: Option<Timestamp>,
    place: impl FnOnce() -> PathBuf,
) -> Result<History, RegistryError> {
    History::read(package, text, until).map_err(|source| RegistryError::BrokenHistory {
        package: package.clone(),
        path: place(),
        source,
    })
}
