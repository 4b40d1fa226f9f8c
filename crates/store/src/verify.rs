//! Compares every file of a shelf with what was installed: missing, changed, extra.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, LockedPackage, Scope, Slot};
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_disk::folder::{Folder, Kind};
use rayon::prelude::*;
use serde::Serialize;

use crate::error::StoreError;
pub use crate::file_check::FileCheck;
use crate::file_check::is_same;
use crate::shelf::{PackageCheck, Shelf};
use crate::store::Store;
use bibliotax_archive::unpack::TreeFile;

/// How a file differs from what was installed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Difference {
    /// It should be there.
    Missing,
    /// Its contents, its kind or whether it can be run.
    Changed,
    /// It should not be there.
    Extra,
    /// Unknown: the store has nothing to compare it with.
    Unknown,
}

/// A file that differs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Finding {
    /// The package; `None` for something on the shelf that belongs to none.
    pub package: Option<PackageName>,
    /// The target in whose folder it is, where there are targets.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The path inside the package, or on the shelf; empty for all of a package.
    pub path: String,
    /// How it differs.
    pub difference: Difference,
}

/// What verifying found.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Verified {
    /// How many packages were looked at.
    pub packages: usize,
    /// How many files were read.
    pub files: usize,
    /// What differs, sorted by package and path.
    pub findings: Vec<Finding>,
}

/// Compares every file of a shelf with what the lock's archives hold, as far as the store has them: what it lacks is unknown, or
/// missing where nothing is on the shelf either.
pub fn verify(
    lock: &Lock,
    scope: &Scope<'_>,
    shelf: &Shelf,
    store: &Store,
    depth: FileCheck,
    listener: &dyn ProgressListener,
) -> Result<Verified, StoreError> {
    let slots = lock.slots(scope).map_err(StoreError::NotForMachine)?;
    listener.on_event(&ProgressEvent::Verifying { packages: slots.len() });
    let verify_one = |slot: &Slot<'_>| {
        let verified = verify_slot(slot, shelf, store, depth)?;
        listener.on_event(&ProgressEvent::Verified { package: slot.package.name.clone() });
        Ok(verified)
    };
    let each = slots.par_iter().map(verify_one).collect::<Result<Vec<_>, StoreError>>()?;
    let mut all = Verified { packages: slots.len(), ..Verified::default() };
    for (files, findings) in each {
        all.files += files;
        all.findings.extend(findings);
    }
    // What another target has is in nobody's way.
    let whole = Scope { targets: &[], ..scope.with_all_projects() };
    let places = lock.slots(&whole).map_err(StoreError::NotForMachine)?;
    all.findings.extend(strays(lock, &places, shelf)?);
    all.findings.sort();
    Ok(all)
}

/// A copy in the store that is not what came.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Damaged {
    /// The package.
    pub package: PackageName,
    /// Its archive.
    pub archive: Digest,
    /// The folders of other projects that have it on their shelves.
    pub shared_by: Vec<PathBuf>,
}

/// The archives of these packages whose trees in the store are not what their listings say.
pub fn damaged_trees(
    packages: &[&LockedPackage],
    store: &Store,
    shelf: &Shelf,
    depth: FileCheck,
) -> Result<Vec<Damaged>, StoreError> {
    let files = packages.iter().flat_map(|package| package.files.iter().map(move |file| (*package, file)));
    let files: Vec<_> = files.filter(|(_, file)| store.has(&file.tree())).collect();
    let looked = files.into_par_iter().map(|(package, file)| {
        if !is_damaged(&file.tree(), store, depth)? {
            return Ok(None);
        }
        let (package, archive) = (package.name.clone(), file.tree());
        Ok(Some(Damaged { package, archive, shared_by: store.projects_with(&archive, shelf.project())? }))
    });
    let looked = looked.collect::<Result<Vec<Option<Damaged>>, StoreError>>()?;
    Ok(looked.into_iter().flatten().collect())
}

