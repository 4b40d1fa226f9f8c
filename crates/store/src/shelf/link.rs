//! Puts a package's files on a shelf: by copy-on-write or hard link where the disk can, else by copying.
//!
//! A file of the store that isn't what was unpacked is noticed here, where it would be used: by its size and time, by its bytes
//! where those weren't read for some days, and always while it is copied.

use std::collections::{BTreeMap, HashSet};
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};

use bibliotax_core::card::Archive;
use bibliotax_core::inner_path::as_seen;
use bibliotax_core::lock::Slot;
use bibliotax_core::manifest::LinkWay;
use bibliotax_disk::error::At;
use bibliotax_disk::folder::Folder;

use crate::error::StoreError;
use crate::file_check::{FileCheck, is_same};
use crate::store::Store;
use bibliotax_archive::unpack::{Listing, TreeFile};

/// The ways that are tried one after the other.
const AUTO: [LinkWay; 3] = [LinkWay::Reflink, LinkWay::Hard, LinkWay::Copy];

/// Builds packages from the store. What the disk can't do is tried once, not for every file.
pub struct Linker<'s> {
    store: &'s Store,
    wanted: LinkWay,
    depth: FileCheck,
    /// How many of the ways didn't do.
    in_vain: AtomicU8,
    /// Whether any file was made that is not the store's own.
    has_copied: AtomicBool,
}

impl<'s> Linker<'s> {
    /// A linker from this store that puts files on a shelf in this way, and looks at them at least that closely.
    pub fn new(store: &'s Store, wanted: LinkWay, depth: FileCheck) -> Self {
        Self { store, wanted, depth, in_vain: AtomicU8::new(0), has_copied: AtomicBool::new(false) }
    }

    /// Builds a package in a folder of this name, which must not exist: all its parts in one tree. The files that it has then.
    pub fn build(&self, slot: &Slot<'_>, work: &Folder, name: &str) -> Result<Vec<TreeFile>, StoreError> {
        let package = work.make_folder(name)?;
        let mut all = Vec::new();
        let mut paths: HashSet<String> = HashSet::new();
        for file in &slot.files {
            let listing = self.listing(slot, &file.archive())?;
            if slot.files.len() > 1 {
                let twice =
                    listing.files.iter().find(|file| !paths.insert(as_seen(file.path.as_str()).into_owned()));
                if let Some(file) = twice {
                    let (package, path) = (slot.package.name.clone(), file.path.to_string());
                    return Err(StoreError::TwoParts { package, path });
                }
            }
            self.add(slot, &file.archive(), &listing, &package)?;
            all.extend(listing.files);
        }
        Ok(all)
    }

    /// Whether files were made whose bytes are not durable yet, as those of the store are.
    pub fn has_copied(&self) -> bool {
        self.has_copied.load(Ordering::Relaxed)
    }

    fn listing(&self, slot: &Slot<'_>, archive: &Archive) -> Result<Listing, StoreError> {
        let package = || slot.package.name.clone();
        match self.store.listing(&archive.tree())? {
            Some(listing) => Ok(listing),
            None if self.store.has(&archive.tree()) => {
                Err(StoreError::Damaged { package: package(), archive: archive.tree() })
            }
            None => Err(StoreError::Lost { package: package() }),
        }
    }

    /// Adds the files of an archive to a package that is being built, folder by folder.
    fn add(
        &self,
        slot: &Slot<'_>,
        archive: &Archive,
        listing: &Listing,
        package: &Folder,
    ) -> Result<(), StoreError> {
        let digest = archive.tree();
        let damaged = || StoreError::Damaged { package: slot.package.name.clone(), archive: digest };
        let tree = Folder::open(&self.store.tree(&digest))?.ok_or_else(damaged)?;
        let depth = if self.store.was_read_lately(&digest) { self.depth } else { FileCheck::Bytes };
        let mut folders: BTreeMap<&str, Vec<(&str, &TreeFile)>> = BTreeMap::new();
        for file in &listing.files {
            let (folder, name) = file.path.split();
            folders.entry(folder).or_default().push((name, file));
        }
        for (folder, files) in folders {
            let from = tree.folders(folder)?.ok_or_else(damaged)?;
            let to = package.make_folders(folder)?;
            for (name, file) in files {
                if !is_whole(&from, name, file, depth)? || !self.put(&from, &to, name, file)? {
                    return Err(damaged());
                }
            }
        }
        if depth == FileCheck::Bytes {
            self.store.note_read(&digest);
        }
        Ok(())
    }

