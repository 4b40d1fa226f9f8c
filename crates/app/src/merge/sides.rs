//! The sides of a merge of locks: what each chose, and the manifests that it was made from.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use bibliotax_core::lock::{Lock, salvage};
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::merge::{LockSide, Versions, merge_manifests};

use super::git::{CommittedFile, WorkingCopy};

/// What can be read of a side's lock; nothing where it has none.
pub fn lock_side(text: Option<&str>) -> LockSide {
    let Some(text) = text else { return LockSide::default() };
    match Lock::read(text) {
        Ok(lock) => LockSide::of(lock),
        Err(_) => LockSide { lock: None, packages: salvage(text) },
    }
}

/// The files that a lock driver is given, and what git calls them.
pub struct LockFiles<'f> {
    /// The lock before.
    pub base: &'f Path,
    /// Ours.
    pub ours: &'f Path,
    /// Theirs.
    pub theirs: &'f Path,
}

/// The manifests of a workspace once two sides are merged, by their folders from the workspace's; `None` where it can't be found out
/// which commits are merged, or where the manifests contradict each other.
pub fn merged_manifests(copy: &WorkingCopy, files: &LockFiles<'_>) -> Option<BTreeMap<String, String>> {
    let [base, ours, theirs] = [files.base, files.ours, files.theirs].map(|file| copy.object_of(file));
    let (base, ours, theirs) = (base?, ours?, theirs?);
    let ours = copy.file_of("HEAD", &ours)?;
    let incoming = copy.incoming(&theirs);
    // Of several commits with this lock, the one that is built on the lock before is the one that is merged.
    let mut sides = incoming.iter().filter_map(|commit| {
        let theirs = copy.file_of(commit, &theirs)?;
        let mut bases = copy.bases("HEAD", commit).into_iter();
        Some((bases.find_map(|commit| copy.file_of(&commit, &base))?, theirs))
    });
    let (base, theirs) = sides.next()?;
    let [before, our, their] = [base, ours, theirs].map(|lock| manifests_beside(copy, &lock));
    let folders: BTreeSet<&String> = before.keys().chain(our.keys()).chain(their.keys()).collect();
    let mut merged = BTreeMap::new();
    for folder in folders {
        if let Some(text) = merged_text(before.get(folder), our.get(folder), their.get(folder))? {
            merged.insert(folder.clone(), text);
        }
    }
    Some(merged)
}

/// The text of a manifest on both sides merged, nothing where it is gone; `None` where the sides contradict each other.
fn merged_text(
    base: Option<&String>,
    ours: Option<&String>,
    theirs: Option<&String>,
) -> Option<Option<String>> {
    if ours == theirs || base == theirs {
        return Some(ours.cloned());
    }
    if base == ours {
        return Some(theirs.cloned());
    }
    let (Some(ours), Some(theirs)) = (ours, theirs) else { return None };
    let versions = Versions { base: base.map_or("", |base| base), ours, theirs };
    let merged = merge_manifests(versions, ["ours", "theirs"])?;
    merged.conflicts.is_empty().then_some(Some(merged.text))
}

/// The manifests of the workspace that a lock is of, by their folders from it.
fn manifests_beside(copy: &WorkingCopy, lock: &CommittedFile) -> BTreeMap<String, String> {
    let root = lock.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let below = copy.files_below(&lock.commit, root);
    let folder = |path: &String| match path.rsplit_once('/') {
        None if path == FILE_NAME => Some(String::new()),
        Some((folder, FILE_NAME)) => Some(folder.to_owned()),
        _ => None,
    };
    let within = |folder: &str| {
        [root, folder, FILE_NAME].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/")
    };
    let folders = below.iter().filter_map(folder);
    folders.filter_map(|folder| Some((folder.clone(), copy.text(&lock.commit, &within(&folder))?))).collect()
}
