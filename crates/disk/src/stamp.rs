//! When something on a disk was last changed.

use std::fs::{File, Metadata};
use std::io;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use serde::{Deserialize, Serialize};

use crate::error::{At, Result};

/// When a file's contents, or the names in a folder, were last changed: nanoseconds since 1970, and 0 where that can't be
/// told. Who changes something and sets the time back isn't noticed by it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Stamp(u64);

impl Stamp {
    /// The stamp in what a disk says of a file or folder.
    pub fn of(metadata: &Metadata) -> Self {
        metadata.modified().map_or_else(|_| Self::default(), Self::at)
    }

    /// The stamp of a time.
    pub fn at(time: SystemTime) -> Self {
        let since = time.duration_since(SystemTime::UNIX_EPOCH).ok();
        Self(since.and_then(|since| u64::try_from(since.as_nanos()).ok()).unwrap_or_default())
    }

    /// The stamp of a time in seconds since 1970, and nanoseconds.
    #[cfg(unix)]
    pub(crate) fn of_parts(seconds: i64, nanoseconds: i64) -> Self {
        let since = i128::from(seconds) * 1_000_000_000 + i128::from(nanoseconds);
        Self(u64::try_from(since).unwrap_or_default())
    }

    /// Whether a stamp tells anything.
    pub fn is_known(self) -> bool {
        self != Self::default()
    }

    /// Gives a file this stamp, so that a copy can be told by that of its original.
    pub fn put_on(self, file: &File) -> io::Result<()> {
        file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_nanos(self.0))
    }
}

/// A folder that is looked into again and again: the system finds its way there once.
#[derive(Debug)]
pub struct Opened {
    path: PathBuf,
    #[cfg(unix)]
    folder: File,
}

impl Opened {
    /// Opens a folder.
    pub fn open(path: &Path) -> Result<Self> {
        Ok(Self {
            path: path.to_owned(),
            #[cfg(unix)]
            folder: File::open(path).at("open", path)?,
        })
    }

    /// The stamp of a folder inside, or of a file where `is_file`; `None` where there is none, or a link to one.
    #[cfg(unix)]
    pub fn stamp(&self, inside: &str, is_file: bool) -> Result<Option<Stamp>> {
        use rustix::fs::{AtFlags, FileType, statat};
        let found = match statat(&self.folder, inside, AtFlags::SYMLINK_NOFOLLOW) {
            Err(rustix::io::Errno::NOENT | rustix::io::Errno::NOTDIR) => return Ok(None),
            found => found.map_err(io::Error::from).at("look at", self.path.join(inside))?,
        };
        let wanted = if is_file { FileType::RegularFile } else { FileType::Directory };
        // The fields are of other types on other systems.
        let since = i128::from(found.st_mtime) * 1_000_000_000 + i128::from(found.st_mtime_nsec);
        let stamp = u64::try_from(since).unwrap_or_default();
        Ok((FileType::from_raw_mode(found.st_mode) == wanted).then_some(Stamp(stamp)))
    }

    /// The stamp of a folder inside, or of a file where `is_file`; `None` where there is none, or a link to one.
    #[cfg(not(unix))]
    pub fn stamp(&self, inside: &str, is_file: bool) -> Result<Option<Stamp>> {
        let path = self.path.join(inside);
        if is_file { of_file(&path) } else { of_folder(&path) }
    }
}

/// The stamp of a folder; `None` where there is no folder, or a link to one.
pub fn of_folder(path: &Path) -> Result<Option<Stamp>> {
    look_at(path).map(|found| found.filter(Metadata::is_dir).as_ref().map(Stamp::of))
}

/// The stamp of a file; `None` where there is no file, or a link to one.
pub fn of_file(path: &Path) -> Result<Option<Stamp>> {
    look_at(path).map(|found| found.filter(Metadata::is_file).as_ref().map(Stamp::of))
}

/// What a disk says of a file, folder or link; `None` where there is nothing.
pub fn look_at(path: &Path) -> Result<Option<Metadata>> {
    match std::fs::symlink_metadata(path) {
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
            Ok(None)
        }
        found => found.at("look at", path).map(Some),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stamp_tells_a_change_and_can_be_given_to_a_copy() {
        let folder = tempfile::tempdir().unwrap();
        let (one, other) = (folder.path().join("one"), folder.path().join("other"));
        std::fs::write(&one, "a").unwrap();
        let stamp = of_file(&one).unwrap().unwrap();
        assert!(stamp.is_known());
        let file = File::create(&other).unwrap();
        Stamp(stamp.0 - 1_000_000_000).put_on(&file).unwrap();
        assert_ne!(of_file(&other).unwrap(), Some(stamp));
        stamp.put_on(&file).unwrap();
        assert_eq!(of_file(&other).unwrap(), Some(stamp));
        let opened = Opened::open(folder.path()).unwrap();
        std::fs::create_dir(folder.path().join("bed")).unwrap();
        assert_eq!(opened.stamp("one", true).unwrap(), Some(stamp));
        assert_eq!(opened.stamp("bed", false).unwrap(), of_folder(&folder.path().join("bed")).unwrap());
        assert_eq!((opened.stamp("one", false).unwrap(), opened.stamp("none", true).unwrap()), (None, None));
        assert_eq!((of_folder(&one).unwrap(), of_file(&folder.path().join("none")).unwrap()), (None, None));
    }
}
