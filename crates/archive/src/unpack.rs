//! Unpacks an archive into a tree of files, with limits checked at every entry.
//!
//! The archive's bytes are hashed as they stream by, and nothing counts before their digest is the expected
//! one. An archive holds files, folders and links to them; a link becomes a copy. All that leads out of the
//! tree, or could not exist on this system, is refused by name, unless it is left out; what could not exist on
//! other systems is listed. Files have the times of the archive, so that what upstream made from what still
//! counts as made.

mod directory;
mod headers;
mod source;
pub(crate) mod tar;
mod times;
mod tree;
pub(crate) mod zip;

use std::io::Read;
use std::path::Path;

use bibliotax_core::card::{Archive, ArchiveFormat};

pub use self::source::Checked;
use self::tree::TreeWriter;
pub use self::tree::{Listing, TreeFile, TreePath};
use crate::error::ArchiveError;
use crate::format::instead_of;

/// Unpacks an archive into `folder`, which is new and empty; what came out of it.
///
/// On failure the folder holds remains that are good for nothing.
pub fn unpack(archive: impl Read, file: &Archive, folder: &Path) -> Result<Listing, ArchiveError> {
    let mut source = Checked::new(archive, file);
    let mut tree = TreeWriter::new(folder, file);
    let unpacked = match file.format {
        ArchiveFormat::Zip => zip::unpack(&mut source, &mut tree),
        format => tar::unpack(&mut source, format, &mut tree),
    };
    match unpacked {
        Err(error @ ArchiveError::Disk(_)) => return Err(error),
        // Bytes that are wrong explain better than the reader can why an archive can't be read, or holds what it mustn't.
        Err(error) => {
            source.finish()?;
            return Err(told_apart(error, source.head()));
        }
        Ok(()) => source.finish()?,
    }
    tree.finish()
}

/// What is wrong with an archive that can't be read: that it is of another kind says more than that it is broken.
fn told_apart(error: ArchiveError, head: &[u8]) -> ArchiveError {
    match error {
        ArchiveError::Unreadable { format, message } => {
            let message = instead_of(format, head).map_or(message, |found| found);
            ArchiveError::Unreadable { format, message }
        }
        error => error,
    }
}

#[cfg(test)]
mod tests;
