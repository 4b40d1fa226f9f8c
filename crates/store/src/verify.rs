//! Every file of a shelf against what was installed: missing, changed, extra.

use std::collections::{BTreeMap, HashSet};
use std::fs::{self, File};
use std::io;
use std::path::Path;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, LockedPackage, Scope, Slot};
use bibliotax_core::name::PackageName;
use bibliotax_core::notice::{Listener, Notice};
use bibliotax_disk::error::At;
use bibliotax_disk::stamp::Stamp;
use rayon::prelude::*;
use serde::Serialize;

use crate::error::StoreError;
use crate::shelf::Shelf;
use crate::store::Store;
use bibliotax_archive::unpack::TreeFile;

/// How closely files are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// Bytes are read only where size or time don't tell that nobody touched a file.
    SizeAndTime,
    /// Every byte is read.
    Bytes,
}

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
}

/// A file that differs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Finding {
    /// The package; `None` for something on the shelf that belongs to none.
    pub package: Option<PackageName>,
    /// The target in whose folder it is, where there are targets.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The path inside the package, or on the shelf.
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

/// Compares every file of a shelf with what the lock's archives hold; the store must have all their trees.
pub fn verify(
    lock: &Lock,
    scope: &Scope<'_>,
    shelf: &Shelf,
    store: &Store,
    depth: Depth,
    listener: &dyn Listener,
) -> Result<Verified, StoreError> {
    let slots = lock.slots(scope).map_err(StoreError::NotForMachine)?;
    listener.hear(&Notice::Verifying { packages: slots.len() });
    let verify_one = |slot: &Slot<'_>| {
        let verified = verify_slot(slot, shelf, store, depth)?;
        listener.hear(&Notice::Verified { package: slot.package.name.clone() });
        Ok(verified)
    };
    let each = slots.par_iter().map(verify_one).collect::<Result<Vec<_>, StoreError>>()?;
    let mut all = Verified { packages: slots.len(), ..Verified::default() };
    for (files, findings) in each {
        all.files += files;
        all.findings.extend(findings);
    }
    let places = lock.slots(&scope.with_all_members()).map_err(StoreError::NotForMachine)?;
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
}

/// The archives of these packages whose trees in the store are not what their listings say.
pub fn damaged_trees(
    packages: &[&LockedPackage],
    store: &Store,
    depth: Depth,
) -> Result<Vec<Damaged>, StoreError> {
    let files = packages.iter().flat_map(|package| package.files.iter().map(move |file| (*package, file)));
    let files: Vec<_> = files.filter(|(_, file)| store.has(&file.tree())).collect();
    let looked = files.into_par_iter().map(|(package, file)| {
        let damaged = Damaged { package: package.name.clone(), archive: file.tree() };
        Ok(is_damaged(&file.tree(), store, depth)?.then_some(damaged))
    });
    let looked = looked.collect::<Result<Vec<Option<Damaged>>, StoreError>>()?;
    Ok(looked.into_iter().flatten().collect())
}

/// Whether the tree of an archive is not what its listing says, or has none that can be read.
pub(crate) fn is_damaged(archive: &Digest, store: &Store, depth: Depth) -> Result<bool, StoreError> {
    let Some(listing) = store.listing(archive)? else { return Ok(true) };
    let (_, findings) = compare(&store.tree(archive), &by_path(&listing.files), None, depth)?;
    Ok(!findings.is_empty())
}

fn verify_slot(
    slot: &Slot<'_>,
    shelf: &Shelf,
    store: &Store,
    depth: Depth,
) -> Result<(usize, Vec<Finding>), StoreError> {
    let mut files = Vec::new();
    for file in &slot.files {
        let lost = || StoreError::Lost { package: slot.package.name.clone() };
        files.extend(store.listing(&file.tree())?.ok_or_else(lost)?.files);
    }
    compare(&shelf.package(&slot.path()), &by_path(&files), Some(slot), depth)
}

