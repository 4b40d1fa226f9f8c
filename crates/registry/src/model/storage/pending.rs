//! Uploads that no release has named yet: half files, and whole ones that wait for their release. They have an age and, all
//! together, a quota, so that nobody fills a registry with what is of no use.
//!
//! A whole file that was uploaded is marked until a release names it. The mark is taken off once the release is there, and a file
//! goes only where no release names it: where something is cut off, a mark stays, and nothing that somebody needs ever goes.

use std::collections::HashSet;
use std::time::{Duration, SystemTime};

use bibliotax_core::card::Card;
use bibliotax_core::digest::Digest;
use bibliotax_core::history::Release;

use crate::model::error::RegistryError;
use crate::model::storage::{ReadRegistryExt, RegistryStorage};

/// After this time without a new piece an upload is given up, and an uploaded file is no longer taken for a release.
pub(crate) const UPLOAD_EXPIRY: Duration = Duration::from_hours(24);

/// After this time an uploaded file goes: a release that was begun while it was still taken is there by then.
const UNRELEASED_EXPIRY: Duration = Duration::from_hours(48);

/// An upload that no release has named.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pending {
    /// The file.
    pub digest: Digest,
    /// How much of it is here, in bytes.
    pub bytes: u64,
    /// When the last of it came.
    pub since: SystemTime,
    /// Whether all of it is here.
    pub is_whole: bool,
}

/// How a file stands that somebody wants to upload, or to release.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FileStatus {
    /// Whether all of it is here.
    pub is_there: bool,
    /// Its upload, where it is here and no release has named it yet.
    pub mark: Option<Pending>,
    /// How many bytes of it came in pieces, where it is not here.
    pub came: u64,
}

impl FileStatus {
    /// Whether a release may name it: not a file whose upload was given up.
    pub fn may_be_released(&self) -> bool {
        self.is_there && self.mark.is_none_or(|pending| !pending.is_older_than(UPLOAD_EXPIRY))
    }
}

/// What was thrown away.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cleared {
    /// How many uploads that were given up.
    pub uploads: usize,
    /// How many temporary files and folders that nobody held.
    pub remains: usize,
}

impl Pending {
    fn is_older_than(&self, age: Duration) -> bool {
        SystemTime::now().duration_since(self.since).is_ok_and(|since| since > age)
    }
}

impl dyn RegistryStorage + '_ {
    /// Whether a file is here and may be named by a release: not one whose upload was given up.
    pub fn has_releasable_file(&self, digest: &Digest) -> Result<bool, RegistryError> {
        Ok(self.recent_file_status(digest)?.may_be_released())
    }

    /// Takes the marks off the files of a card that is a release now.
    pub(crate) fn mark_released(&self, card: &Card) -> Result<(), RegistryError> {
        for file in card.files.iter().filter(|file| !file.is_elsewhere()) {
            if let Some(pending) = self.unreleased_file(&file.sha256)? {
                self.discard_pending(&pending, false)?;
            }
        }
        Ok(())
    }

    /// Throws uploads away that were given up, and what processes that were killed left behind.
    pub fn clear_uploads(&self) -> Result<Cleared, RegistryError> {
        let remains = self.remains()?;
        bibliotax_disk::remains::clear(&remains)?;
        let is_over = |pending: &Pending| {
            pending.is_older_than(if pending.is_whole { UNRELEASED_EXPIRY } else { UPLOAD_EXPIRY })
        };
        let mut over = self.pending()?;
        over.retain(is_over);
        let named =
            if over.iter().any(|pending| pending.is_whole) { self.released_files()? } else { HashSet::new() };
        for pending in &over {
            self.discard_pending(pending, !named.contains(&pending.digest))?;
        }
        Ok(Cleared { uploads: over.len(), remains: remains.len() })
    }

    /// The files that releases name.
    fn released_files(&self) -> Result<HashSet<Digest>, RegistryError> {
        let mut named = HashSet::new();
        for package in self.names()? {
            let history = self.history(&package)?.unwrap_or_default();
            let entries = history.releases().iter().flat_map(Release::entries);
            named.extend(
                entries.flat_map(|entry| entry.files.iter().map(|file| file.sha256).chain([entry.card])),
            );
        }
        Ok(named)
    }
}
