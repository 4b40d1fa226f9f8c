//! Errors of the disk: with the path, and sorted by what a person can do about them.

use std::io;
use std::path::{Path, PathBuf};

/// The result of something done with a disk.
pub type Result<T> = std::result::Result<T, DiskError>;

/// An operation that failed.
#[derive(Debug, thiserror::Error)]
#[error("can't {action} {}", path.display())]
pub struct DiskError {
    /// What was tried, as a verb: `read`, `write`.
    pub action: &'static str,
    /// On which file or folder.
    pub path: PathBuf,
    /// What the system said.
    pub source: io::Error,
}

/// Why a disk refuses, by what helps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// No space is left, or a quota is used up.
    Full,
    /// The file system can't be written.
    ReadOnly,
    /// The person has no permission.
    Denied,
    /// It isn't there.
    Missing,
    /// Something stands there that isn't ours: a link, a file, somebody's folder.
    Foreign,
    /// It isn't the short text that is expected there.
    NoText,
    /// Anything else.
    Failed,
}

impl DiskError {
    /// The error of `action` on `path`.
    pub fn new(action: &'static str, path: impl AsRef<Path>, source: io::Error) -> Self {
        Self { action, path: path.as_ref().to_owned(), source }
    }

    /// Why the disk refused.
    pub fn refusal(&self) -> Refusal {
        if self.source.get_ref().and_then(|inner| inner.downcast_ref::<Foreign>()).is_some() {
            return Refusal::Foreign;
        }
        match self.source.kind() {
            io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => Refusal::Full,
            io::ErrorKind::ReadOnlyFilesystem => Refusal::ReadOnly,
            io::ErrorKind::PermissionDenied => Refusal::Denied,
            io::ErrorKind::InvalidData => Refusal::NoText,
            io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Refusal::Missing,
            _ => Refusal::Failed,
        }
    }
}

/// What stands where a folder of ours should be, or where something of ours is to go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Foreign {
    /// A link, which is never followed there.
    #[error("it is a link, and links are not followed there")]
    Link,
    /// A file or something else that is no folder.
    #[error("it is not a folder")]
    NoFolder,
    /// Something that bibliotax didn't make.
    #[error("bibliotax didn't create it")]
    NotOurs,
}

impl Foreign {
    /// The error of `action` on what stands there.
    pub fn at(self, action: &'static str, path: impl AsRef<Path>) -> DiskError {
        DiskError::new(action, path, io::Error::other(self))
    }
}

/// Puts the path to an `io::Result`.
pub trait At<T> {
    /// The same result, the error with what was tried and on which path.
    fn at(self, action: &'static str, path: impl AsRef<Path>) -> Result<T>;
}

impl<T> At<T> for io::Result<T> {
    fn at(self, action: &'static str, path: impl AsRef<Path>) -> Result<T> {
        self.map_err(|source| DiskError::new(action, path, source))
    }
}
