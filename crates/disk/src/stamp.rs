//! When a file was last changed.

use std::fs::{File, Metadata};
use std::io;
use std::time::{Duration, SystemTime};

use serde::{Deserialize, Serialize};

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

    /// Gives a file this stamp, so that a copy is recognised by its original's stamp.
    pub fn put_on(self, file: &File) -> io::Result<()> {
        file.set_modified(SystemTime::UNIX_EPOCH + Duration::from_nanos(self.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn stamp_of(path: &std::path::Path) -> Stamp {
        Stamp::of(&std::fs::metadata(path).unwrap())
    }

    #[test]
    fn a_stamp_tells_a_change_and_can_be_given_to_a_copy() {
        let folder = tempfile::tempdir().unwrap();
        let (one, other) = (folder.path().join("one"), folder.path().join("other"));
        std::fs::write(&one, "a").unwrap();
        let stamp = stamp_of(&one);
        assert!(stamp.is_known());
        let file = File::create(&other).unwrap();
        Stamp(stamp.0 - 1_000_000_000).put_on(&file).unwrap();
        assert_ne!(stamp_of(&other), stamp);
        stamp.put_on(&file).unwrap();
        assert_eq!(stamp_of(&other), stamp);
    }
}
