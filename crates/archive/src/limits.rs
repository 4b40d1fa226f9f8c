//! How much an archive may contain, as it is read, not as it claims.

use std::io::{self, Read};

/// Most entries of every kind: files, folders, links and headers.
pub const MAX_ENTRIES: usize = 1_000_000;

/// Most bytes of one header that stands as an entry of its own, such as a long name.
pub const MAX_HEADER: u64 = 64 << 10;

/// Most bytes of the directory of a ZIP archive, which is held in memory: enough for some 100,000 files.
pub const MAX_DIRECTORY: u64 = 12 << 20;

/// Most bytes that come out of an archive, headers included.
pub const MAX_BYTES: u64 = 16 << 30;

/// Up to this size nobody asks how well an archive was packed.
const HARMLESS_BYTES: u64 = 64 << 20;

/// Above it, one packed byte may hold at most so many.
const MAX_RATIO: u64 = 200;

/// That more came out of an archive than any package holds.
#[derive(Debug, thiserror::Error)]
#[error("it contains over {limit}")]
pub struct Exceeded {
    /// The limit, in words.
    pub limit: String,
}

/// Counts what comes out of an archive, and ends it where that is too much.
pub struct Counted<R> {
    inner: R,
    archive_size: u64,
    read: u64,
}

impl<R> Counted<R> {
    /// What comes out of an archive of this size.
    pub fn new(inner: R, archive_size: u64) -> Self {
        Self { inner, archive_size, read: 0 }
    }

    /// The same, after so many bytes that came out before.
    pub fn after(self, read: u64) -> Self {
        Self { read, ..self }
    }

    /// How many bytes came out.
    pub fn read_so_far(&self) -> u64 {
        self.read
    }

    fn check(&self) -> io::Result<()> {
        let limit = if self.read > MAX_BYTES {
            format!("{} GiB", MAX_BYTES >> 30)
        } else if self.read > HARMLESS_BYTES && self.read / self.archive_size.max(1) > MAX_RATIO {
            format!("{MAX_RATIO} times its own size")
        } else {
            return Ok(());
        };
        Err(io::Error::other(Exceeded { limit }))
    }
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.inner.read(buffer)?;
        self.read += read as u64;
        self.check()?;
        Ok(read)
    }
}

/// The limit that ended an archive, where it was one.
pub fn exceeded(error: &io::Error) -> Option<&Exceeded> {
    error.get_ref().and_then(|inner| inner.downcast_ref())
}