/// Whether the tree of an archive is not what its listing says, or has none that can be read.
pub(crate) fn is_damaged(archive: &Digest, store: &Store, depth: FileCheck) -> Result<bool, StoreError> {
    let Some(listing) = store.listing(archive)? else { return Ok(true) };
    let tree = Folder::open(&store.tree(archive))?;
    let (_, findings) = compare(tree.as_ref(), &by_path(&listing.files), None, depth)?;
    if depth == FileCheck::Bytes && findings.is_empty() {
        store.note_read(archive);
    }
    Ok(!findings.is_empty())
}

fn verify_slot(
    slot: &Slot<'_>,
    shelf: &Shelf,
    store: &Store,
    depth: FileCheck,
) -> Result<(usize, Vec<Finding>), StoreError> {
    let folder = shelf.package(&slot.path())?;
    let mut files = Vec::new();
    for file in &slot.files {
        let Some(listing) = store.listing(&file.tree())? else {
            let difference = if folder.is_none() { Difference::Missing } else { Difference::Unknown };
            return Ok((0, vec![finding_of(Some(slot), "", difference)]));
        };
        files.extend(listing.files);
    }
    compare(folder.as_ref(), &by_path(&files), Some(slot), depth)
}

fn by_path(files: &[TreeFile]) -> BTreeMap<&str, &TreeFile> {
    files.iter().map(|file| (file.path.as_str(), file)).collect()
}

fn finding_of(slot: Option<&Slot<'_>>, path: &str, difference: Difference) -> Finding {
    Finding {
        package: slot.map(|slot| slot.package.name.clone()),
        target: slot.and_then(|slot| slot.target.map(str::to_owned)),
        path: path.to_owned(),
        difference,
    }
}

/// Compares all files in a folder, if it is there, with those that are expected; how many there are, and what differs.
fn compare(
    folder: Option<&Folder>,
    expected: &BTreeMap<&str, &TreeFile>,
    slot: Option<&Slot<'_>>,
    depth: FileCheck,
) -> Result<(usize, Vec<Finding>), StoreError> {
    let finding = |path: &str, difference| finding_of(slot, path, difference);
    let mut seen: HashSet<String> = HashSet::new();
    let (mut findings, mut files) = (Vec::new(), 0);
    let mut open: Vec<(Folder, String)> = Vec::new();
    open.extend(folder.map(Folder::again).transpose()?.map(|folder| (folder, String::new())));
    while let Some((folder, inside)) = open.pop() {
        for name in folder.names()? {
            let path = format!("{inside}{name}");
            // What has a name that is no text can't be asked for by it.
            let Some(entry) = folder.entry(&name)? else {
                findings.push(finding(&path, Difference::Extra));
                continue;
            };
            if entry.kind == Kind::Folder {
                open.extend(folder.folder(&name)?.map(|folder| (folder, format!("{path}/"))));
                continue;
            }
            files += 1;
            match expected.get(path.as_str()) {
                None => findings.push(finding(&path, Difference::Extra)),
                Some(file) if !is_same(&folder, &name, &entry, file, depth)? => {
                    findings.push(finding(&path, Difference::Changed));
                }
                Some(_) => {}
            }
            seen.insert(path);
        }
    }
    let missing = expected.keys().filter(|path| !seen.contains(**path));
    findings.extend(missing.map(|path| finding(path, Difference::Missing)));
    Ok((files, findings))
}

/// Things on the shelf that belong to no package.
fn strays(lock: &Lock, slots: &[Slot<'_>], shelf: &Shelf) -> Result<Vec<Finding>, StoreError> {
    let mut contents = shelf.contents(lock, &shelf.state()?, PackageCheck::Folders)?;
    for slot in slots {
        contents.remove(&slot.path());
    }
    let stray = |path| Finding { package: None, target: None, path, difference: Difference::Extra };
    Ok(contents.into_keys().map(stray).collect())
}
