//! A file that is written to a registry: hashed while it is written, stored under its digest at the end.

use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;

use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_disk::error::At;
use bibliotax_disk::temporary::hold;
use bibliotax_disk::write::make_folder;
use tempfile::NamedTempFile;

use crate::model::error::RegistryError;

/// How the name of a file on its way begins.
pub(crate) const STAGED: &str = ".staged-";

/// How the name of a folder begins into which an archive is unpacked to be looked at.
pub const INSPECTED_PREFIX: &str = ".look-";

/// A file on its way into a registry.
pub struct Staged {
    file: NamedTempFile,
    hasher: Hasher,
    size: u64,
}

impl Staged {
    /// An empty one, in this folder for now.
    pub fn in_folder(folder: &Path) -> Result<Self, RegistryError> {
        make_folder(folder)?;
        let made = tempfile::Builder::new().prefix(STAGED).tempfile_in(folder);
        let file = made.at("write in", folder)?;
        hold(file.as_file());
        Ok(Self { file, hasher: Hasher::default(), size: 0 })
    }

    /// One with these bytes.
    pub fn of_bytes(folder: &Path, bytes: &[u8]) -> Result<Self, RegistryError> {
        let mut staged = Self::in_folder(folder)?;
        staged.write_all(bytes).at("write in", folder)?;
        Ok(staged)
    }

    /// The digest of what was written so far.
    pub fn digest(&self) -> Digest {
        self.hasher.clone().finish()
    }

    /// How much was written so far, in bytes.
    pub fn size(&self) -> u64 {
        self.size
    }

    /// Where it is for now.
    pub fn path(&self) -> &Path {
        self.file.path()
    }

    /// The file itself.
    pub fn into_file(self) -> NamedTempFile {
        self.file
    }

    /// What was written, to be read from its beginning.
    pub fn reader(&mut self) -> io::Result<impl Read + '_> {
        self.file.seek(SeekFrom::Start(0))?;
        Ok(&mut self.file)
    }
}

impl Write for Staged {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        self.size += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}
