//! A registry whose storage is used directly: a folder or a bucket.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::history::History;
use bibliotax_core::name::{FacetName, PackageName};
use jiff::Timestamp;

use super::{OpenedArchive, Publisher, RegistryKind};
use crate::model::error::RegistryError;
use crate::model::names::Named;
use crate::model::release_status::Change;
use crate::model::storage::{ReadRegistry, ReadRegistryExt, RegistryStorage};
use crate::search::{Found, Query, Searcher};

/// A registry whose files are there.
pub struct Local(pub Arc<dyn RegistryStorage>);

impl Local {
    /// What searches it, with what makes that fast below `cache`.
    fn searcher(&self, cache: &Path) -> Searcher {
        let place = std::path::absolute(self.0.place()).unwrap_or_else(|_| self.0.place());
        let place = Digest::of(place.as_os_str().as_encoded_bytes());
        let registry: Arc<dyn ReadRegistry> = Arc::clone(&self.0) as _;
        Searcher::new(registry, cache.join(place.to_string()).join("names.sqlite"))
    }
}

impl RegistryKind for Local {
    fn name(&self) -> &str {
        self.0.name()
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        self.0.facets()
    }

    fn is_inside(&self) -> bool {
        self.0.is_on_this_machine()
    }

    fn is_remote(&self) -> bool {
        false
    }

    fn place_of(&self, _: &PackageName) -> PathBuf {
        self.0.place()
    }

    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        self.0.history_text(package)
    }

    fn recent_history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        self.0.recent_history(package)
    }

    fn card_text(&self, _: &PackageName, digest: &Digest) -> Result<Option<String>, RegistryError> {
        self.0.card_text(digest)
    }

    fn open_archive(
        &self,
        _: &PackageName,
        archive: &Archive,
        _place: usize,
        from: u64,
    ) -> Result<OpenedArchive, RegistryError> {
        let bytes = if from > 0 {
            self.0.read_file(&archive.sha256, from..archive.size)?
        } else {
            self.0.open_file(&archive.sha256)?
        };
        Ok((bytes, None))
    }

    fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        self.0.names()
    }

    fn find(
        &self,
        query: &Query,
        facets: &Facets,
        cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError> {
        self.searcher(cache).find(query, facets, now)
    }

    fn beginning_with(&self, text: &str, most: usize, cache: &Path) -> Result<Vec<Named>, RegistryError> {
        self.searcher(cache).with(|index| index.beginning_with(text, most))
    }

    fn change(&self, name: &PackageName, change: &Change, now: Timestamp) -> Result<bool, RegistryError> {
        change.make(&*self.0, name, now)
    }

    fn publisher(&self) -> Result<Publisher, RegistryError> {
        Ok(Publisher::Storage(Arc::clone(&self.0)))
    }

    fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        Ok(None)
    }
}
