//! Safe work with files, for the registry, the store and the program.
//!
//! | module | what it has |
//! |---|---|
//! | [`error`] | what a disk refused, with the path |
//! | [`mod@write`] | files that are old or new after any crash, never something between |
//! | [`folder`] | folders held open, in which no link is followed |
//! | [`lock`] | one process at a time |
//! | [`read`] | texts, up to a size |
//! | [`remains`] | files that killed processes left behind |
//! | [`temporary`] | names of temporary files and folders, and the locks on them |
//! | [`stamp`] | when a file was last changed |
//! | [`tree`] | whole folders: removing and syncing them |

pub mod error;
pub mod folder;
pub mod lock;
pub mod read;
pub mod remains;
pub mod stamp;
pub mod temporary;
pub mod tree;
pub mod write;

/// Whether this process has the rights of the system's administrator, who may write to files that are read-only.
pub fn is_administrator() -> bool {
    #[cfg(unix)]
    return rustix::process::geteuid().is_root();
    #[cfg(not(unix))]
    false
}

pub use error::{DiskError, Refusal, Result};
