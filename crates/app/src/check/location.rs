//! Where findings stand: the file, the line and the column.

use bibliotax_core::fault::line_and_column;
use bibliotax_core::lock::{self, LockedPackage};

use super::{Finding, Place};
use crate::workspace::{LockFile, WorkspaceFolder, file_name};

/// A place in a file of the workspace.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Location {
    /// The file, from the workspace's folder.
    pub file: String,
    /// Line and column, both from 1; none where it is about the whole file.
    pub at: Option<(usize, usize)>,
}

/// Finds where findings stand, in the texts of lock and manifests as they are.
pub(super) fn locate(findings: &mut [Finding], workspace: &WorkspaceFolder) {
    let lock = match &workspace.lock {
        LockFile::Sound { lock, .. } => Some((lock, lock.to_string())),
        LockFile::None | LockFile::Faulty { .. } => None,
    };
    for finding in findings {
        finding.location = match &finding.place {
            Place::Lock(package) => {
                let line = package.as_ref().zip(lock.as_ref()).and_then(|(package, (lock, text))| {
                    let line = lock.package(package).map(LockedPackage::as_line)?;
                    let at = text.find(&line)?;
                    Some(text[..at].matches('\n').count() + 1)
                });
                Location { file: lock::FILE_NAME.to_owned(), at: line.map(|line| (line, 1)) }
            }
            Place::Manifest(folder, span) => {
                let text = workspace.manifests.in_folder(folder).map_or("", |file| &file.text);
                let at = span.as_ref().map(|span| line_and_column(text, span.start));
                Location { file: file_name(folder), at }
            }
        };
    }
}
