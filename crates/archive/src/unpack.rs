//! Unpacks an archive into a tree of files, with limits checked at every entry.
//!
//! The archive's bytes are hashed as they stream by, and nothing counts before their digest is the expected
//! one. An archive holds files, folders and links to its own files; a link becomes a copy of its file. What
//! leads out of the tree, could not exist on some system, or is larger than a package can reasonably be, is
//! refused by name.

mod directory;
mod headers;
mod limits;
mod source;
pub(crate) mod tar;
mod tree;
pub(crate) mod zip;

use std::io::Read;
use std::path::Path;

use bibliotax_core::card::{Archive, ArchiveFormat};

pub use self::source::Checked;
use self::tree::TreeWriter;
pub use self::tree::{Listing, TreeFile};
use crate::error::ArchiveError;

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
            return Err(error);
        }
        Ok(()) => source.finish()?,
    }
    tree.finish()
}

#[cfg(test)]
mod tests;