fn by_path(files: &[TreeFile]) -> BTreeMap<&str, &TreeFile> {
    files.iter().map(|file| (file.path.as_str(), file)).collect()
}

fn compare(
    folder: &Path,
    expected: &BTreeMap<&str, &TreeFile>,
    slot: Option<&Slot<'_>>,
    depth: Depth,
) -> Result<(usize, Vec<Finding>), StoreError> {
    let finding = |path: &str, difference| Finding {
        package: slot.map(|slot| slot.package.name.clone()),
        target: slot.and_then(|slot| slot.target.map(str::to_owned)),
        path: path.to_owned(),
        difference,
    };
    let present = present_files(folder)?;
    let names: HashSet<&str> = present.iter().map(|(path, _)| path.as_str()).collect();
    let missing = expected.keys().filter(|path| !names.contains(*path));
    let mut findings: Vec<Finding> = missing.map(|path| finding(path, Difference::Missing)).collect();
    for (path, metadata) in &present {
        match expected.get(path.as_str()) {
            None => findings.push(finding(path, Difference::Extra)),
            Some(file) if !is_same(&folder.join(path), metadata, file, depth)? => {
                findings.push(finding(path, Difference::Changed));
            }
            Some(_) => {}
        }
    }
    Ok((present.len(), findings))
}

/// Everything below a folder that is no folder itself, with its path inside; nothing if there is no folder.
fn present_files(folder: &Path) -> Result<Vec<(String, fs::Metadata)>, StoreError> {
    let mut files = Vec::new();
    let mut open = vec![(folder.to_owned(), String::new())];
    while let Some((folder, inside)) = open.pop() {
        let is_folder = fs::symlink_metadata(&folder).is_ok_and(|metadata| metadata.is_dir());
        if !is_folder {
            continue;
        }
        let entries = fs::read_dir(&folder).at("read", &folder)?;
        for entry in entries {
            let entry = entry.at("read", &folder)?;
            let path = format!("{inside}{}", entry.file_name().to_string_lossy());
            let metadata = fs::symlink_metadata(entry.path()).at("read", entry.path())?;
            if metadata.is_dir() {
                open.push((entry.path(), format!("{path}/")));
            } else {
                files.push((path, metadata));
            }
        }
    }
    Ok(files)
}

/// Whether a file is what was unpacked, looked at as deeply as it says.
pub(crate) fn is_same(
    path: &Path,
    metadata: &fs::Metadata,
    file: &TreeFile,
    depth: Depth,
) -> Result<bool, StoreError> {
    if !metadata.is_file() || metadata.len() != file.size || !has_mode(metadata, file.executable) {
        return Ok(false);
    }
    let is_untouched = file.modified.is_known() && Stamp::of(metadata) == file.modified;
    if depth == Depth::SizeAndTime && is_untouched {
        return Ok(true);
    }
    let mut hasher = blake3::Hasher::new();
    io::copy(&mut File::open(path).at("read", path)?, &mut hasher).at("read", path)?;
    Ok(hasher.finalize() == file.blake3)
}

#[cfg(unix)]
fn has_mode(metadata: &fs::Metadata, executable: bool) -> bool {
    let mode = std::os::unix::fs::PermissionsExt::mode(&metadata.permissions());
    (mode & 0o100 != 0) == executable
}

#[cfg(not(unix))]
fn has_mode(_: &fs::Metadata, _: bool) -> bool {
    true
}

/// Things on the shelf that belong to no package.
fn strays(lock: &Lock, slots: &[Slot<'_>], shelf: &Shelf) -> Result<Vec<Finding>, StoreError> {
    let mut contents = shelf.contents(lock)?;
    for slot in slots {
        contents.remove(&slot.path());
    }
    let stray = |path| Finding { package: None, target: None, path, difference: Difference::Extra };
    Ok(contents.into_keys().map(stray).collect())
}
