//! A registry in a container registry.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::name::{FacetName, PackageName};
use jiff::Timestamp;

use super::{OpenedArchive, Publisher, RegistryKind};
use crate::catalogue::seen_histories::{Order, SeenHistories};
use crate::client::oci::Oci;
use crate::model::error::RegistryError;
use crate::model::release_status::Change;
use crate::search::{Found, Query};

impl RegistryKind for Oci {
    fn name(&self) -> &str {
        Self::name(self)
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        Self::facets(self)
    }

    fn is_inside(&self) -> bool {
        Self::is_inside(self)
    }

    fn place_of(&self, package: &PackageName) -> PathBuf {
        Self::place_of(self, package)
    }

    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        Self::history_text(self, package)
    }

    fn text_seen(
        &self,
        package: &PackageName,
        seen: &SeenHistories,
    ) -> Result<Option<String>, RegistryError> {
        let text = Self::history_text(self, package)?;
        // Events are put together from tags, in an order of their own.
        seen.check(package, text.as_deref(), Order::Any)?;
        Ok(text)
    }

    fn card_text(&self, package: &PackageName, digest: &Digest) -> Result<Option<String>, RegistryError> {
        Self::card_text(self, package, digest)
    }

    fn open_archive(
        &self,
        package: &PackageName,
        archive: &Archive,
        _place: usize,
        from: u64,
    ) -> Result<OpenedArchive, RegistryError> {
        Ok((Box::new(Self::open_archive(self, package, archive, from)?), None))
    }

    fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        Self::listed(self)
    }

    fn find(
        &self,
        query: &Query,
        facets: &Facets,
        cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError> {
        Self::find(self, query, facets, cache, now)
    }

    fn change(&self, name: &PackageName, change: &Change, now: Timestamp) -> Result<bool, RegistryError> {
        Self::change(self, name, change, now)
    }

    fn publisher(&self) -> Result<Publisher, RegistryError> {
        Ok(Publisher::Containers(Box::new(self.clone())))
    }

    fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        Self::opening(self)
    }
}
