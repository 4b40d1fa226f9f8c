//! What is in the archives of releases, as far as they are here and small enough to look into while somebody waits.

use std::io;
use std::sync::Arc;

use bibliotax_archive::inspect::{ArchivedFile, first_contents};
use bibliotax_core::card::FileRecord;
use bibliotax_core::digest::Digest;
use bibliotax_registry::model::storage::{ReadRegistry, ReadRegistryExt};
use quick_cache::sync::Cache;

/// Largest archive that is looked into, in bytes.
const MAX_ARCHIVE: u64 = 32 << 20;

/// How far into an archive is looked, in bytes as they are unpacked.
const MAX_UNPACKED: u64 = 256 << 20;

/// Most files that are listed.
const MAX_FILES: usize = 300;

/// Most archives whose lists are remembered.
const MAX_REMEMBERED: usize = 500;

/// The files of an archive.
pub struct Contents {
    /// The first files.
    pub files: Vec<ArchivedFile>,
    /// Whether these are all.
    pub is_all: bool,
}

/// The contents of archives that were looked into lately.
pub struct ContentsCache(Cache<Digest, Arc<Contents>>);

impl Default for ContentsCache {
    fn default() -> Self {
        Self(Cache::new(MAX_REMEMBERED))
    }
}

impl ContentsCache {
    /// What is in an archive; `None` where it isn't here, is too large, or can't be read.
    pub fn of(&self, registry: &dyn ReadRegistry, file: &FileRecord) -> Option<Arc<Contents>> {
        if let Some(known) = self.0.get(&file.sha256) {
            return Some(known);
        }
        let is_here =
            !file.is_elsewhere() && file.size <= MAX_ARCHIVE && registry.has_file(&file.sha256).ok()?;
        if !is_here {
            return None;
        }
        let mut copied = tempfile::NamedTempFile::new_in(registry.scratch().ok()?).ok()?;
        io::copy(&mut registry.open_file(&file.sha256).ok()?, &mut copied).ok()?;
        let (files, is_all) = first_contents(copied.path(), file.format, MAX_FILES, MAX_UNPACKED).ok()?;
        let contents = Arc::new(Contents { files, is_all });
        self.0.insert(file.sha256, Arc::clone(&contents));
        Some(contents)
    }
}
