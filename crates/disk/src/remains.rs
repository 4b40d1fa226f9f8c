//! Temporary files and folders that killed processes left behind.
//!
//! The process that makes one holds it, by a lock that ends with the process. What is not held and not quite new was left behind.

use std::fs::{self, File, Metadata, TryLockError};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use crate::error::Result;
use crate::tree::remove;

/// From when on nobody is still about to hold what he just made.
const NEW: Duration = Duration::from_secs(60);

/// From when on what can't be held at all (folders, on some systems) was left behind.
const OLD: Duration = Duration::from_hours(24);

/// Something that was left behind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remains {
    /// Where it is.
    pub path: PathBuf,
    /// Its bytes, with all that is in it.
    pub bytes: u64,
}

/// The entries of a folder with such names that were left behind.
pub fn left_in(folder: &Path, is_temporary: impl Fn(&str) -> bool) -> Vec<Remains> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let named = entries.filter(|entry| entry.file_name().to_str().is_some_and(&is_temporary));
    let left = named.filter_map(|entry| {
        let (path, metadata) = (entry.path(), entry.metadata().ok()?);
        (!metadata.is_symlink() && was_left(&path, &metadata))
            .then(|| Remains { bytes: bytes_of(&path), path })
    });
    left.collect()
}

/// The same of a folder and all those below it.
pub fn left_below(folder: &Path, is_temporary: &dyn Fn(&str) -> bool) -> Vec<Remains> {
    let mut left = left_in(folder, is_temporary);
    let is_left = |path: &Path| left.iter().any(|remains| remains.path == path);
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let folders = entries.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()));
    let folders: Vec<PathBuf> = folders.map(|entry| entry.path()).filter(|path| !is_left(path)).collect();
    left.extend(folders.iter().flat_map(|folder| left_below(folder, is_temporary)));
    left
}

/// Removes what was left behind.
pub fn clear(remains: &[Remains]) -> Result<()> {
    remains.iter().try_for_each(|remains| remove(&remains.path))
}

/// The bytes of a file, or of all files below a folder.
pub fn bytes_of(path: &Path) -> u64 {
    match fs::symlink_metadata(path) {
        Ok(metadata) if metadata.is_dir() => {
            let entries = fs::read_dir(path).into_iter().flatten().flatten();
            entries.map(|entry| bytes_of(&entry.path())).sum()
        }
        Ok(metadata) => metadata.len(),
        Err(_) => 0,
    }
}

fn was_left(path: &Path, metadata: &Metadata) -> bool {
    let age = metadata.modified().ok().and_then(|then| SystemTime::now().duration_since(then).ok());
    let age = age.unwrap_or_default();
    match File::open(path).map(|opened| opened.try_lock()) {
        Ok(Ok(())) => age > NEW,
        Ok(Err(TryLockError::WouldBlock)) => false,
        Ok(Err(TryLockError::Error(_))) | Err(_) => age > OLD,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::temporary::hold;

    #[test]
    fn only_what_is_not_new_and_not_held_was_left_behind() {
        let root = tempfile::tempdir().unwrap();
        let inner = root.path().join("inner");
        fs::create_dir(&inner).unwrap();
        let is_temporary = |name: &str| name.starts_with(".staged-");
        let make = |path: &Path, age: Duration| {
            let file = File::create(path).unwrap();
            file.set_len(10).unwrap();
            file.set_modified(SystemTime::now() - age).unwrap();
            file
        };
        let hour = Duration::from_hours(1);
        make(&root.path().join(".staged-new"), Duration::ZERO);
        let held = make(&root.path().join(".staged-held"), hour);
        hold(&held);
        make(&root.path().join("other"), hour);
        make(&inner.join(".staged-old"), hour);
        assert_eq!(left_in(root.path(), is_temporary), []);
        let old = Remains { path: inner.join(".staged-old"), bytes: 10 };
        assert_eq!(left_below(root.path(), &is_temporary), std::slice::from_ref(&old));
        drop(held);
        let left = left_below(root.path(), &is_temporary);
        assert_eq!(left.len(), 2);
        clear(&left).unwrap();
        assert!(
            !old.path.exists()
                && root.path().join("other").exists()
                && root.path().join(".staged-new").exists()
        );
    }
}
