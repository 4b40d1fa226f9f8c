//! The sides of a merge of locks: what each chose, and the manifests that it was made from.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use bibliotax_core::lock::{FILE_NAME as LOCK, Lock, LockFault, salvage};
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::merge::{LockSide, Versions, merge_manifests};

use super::git::CommittedFile;
use crate::failure::Failure;
use crate::git::WorkingCopy;

/// What can be read of the locks of all sides; nothing of one that there isn't. One of a newer version is no one's to change here.
pub fn lock_sides(texts: [Option<&str>; 3]) -> Result<[LockSide; 3], Failure> {
    let [base, ours, theirs] = texts.map(lock_side);
    Ok([base?, ours?, theirs?])
}

fn lock_side(text: Option<&str>) -> Result<LockSide, Failure> {
    let Some(text) = text else { return Ok(LockSide::default()) };
    match Lock::read(text) {
        Ok(lock) => Ok(LockSide::of(lock)),
        Err(LockFault { replaceable: true, .. }) => Ok(LockSide { lock: None, packages: salvage(text) }),
        Err(LockFault { fault, .. }) => Err(Failure::in_text(LOCK, text, vec![fault])),
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
pub fn merged_manifests(copy: &WorkingCopy, files: &LockFiles<'_>) -> Option<Manifests> {
    let [base, ours, theirs] = [files.base, files.ours, files.theirs].map(|file| copy.object_of(file));
    let (base, ours, theirs) = (base?, ours?, theirs?);
    let ours = copy.file_of("HEAD", &ours)?;
    let incoming: Vec<CommittedFile> =
        copy.incoming(&theirs).iter().filter_map(|commit| copy.file_of(commit, &theirs)).collect();
    // Of several commits with this lock, the one that is built on the lock before is the one that is merged.
    let based = incoming.iter().find_map(|theirs| {
        let mut bases = copy.bases("HEAD", &theirs.commit).into_iter();
        Some((manifests_beside(copy, &bases.find_map(|commit| copy.file_of(&commit, &base))?), theirs))
    });
    // Where branches took each other in, what was before is itself a merge, which no commit has.
    let (before, theirs) = match based {
        Some(based) => based,
        None => incoming.iter().find_map(|theirs| Some((merged_bases(copy, &ours, theirs)?, theirs)))?,
    };
    all_merged(&before, &manifests_beside(copy, &ours), &manifests_beside(copy, theirs))
}

/// Manifests by their folders from the workspace's.
type Manifests = BTreeMap<String, String>;

/// What several commits that two sides came from have together.
fn merged_bases(copy: &WorkingCopy, ours: &CommittedFile, theirs: &CommittedFile) -> Option<Manifests> {
    let bases = copy.common(&ours.commit, &theirs.commit);
    let (first, others) = bases.split_first().filter(|(_, others)| !others.is_empty())?;
    let at =
        |commit: &str| manifests_beside(copy, &CommittedFile { commit: commit.to_owned(), ..ours.clone() });
    let mut merged = at(first);
    for other in others {
        let before = copy.common(first, other).first().map(|commit| at(commit)).unwrap_or_default();
        merged = all_merged(&before, &merged, &at(other))?;
    }
    Some(merged)
}

/// All manifests merged; `None` where two contradict each other.
fn all_merged(before: &Manifests, ours: &Manifests, theirs: &Manifests) -> Option<Manifests> {
    let folders: BTreeSet<&String> = before.keys().chain(ours.keys()).chain(theirs.keys()).collect();
    let mut merged = Manifests::new();
    for folder in folders {
        if let Some(text) = merged_text(before.get(folder), ours.get(folder), theirs.get(folder))? {
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
fn manifests_beside(copy: &WorkingCopy, lock: &CommittedFile) -> Manifests {
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
