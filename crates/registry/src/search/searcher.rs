//! The search databases of one local registry: one per concurrent search, each updated first.

use std::fs::File;
use std::io::{self, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use bibliotax_core::facet::Facets;
use bibliotax_disk::DiskError;
use jiff::Timestamp;

use super::{Found, Index, Query};
use crate::model::error::RegistryError;
use crate::model::storage::{ReadRegistry, ReadRegistryExt};

/// Most databases that are kept open.
const MAX_OPEN: usize = 8;

/// Searches a registry that is kept here.
pub struct Searcher {
    kept: Arc<dyn ReadRegistry>,
    path: PathBuf,
    idle: Mutex<Vec<Index>>,
    /// Held while a database is brought up to date.
    following: Mutex<()>,
}

impl Searcher {
    /// Searches a registry by the database at a path, which is created if it doesn't exist.
    pub fn new(kept: Arc<dyn ReadRegistry>, path: PathBuf) -> Self {
        Self { kept, path, idle: Mutex::default(), following: Mutex::default() }
    }

    /// Finds packages by words, and says which of their releases fit.
    pub fn find(&self, query: &Query, facets: &Facets, now: Timestamp) -> Result<Found, RegistryError> {
        let mut found = self.with(|index| index.find(query, facets, now))?;
        found.look_into(&query.places, facets, |name| self.kept.history(name));
        Ok(found)
    }

    /// Asks a database that is up to date.
    pub fn with<T>(&self, ask: impl FnOnce(&Index) -> Result<T, RegistryError>) -> Result<T, RegistryError> {
        let idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner).pop();
        let mut index = idle.map_or_else(|| Index::open(&self.path), Ok)?;
        self.bring_up_to_date(&mut index)?;
        let answer = ask(&index);
        let mut idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
        if idle.len() < MAX_OPEN {
            idle.push(index);
        }
        answer
    }
}

impl Searcher {
    /// Reads on in the list, unless somebody is at it whose last state will do.
    fn bring_up_to_date(&self, index: &mut Index) -> Result<(), RegistryError> {
        let _held = match self.following.try_lock() {
            Ok(held) => held,
            Err(_) if !index.is_empty()? => return Ok(()),
            Err(_) => self.following.lock().unwrap_or_else(PoisonError::into_inner),
        };
        follow(index, &self.kept.name_list_file()?)
    }
}

/// Reads on in a list that is a file of this machine.
pub fn follow(index: &mut Index, list: &Path) -> Result<(), RegistryError> {
    let wrong = |error| DiskError::new("read", list, error);
    // A list that is not the one that was read before is read from its beginning.
    for _ in 0..2 {
        let since = index.read_up_to()?;
        let mut file = match File::open(list) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            opened => opened.map_err(wrong)?,
        };
        if file.metadata().map_err(wrong)?.len() == since.bytes {
            return Ok(());
        }
        file.seek(SeekFrom::Start(since.from())).map_err(wrong)?;
        if index.read_on(&since, file)? {
            return Ok(());
        }
    }
    Ok(())
}
