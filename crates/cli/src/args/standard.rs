//! `-` as a file: standard input or standard output.

use std::io;
use std::path::{Path, PathBuf};

use bibliotax_app::failure::Failure;
use bibliotax_disk::error::At;
use tempfile::NamedTempFile;

/// What stands for standard input where a file is read, and for standard output where one is written.
pub const STANDARD: &str = "-";

/// Whether a file is standard input or output.
pub fn is_standard(file: &Path) -> bool {
    file == Path::new(STANDARD)
}

/// A file to read.
pub enum InputFile {
    /// A file with a name.
    Named(PathBuf),
    /// What standard input had, which goes with this.
    Standard(NamedTempFile),
}

impl InputFile {
    /// The file that is meant; what standard input has is stored in a temporary file first.
    pub fn of(file: &Path) -> Result<Self, Failure> {
        if !is_standard(file) {
            return Ok(Self::Named(file.to_owned()));
        }
        let mut stored = temporary_file()?;
        io::copy(&mut io::stdin().lock(), &mut stored).at("store", "standard input")?;
        Ok(Self::Standard(stored))
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        match self {
            Self::Named(path) => path,
            Self::Standard(file) => file.path(),
        }
    }

    /// Whether it is standard input.
    pub fn is_standard(&self) -> bool {
        matches!(self, Self::Standard(_))
    }
}

/// A file for what goes to or comes from a stream.
pub fn temporary_file() -> Result<NamedTempFile, Failure> {
    let folder = std::env::temp_dir();
    Ok(NamedTempFile::new_in(&folder).at("write in", &folder)?)
}
