//! Checks whether a file is what was unpacked.

use std::io;

use bibliotax_archive::unpack::TreeFile;
use bibliotax_disk::error::At;
use bibliotax_disk::folder::{Entry, Folder, Kind};

use crate::error::StoreError;

/// How closely files are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum FileCheck {
    #[default]
    /// Bytes are read only where size or time don't tell that nobody touched a file.
    SizeAndTime,
    /// Every byte is read.
    Bytes,
}

/// Whether a file is what was unpacked, looked at as deeply as it says.
pub(crate) fn is_same(
    folder: &Folder,
    name: &str,
    entry: &Entry,
    file: &TreeFile,
    depth: FileCheck,
) -> Result<bool, StoreError> {
    let has_mode = !cfg!(unix) || entry.is_executable == file.executable;
    if entry.kind != Kind::File || entry.size != file.size || !has_mode {
        return Ok(false);
    }
    let is_untouched = file.modified.is_known() && entry.modified == file.modified;
    if depth == FileCheck::SizeAndTime && is_untouched {
        return Ok(true);
    }
    let Some(mut opened) = folder.open_file(name)? else { return Ok(false) };
    let mut hasher = blake3::Hasher::new();
    io::copy(&mut opened, &mut hasher).at("read", folder.path().join(name))?;
    Ok(hasher.finalize() == file.blake3)
}
