//! The files of locked packages, as far as the store has them.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bibliotax_core::lock::LockedPackage;
use bibliotax_store::store::Store;

use crate::failure::Failure;

/// The files of a package.
pub struct StoredFiles {
    /// Each by its path.
    pub files: BTreeMap<String, StoredFile>,
    /// Whether the store has all of its archives.
    pub is_whole: bool,
}

/// A file in the store.
pub struct StoredFile {
    /// Where it is.
    pub place: PathBuf,
    /// Its size, in bytes.
    pub size: u64,
    /// The digest of its contents (BLAKE3).
    pub contents: [u8; 32],
}

impl StoredFiles {
    /// The files of a locked package.
    pub fn of(package: &LockedPackage, store: &Store) -> Result<Self, Failure> {
        let mut found = Self { files: BTreeMap::new(), is_whole: !package.files.is_empty() };
        for archive in &package.files {
            let tree = archive.tree();
            let Some(listing) = store.listing(&tree)? else {
                found.is_whole = false;
                continue;
            };
            let folder = store.tree(&tree);
            for file in listing.files {
                let place = folder.join(file.path.as_str());
                let stored = StoredFile { place, size: file.size, contents: *file.blake3.as_bytes() };
                found.files.insert(file.path.to_string(), stored);
            }
        }
        Ok(found)
    }
}
