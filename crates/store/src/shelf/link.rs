//! Putting a package's files on a shelf: by copy-on-write or hard link where the disk can, else by copying.
//!
//! A file of the store that isn't what was unpacked is noticed here, where it would be used.

use std::collections::{BTreeSet, HashSet};
use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};

use bibliotax_core::card::Archive;
use bibliotax_core::lock::Slot;
use bibliotax_core::manifest::LinkWay;
use bibliotax_disk::error::At;
use bibliotax_disk::stamp::look_at;
use bibliotax_disk::write::make_folder;

use crate::error::StoreError;
use crate::store::Store;
use crate::verify::{Depth, is_same};
use bibliotax_archive::unpack::{Listing, TreeFile};

/// The ways that are tried one after the other.
const AUTO: [LinkWay; 3] = [LinkWay::Reflink, LinkWay::Hard, LinkWay::Copy];

/// Builds packages from the store. What the disk can't do is tried once, not for every file.
pub struct Linker<'s> {
    store: &'s Store,
    wanted: LinkWay,
    /// How many of the ways didn't do.
    in_vain: AtomicU8,
    /// Whether any file was made that is not the store's own.
    has_copied: AtomicBool,
}

impl<'s> Linker<'s> {
    /// A linker from this store that puts files on a shelf in this way.
    pub fn new(store: &'s Store, wanted: LinkWay) -> Self {
        Self { store, wanted, in_vain: AtomicU8::new(0), has_copied: AtomicBool::new(false) }
    }

    /// Builds a package in `folder`, which must not exist: all its parts in one tree.
    pub fn build(&self, slot: &Slot<'_>, folder: &Path) -> Result<(), StoreError> {
        make_folder(folder)?;
        let mut paths: HashSet<String> = HashSet::new();
        for file in &slot.files {
            let listing = self.listing(slot, &file.archive())?;
            if slot.files.len() > 1 {
                let twice = listing.files.iter().find(|file| !paths.insert(file.path.to_lowercase()));
                if let Some(file) = twice {
                    let (package, path) = (slot.package.name.clone(), file.path.clone());
                    return Err(StoreError::TwoParts { package, path });
                }
            }
            self.add(slot, &file.archive(), &listing, folder)?;
        }
        Ok(())
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

    fn add(
        &self,
        slot: &Slot<'_>,
        archive: &Archive,
        listing: &Listing,
        folder: &Path,
    ) -> Result<(), StoreError> {
        let tree = self.store.tree(&archive.tree());
        let folders: BTreeSet<&str> =
            listing.files.iter().filter_map(|file| Some(file.path.rsplit_once('/')?.0)).collect();
        folders.iter().try_for_each(|inner| make_folder(&folder.join(inner)))?;
        for file in &listing.files {
            let from = tree.join(&file.path);
            if !is_whole(&from, file)? {
                return Err(StoreError::Damaged {
                    package: slot.package.name.clone(),
                    archive: archive.tree(),
                });
            }
            self.put(&from, &folder.join(&file.path), file)?;
        }
        Ok(())
    }

    fn put(&self, from: &Path, to: &Path, file: &TreeFile) -> Result<(), StoreError> {
        loop {
            let way = self.way();
            let put = match way {
                LinkWay::Reflink => reflink_copy::reflink(from, to).and_then(|()| protect(to, file)),
                LinkWay::Hard => fs::hard_link(from, to),
                LinkWay::Copy | LinkWay::Auto => copy(from, to, file),
            };
            match put {
                Err(error) if way != LinkWay::Copy && !is_about_the_file(&error) => {
                    if self.wanted != LinkWay::Auto {
                        return Err(StoreError::NoSuchWay { way, path: to.to_owned(), source: error });
                    }
                    self.give_up(way);
                }
                put => {
                    self.has_copied.fetch_or(way != LinkWay::Hard, Ordering::Relaxed);
                    return Ok(put.at("put on the shelf", to)?);
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

    /// Tries the next way from now on, whoever else found out the same.
    fn give_up(&self, way: LinkWay) {
        let tried = AUTO.iter().take_while(|one| **one != way).count() + 1;
        self.in_vain.fetch_max(u8::try_from(tried).unwrap_or(u8::MAX), Ordering::Relaxed);
    }
}

/// Whether a file of the store is what was unpacked, as far as size and time tell, and else its bytes.
fn is_whole(path: &Path, file: &TreeFile) -> Result<bool, StoreError> {
    match look_at(path)? {
        None => Ok(false),
        Some(found) => is_same(path, &found, file, Depth::SizeAndTime),
    }
}

/// Errors that another way would not help with.
fn is_about_the_file(error: &io::Error) -> bool {
    use io::ErrorKind::{AlreadyExists, NotFound, QuotaExceeded, ReadOnlyFilesystem, StorageFull};
    matches!(error.kind(), NotFound | AlreadyExists | StorageFull | QuotaExceeded | ReadOnlyFilesystem)
}

/// Copies a file of the store, with its stamp.
fn copy(from: &Path, to: &Path, file: &TreeFile) -> io::Result<()> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, mode(file));
    let mut copy = options.open(to)?;
    io::copy(&mut File::open(from)?, &mut copy)?;
    file.modified.put_on(&copy)?;
    if cfg!(unix) { Ok(()) } else { protect(to, file) }
}

/// Makes a file on the shelf read-only, as the store's are, so that a shelf feels the same on every disk.
fn protect(path: &Path, file: &TreeFile) -> io::Result<()> {
    let shelved = File::open(path)?;
    let mut permissions = shelved.metadata()?.permissions();
    #[cfg(unix)]
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, mode(file));
    #[cfg(not(unix))]
    permissions.set_readonly(true);
    file.modified.put_on(&shelved)?;
    shelved.set_permissions(permissions)
}

#[cfg(unix)]
fn mode(file: &TreeFile) -> u32 {
    if file.executable { 0o555 } else { 0o444 }
}
