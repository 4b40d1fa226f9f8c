//! An archive's bytes, checked against digest and size while they are read.

use std::io::{self, Read};

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Hasher;

use crate::error::ArchiveError;
use crate::format::HEAD_LEN;

/// Reads an archive and knows at the end whether its bytes were the expected ones.
pub struct Checked<'f, R> {
    inner: R,
    file: &'f Archive,
    hasher: Hasher,
    read: u64,
    /// The first bytes, which tell what it is.
    head: Vec<u8>,
}

impl<'f, R: Read> Checked<'f, R> {
    /// The bytes that `inner` gives, which are to be those of an archive.
    pub fn new(inner: R, file: &'f Archive) -> Self {
        Self { inner, file, hasher: Hasher::default(), read: 0, head: Vec::new() }
    }

    /// How many bytes are to come.
    pub fn expected_size(&self) -> u64 {
        self.file.size
    }

    /// The first bytes that were read.
    pub fn head(&self) -> &[u8] {
        &self.head
    }

    /// Reads what is left and tells whether all bytes were those of the file.
    pub fn finish(&mut self) -> Result<(), ArchiveError> {
        let drained = io::copy(self, &mut io::sink());
        drained.map_err(|error| ArchiveError::BrokeOff { what: what_broke(&error) })?;
        if self.read != self.file.size {
            return Err(ArchiveError::WrongSize { expected: self.file.size, found: self.read });
        }
        let found = self.hasher.clone().finish();
        if found != self.file.sha256 {
            return Err(ArchiveError::WrongDigest { expected: self.file.sha256, found });
        }
        Ok(())
    }
}

/// What ended an archive, in words.
fn what_broke(error: &io::Error) -> String {
    match (error.get_ref(), error.kind()) {
        (Some(inner), _) => inner.to_string(),
        (None, io::ErrorKind::UnexpectedEof) => "the connection ended early".to_owned(),
        (None, _) => error.to_string().split(" (os error").next().unwrap_or_default().to_lowercase(),
    }
}

impl<R: Read> Read for Checked<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        // One byte above the expected size is enough to know that it is wrong: an endless source ends here.
        let left = (self.file.size + 1).saturating_sub(self.read);
        let most = buffer.len().min(usize::try_from(left).unwrap_or(usize::MAX));
        let read = self.inner.read(&mut buffer[..most])?;
        let of_head = read.min(HEAD_LEN.saturating_sub(self.head.len()));
        self.head.extend_from_slice(&buffer[..of_head]);
        self.hasher.update(&buffer[..read]);
        self.read += read as u64;
        Ok(read)
    }
}