    /// Puts a file in its place; whether its bytes are right, as far as they were read.
    fn put(&self, from: &Folder, to: &Folder, name: &str, file: &TreeFile) -> Result<bool, StoreError> {
        loop {
            let way = self.way();
            let put = match way {
                LinkWay::Reflink => {
                    reflink(from, to, name).and_then(|()| protect(to, name, file)).map(|()| true)
                }
                LinkWay::Hard => from.hard_link(name, to, name).map(|()| true),
                LinkWay::Copy | LinkWay::Auto => copy(from, to, name, file),
            };
            match put {
                Err(error) if way != LinkWay::Copy && !is_about_the_file(&error) => {
                    if self.wanted != LinkWay::Auto {
                        return Err(StoreError::NoSuchWay { way, path: to.path().join(name), source: error });
                    }
                    self.give_up(way);
                }
                put => {
                    self.has_copied.fetch_or(way != LinkWay::Hard, Ordering::Relaxed);
                    return Ok(put.at("put on the shelf", to.path().join(name))?);
                }
            }
        }
    }

    fn way(&self) -> LinkWay {
        match self.wanted {
            LinkWay::Auto => AUTO[usize::from(self.in_vain.load(Ordering::Relaxed)).min(AUTO.len() - 1)],
            wanted => wanted,
        }
    }

    /// Tries the next way from now on; other threads may have found out the same.
    fn give_up(&self, way: LinkWay) {
        let tried = AUTO.iter().take_while(|one| **one != way).count() + 1;
        self.in_vain.fetch_max(u8::try_from(tried).unwrap_or(u8::MAX), Ordering::Relaxed);
    }
}

/// Whether a file of the store is what was unpacked.
fn is_whole(folder: &Folder, name: &str, file: &TreeFile, depth: FileCheck) -> Result<bool, StoreError> {
    match folder.entry(name)? {
        None => Ok(false),
        Some(found) => is_same(folder, name, &found, file, depth),
    }
}

/// Errors that another way would not help with.
fn is_about_the_file(error: &io::Error) -> bool {
    use io::ErrorKind::{AlreadyExists, NotFound, QuotaExceeded, ReadOnlyFilesystem, StorageFull};
    matches!(error.kind(), NotFound | AlreadyExists | StorageFull | QuotaExceeded | ReadOnlyFilesystem)
}

/// Lets a file share the store's blocks. The system's call wants paths; both folders were just opened without following links.
fn reflink(from: &Folder, to: &Folder, name: &str) -> io::Result<()> {
    reflink_copy::reflink(from.path().join(name), to.path().join(name))
}

/// Copies a file of the store, with its stamp; whether what was copied is what was unpacked.
fn copy(from: &Folder, to: &Folder, name: &str, file: &TreeFile) -> io::Result<bool> {
    let mut source = opened(from, name)?;
    let mut copy = to.create_file(name)?;
    let (mut hasher, mut piece) = (blake3::Hasher::new(), [0; 64 << 10]);
    loop {
        match source.read(&mut piece)? {
            0 => break,
            read => {
                hasher.update(&piece[..read]);
                copy.write_all(&piece[..read])?;
            }
        }
    }
    make_read_only(&copy, file)?;
    Ok(hasher.finalize() == file.blake3)
}

/// Makes a file on the shelf read-only, as the store's are, so that a shelf feels the same on every disk.
fn protect(folder: &Folder, name: &str, file: &TreeFile) -> io::Result<()> {
    make_read_only(&opened(folder, name)?, file)
}

fn opened(folder: &Folder, name: &str) -> io::Result<File> {
    let opened = folder.open_file(name).map_err(|error| error.source)?;
    opened.ok_or_else(|| io::ErrorKind::NotFound.into())
}

/// Gives a file the stamp and the mode of the store's.
fn make_read_only(shelved: &File, file: &TreeFile) -> io::Result<()> {
    let mut permissions = shelved.metadata()?.permissions();
    #[cfg(unix)]
    std::os::unix::fs::PermissionsExt::set_mode(
        &mut permissions,
        if file.executable { 0o555 } else { 0o444 },
    );
    #[cfg(not(unix))]
    permissions.set_readonly(true);
    file.modified.put_on(shelved)?;
    shelved.set_permissions(permissions)
}
