//! The received part of large archives, in `partial/<sha256>`, so that another run continues the download.
//!
//! The bytes are checked with all others at the end, so what is here needn't be durable or right: where it is not, it goes.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::PathBuf;
use std::time::Duration;

use bibliotax_core::card::Archive;
use bibliotax_disk::folder::Folder;
use bibliotax_disk::remains::{Remains, left_in};
use bibliotax_disk::write::open_to_change;

use crate::store::Store;

/// Smaller archives are fetched again, in bytes: they cost less than keeping them twice.
const MIN_SIZE: u64 = 4 << 20;

/// After this time nobody goes on with one any more.
const EXPIRY: Duration = Duration::from_hours(7 * 24);

/// The folder's name in the store.
const PARTIAL: &str = "partial";

/// What came of an archive, held by this process.
pub struct Partial {
    path: PathBuf,
    file: File,
    there: u64,
}

impl Store {
    /// What came of an archive before; nothing where it is small, another process holds it, or it can't be kept.
    pub(crate) fn partial(&self, archive: &Archive) -> Option<Partial> {
        if archive.size < MIN_SIZE {
            return None;
        }
        let folder = self.root().join(PARTIAL);
        // What others may have put in its place is not followed.
        Folder::make(&folder).ok()?;
        let path = folder.join(archive.sha256.to_string());
        let is_file = |metadata: fs::Metadata| metadata.is_file();
        if !fs::symlink_metadata(&path).map_or(true, is_file) {
            return None;
        }
        let file = open_to_change(&path).ok()?;
        file.try_lock().ok()?;
        let there = file.metadata().ok()?.len();
        let mut partial = Partial { path, file, there };
        if there >= archive.size {
            // All of it, and yet no tree: it can't have been right.
            partial.clear();
        }
        Some(partial)
    }

    /// What came of archives that nobody holds now.
    pub(crate) fn partials(&self) -> Vec<Remains> {
        left_in(&self.root().join(PARTIAL), |_| true)
    }

    /// What came of archives so long ago that nobody goes on with them.
    pub(crate) fn old_partials(&self) -> Vec<Remains> {
        let is_old = |remains: &Remains| {
            let changed = fs::metadata(&remains.path).and_then(|metadata| metadata.modified());
            changed.is_ok_and(|changed| changed.elapsed().is_ok_and(|age| age > EXPIRY))
        };
        let mut partials = self.partials();
        partials.retain(is_old);
        partials
    }
}

impl Partial {
    /// How many bytes there are.
    pub fn there(&self) -> u64 {
        self.there
    }

    /// Forgets what came: it was wrong.
    pub fn clear(&mut self) {
        self.there = 0;
        // What stays is found wrong again.
        let _ = self.file.set_len(0);
    }

    /// Forgets what came: all of it is in the store.
    pub fn remove(self) {
        let _ = fs::remove_file(&self.path);
    }

    /// What is here, and then the rest, which is kept as it comes.
    pub fn followed_by<'p>(&'p mut self, rest: Box<dyn Read + Send>) -> Box<dyn Read + Send + 'p> {
        let is_kept = self.file.seek(SeekFrom::Start(0)).is_ok();
        let before = self.there;
        Box::new(Going { partial: self, before, rest, is_kept })
    }
}

/// Reads what came before, and keeps what comes now behind it, as far as the disk lets it.
struct Going<'p> {
    partial: &'p mut Partial,
    /// How much of what came before is still to be read, in bytes.
    before: u64,
    rest: Box<dyn Read + Send>,
    is_kept: bool,
}

impl Read for Going<'_> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let Partial { file, there, .. } = &mut *self.partial;
        if self.before > 0 && !buffer.is_empty() {
            let read = file.take(self.before).read(buffer)?;
            self.before -= read as u64;
            return if read > 0 { Ok(read) } else { Err(io::ErrorKind::UnexpectedEof.into()) };
        }
        let read = self.rest.read(buffer)?;
        if self.is_kept {
            // Where the disk refuses, what is kept ends here, and it is still a beginning.
            self.is_kept = file.write_all(&buffer[..read]).is_ok();
            *there += if self.is_kept { read as u64 } else { 0 };
        }
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use bibliotax_core::card::ArchiveFormat;
    use bibliotax_core::digest::Digest;

    use super::*;

    fn archive(size: u64) -> Archive {
        Archive {
            sha256: Digest::of(b"moss"),
            size,
            format: ArchiveFormat::Tar,
            strip: None,
            selection: Default::default(),
            url: None,
        }
    }

    /// Bytes, and then a broken connection.
    struct Breaking(&'static [u8]);

    impl Read for Breaking {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            match self.0.read(buffer)? {
                0 => Err(io::ErrorKind::ConnectionReset.into()),
                read => Ok(read),
            }
        }
    }

    #[test]
    fn what_came_before_a_break_is_read_again_before_the_rest() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        let archive = archive(MIN_SIZE);
        let mut partial = store.partial(&archive).unwrap();
        assert!(store.partial(&archive).is_none(), "another process holds it");
        let mut text = Vec::new();
        partial.followed_by(Box::new(Breaking(b"moss grows "))).read_to_end(&mut text).unwrap_err();
        drop(partial);
        let mut partial = store.partial(&archive).unwrap();
        assert_eq!(partial.there(), 11);
        let mut text = String::new();
        partial.followed_by(Box::new(&b"in shade"[..])).read_to_string(&mut text).unwrap();
        assert_eq!(text, "moss grows in shade");
        assert_eq!(partial.there(), 19);
        partial.remove();
        assert_eq!(store.partial(&archive).unwrap().there(), 0);
    }

    #[test]
    fn small_archives_are_not_kept_and_whole_ones_that_made_no_tree_begin_again() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(folder.path()).unwrap();
        assert!(store.partial(&archive(MIN_SIZE - 1)).is_none());
        let archive = archive(MIN_SIZE);
        let path = folder.path().join(PARTIAL).join(archive.sha256.to_string());
        drop(store.partial(&archive).unwrap());
        fs::write(&path, vec![7; MIN_SIZE as usize]).unwrap();
        assert_eq!(store.partial(&archive).unwrap().there(), 0);
        assert_eq!(fs::metadata(path).unwrap().len(), 0);
    }
}
