//! Putting a package's files on a shelf: by copy-on-write or hard link where the disk can, else by copying.

use std::collections::{BTreeSet, HashSet};
use std::fs;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicU8, Ordering};

use bibliotax_core::lock::Slot;
use bibliotax_disk::error::At;
use bibliotax_disk::write::make_folder;

use crate::error::StoreError;
use crate::store::Store;
use crate::unpack::TreeFile;

/// How a file gets onto the shelf, best first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[repr(u8)]
enum Way {
    /// A file of its own that shares its blocks until one side is written.
    CopyOnWrite = 0,
    /// A second name of the store's read-only file.
    HardLink = 1,
    /// A file of its own.
    Copy = 2,
}

/// Builds packages from the store. What the disk can't do is tried once, not for every file.
pub struct Linker<'s> {
    store: &'s Store,
    way: AtomicU8,
}

impl<'s> Linker<'s> {
    /// A linker from this store.
    pub fn new(store: &'s Store) -> Self {
        Self { store, way: AtomicU8::new(Way::CopyOnWrite as u8) }
    }

    /// Builds a package in `folder`, which must not exist: all its parts in one tree.
    pub fn build(&self, slot: &Slot<'_>, folder: &Path) -> Result<(), StoreError> {
        make_folder(folder)?;
        let mut paths: HashSet<String> = HashSet::new();
        for file in &slot.files {
            let tree = self.store.tree(&file.sha256);
            let lost = || StoreError::Lost { package: slot.package.name.clone() };
            let listing = self.store.listing(&file.sha256)?.ok_or_else(lost)?;
            let folders: BTreeSet<&str> =
                listing.files.iter().filter_map(|f| Some(f.path.rsplit_once('/')?.0)).collect();
            folders.iter().try_for_each(|inner| make_folder(&folder.join(inner)))?;
            if slot.files.len() > 1 {
                let twice = listing.files.iter().find(|file| !paths.insert(file.path.to_lowercase()));
                if let Some(file) = twice {
                    let (package, path) = (slot.package.name.clone(), file.path.clone());
                    return Err(StoreError::TwoParts { package, path });
                }
            }
            for file in &listing.files {
                self.put(&tree.join(&file.path), &folder.join(&file.path), file)?;
            }
        }
        Ok(())
    }

    fn put(&self, from: &Path, to: &Path, file: &TreeFile) -> Result<(), StoreError> {
        loop {
            let way = self.way();
            let put = match way {
                Way::CopyOnWrite => reflink_copy::reflink(from, to).and_then(|()| protect(to, file)),
                Way::HardLink => fs::hard_link(from, to),
                Way::Copy => fs::copy(from, to).and_then(|_| protect(to, file)),
            };
            match put {
                Err(error) if way != Way::Copy && !is_about_the_file(&error) => {
                    self.way.fetch_max(way as u8 + 1, Ordering::Relaxed);
                }
                put => return Ok(put.at("put on the shelf", to)?),
            }
        }
    }

    fn way(&self) -> Way {
        match self.way.load(Ordering::Relaxed) {
            0 => Way::CopyOnWrite,
            1 => Way::HardLink,
            _ => Way::Copy,
        }
    }
}

/// Errors that another way would not help with.
fn is_about_the_file(error: &io::Error) -> bool {
    use io::ErrorKind::{AlreadyExists, NotFound, QuotaExceeded, ReadOnlyFilesystem, StorageFull};
    matches!(error.kind(), NotFound | AlreadyExists | StorageFull | QuotaExceeded | ReadOnlyFilesystem)
}

/// Makes a file on the shelf read-only, as the store's are, so that a shelf feels the same on every disk.
fn protect(path: &Path, file: &TreeFile) -> io::Result<()> {
    let mut permissions = fs::metadata(path)?.permissions();
    #[cfg(unix)]
    std::os::unix::fs::PermissionsExt::set_mode(
        &mut permissions,
        if file.executable { 0o555 } else { 0o444 },
    );
    #[cfg(not(unix))]
    {
        let _ = file;
        permissions.set_readonly(true);
    }
    fs::set_permissions(path, permissions)
}
