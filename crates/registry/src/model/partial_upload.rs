//! Files uploaded in pieces: an interrupted upload continues where it ended.

use std::io::{self, Read, Write};

use bibliotax_core::digest::Digest;
use bibliotax_disk::DiskError;

use crate::model::error::RegistryError;

/// Files up to this size aren't looked for in pieces before they are sent, in bytes: sending them again costs less.
pub const MAX_SINGLE_UPLOAD: u64 = 256 << 10;

/// Which bytes of a file come: from the first one to before the last one, of how many there are.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UploadPiece {
    /// The first byte.
    pub from: u64,
    /// The byte behind the last.
    pub to: u64,
    /// The bytes of the whole file.
    pub whole: u64,
}

impl UploadPiece {
    /// Whether the file ends with it.
    pub fn is_last(&self) -> bool {
        self.to == self.whole
    }

    /// Copies the piece's bytes. One more than were announced is noticed.
    pub(crate) fn copy(&self, source: &mut dyn Read, to: &mut dyn Write) -> Result<(), UploadProblem> {
        let announced = self.to - self.from;
        let copied = io::copy(&mut source.take(announced + 1), to).map_err(|_| UploadProblem::Broke)?;
        if copied != announced {
            return Err(UploadProblem::Length { came: copied, announced });
        }
        Ok(())
    }
}

/// Why an upload can't go on.
#[derive(Debug, thiserror::Error)]
pub enum UploadProblem {
    /// Somebody else is uploading the same file.
    #[error("another upload of this file is going on")]
    Busy,
    /// A piece doesn't begin where the last one ended.
    #[error("{there} bytes of the file are here, so the next piece has to begin there")]
    Gap {
        /** The bytes that are here. */
        there: u64,
    },
    /// The connection ended before the piece did.
    #[error("the file is incomplete; continue from `upload-offset`")]
    Broke,
    /// Fewer bytes came than were announced, or more.
    #[error("{came} bytes were received, but {announced} were announced")]
    Length {
        /** The bytes that came. */
        came: u64,
        /** The bytes that were to come. */
        announced: u64,
    },
    /// The bytes are not those of the digest.
    #[error("the bytes have the digest {found}, not the expected one")]
    WrongDigest {
        /** What they have. */
        found: Digest,
    },
    /// Keeping it failed.
    #[error(transparent)]
    Registry(#[from] RegistryError),
}

impl From<DiskError> for UploadProblem {
    fn from(error: DiskError) -> Self {
        Self::Registry(error.into())
    }
}
