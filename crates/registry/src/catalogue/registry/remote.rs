//! A registry behind HTTP.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::history::History;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::range::Range;
use jiff::Timestamp;

use super::{OpenedArchive, Publisher, RegistryKind};
use crate::catalogue::seen_histories::{Order, SeenHistories};
use crate::client::http::Remote;
use crate::model::error::RegistryError;
use crate::model::names::Named;
use crate::model::release_status::Change;
use crate::search::{Found, Query};

impl RegistryKind for Remote {
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

    fn history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        Self::history(self, package)
    }

    fn text_seen(
        &self,
        package: &PackageName,
        seen: &SeenHistories,
    ) -> Result<Option<String>, RegistryError> {
        let text = self.current_text(package)?;
        seen.check(package, text.as_deref(), Order::Kept)?;
        Ok(text)
    }

    fn card_text(&self, _: &PackageName, digest: &Digest) -> Result<Option<String>, RegistryError> {
        Self::card_text(self, digest).map(Some)
    }

    fn open_archive(
        &self,
        _: &PackageName,
        archive: &Archive,
        _place: usize,
        from: u64,
    ) -> Result<OpenedArchive, RegistryError> {
        Ok((Self::open_archive(self, archive, from)?, None))
    }

    fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        Ok(self.listed_names()?.into_keys().collect())
    }

    fn find(
        &self,
        query: &Query,
        facets: &Facets,
        _cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError> {
        Self::find(self, query, facets, now)
    }

    fn beginning_with(&self, text: &str, most: usize, _cache: &Path) -> Result<Vec<Named>, RegistryError> {
        Self::beginning_with(self, text, most)
    }

    fn follow_names(&self) {
        Self::follow_names(self);
    }

    fn change(&self, name: &PackageName, change: &Change, _now: Timestamp) -> Result<bool, RegistryError> {
        Self::change(self, name, change)
    }

    fn publisher(&self) -> Result<Publisher, RegistryError> {
        Ok(Publisher::Server(Box::new(self.clone())))
    }

    fn prefetch_closure(&self, needs: &[(PackageName, Range)]) {
        Self::prefetch_closure(self, needs);
    }

    fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        Self::opening(self)
    }
}
