//! The sides of a merge of locks: what each chose, and the manifests that it was made from.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use bibliotax_core::lock::{FILE_NAME as LOCK, Lock, LockFault, salvage, salvage_charters};
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::merge::{LockSide, Versions, changed, merge_manifests};

use super::git::{CommittedFile, is_card};
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
        Err(LockFault { replaceable: true, .. }) => {
            Ok(LockSide { lock: None, packages: salvage(text), charters: salvage_charters(text) })
        }
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

/// The manifests and cards of a workspace once two sides are merged, by their paths from its folder; `None` where it can't be found out
/// which commits are merged, or where texts contradict each other.
pub fn merged_texts(copy: &WorkingCopy, files: &LockFiles<'_>) -> Option<Texts> {
    let [base, ours, theirs] = [files.base, files.ours, files.theirs].map(|file| copy.object_of(file));
    let (base, ours, theirs) = (base?, ours?, theirs?);
    let ours = copy.file_of("HEAD", &ours)?;
    let incoming: Vec<CommittedFile> =
        copy.incoming(&theirs).iter().filter_map(|commit| copy.file_of(commit, &theirs)).collect();
    // Of several commits with this lock, the one that is built on the lock before is the one that is merged.
    let based = incoming.iter().find_map(|theirs| {
        let mut bases = copy.bases("HEAD", &theirs.commit).into_iter();
        Some((texts_beside(copy, &bases.find_map(|commit| copy.file_of(&commit, &base))?), theirs))
    });
    // Where branches took each other in, what was before is itself a merge, which no commit has.
    let (before, theirs) = match based {
        Some(based) => based,
        None => incoming.iter().find_map(|theirs| Some((merged_bases(copy, &ours, theirs)?, theirs)))?,
    };
    all_merged(&before, &texts_beside(copy, &ours), &texts_beside(copy, theirs))
}

/// Manifests and cards by their paths from the workspace's folder.
pub type Texts = BTreeMap<String, String>;

/// What several commits that two sides came from have together.
fn merged_bases(copy: &WorkingCopy, ours: &CommittedFile, theirs: &CommittedFile) -> Option<Texts> {
    let bases = copy.common(&ours.commit, &theirs.commit);
    let (first, others) = bases.split_first().filter(|(_, others)| !others.is_empty())?;
    let at = |commit: &str| texts_beside(copy, &CommittedFile { commit: commit.to_owned(), ..ours.clone() });
    let mut merged = at(first);
    for other in others {
        let before = copy.common(first, other).first().map(|commit| at(commit)).unwrap_or_default();
        merged = all_merged(&before, &merged, &at(other))?;
    }
    Some(merged)
}

/// All texts merged; `None` where two contradict each other.
fn all_merged(before: &Texts, ours: &Texts, theirs: &Texts) -> Option<Texts> {
    let paths: BTreeSet<&String> = before.keys().chain(ours.keys()).chain(theirs.keys()).collect();
    let mut merged = Texts::new();
    for path in paths {
        if let Some(text) = merged_text(before.get(path), ours.get(path), theirs.get(path))? {
            merged.insert(path.clone(), text);
        }
    }
    Some(merged)
}

/// A text on both sides merged, nothing where it is gone; `None` where the sides contradict each other.
fn merged_text(
    base: Option<&String>,
    ours: Option<&String>,
    theirs: Option<&String>,
) -> Option<Option<String>> {
    if let Some(text) = changed(base, ours, theirs) {
        return Some(text.cloned());
    }
    let (Some(ours), Some(theirs)) = (ours, theirs) else { return None };
    let versions = Versions { base: base.map_or("", |base| base), ours, theirs };
    let merged = merge_manifests(versions, ["ours", "theirs"])?;
    merged.conflicts.is_empty().then_some(Some(merged.text))
}

/// The manifests and cards of the workspace that a lock is of, by their paths from it.
fn texts_beside(copy: &WorkingCopy, lock: &CommittedFile) -> Texts {
    let root = lock.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let below = copy.files_below(&lock.commit, root).into_iter();
    let within = |path: &str| if root.is_empty() { path.to_owned() } else { format!("{root}/{path}") };
    let texts = below.filter(|path| is_manifest(path) || is_card(path)).filter_map(|path| {
        let text = copy.text(&lock.commit, &within(&path))?;
        Some((path, text))
    });
    texts.collect()
}

/// Whether a file is a manifest.
pub fn is_manifest(path: &str) -> bool {
    path.rsplit('/').next() == Some(FILE_NAME)
}
