//! Searches a container registry by a list of names made from its tags.

use std::path::Path;

use bibliotax_core::facet::Facets;
use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;
use bibliotax_disk::write::write_whole;
use jiff::Timestamp;
use rayon::prelude::*;

use super::Oci;
use crate::model::error::RegistryError;
use crate::model::names::{NAMES, frames, named};
use crate::search::{Found, Index, Query, follow};

impl Oci {
    /// The names of all packages and capabilities, where the registry lists its repositories.
    pub fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        let repositories = self.distribution.repositories()?;
        let all = repositories.ok_or_else(|| RegistryError::NotListed { registry: self.name.clone() })?;
        let ours = all.iter().filter_map(|repository| repository.strip_prefix(&self.prefix)?.parse().ok());
        Ok(ours.collect())
    }

    /// Finds packages by words, and says which of their releases fit; answers are cached below `cache`.
    pub fn find(
        &self,
        query: &Query,
        facets: &Facets,
        cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError> {
        let folder = cache.join(&self.key);
        let (list, mut index) = (folder.join(NAMES), Index::open(&folder.join("names.sqlite"))?);
        if !self.distribution.client().is_offline() {
            let lines = self.name_lines()?;
            let packed = frames(&lines).map_err(|error| DiskError::new("pack", &list, error))?;
            if std::fs::read(&list).ok().as_deref() != Some(&packed[..]) {
                write_whole(&list, &packed)?;
            }
        }
        follow(&mut index, &list)?;
        if self.distribution.client().is_offline() && index.is_empty()? {
            return Err(self.distribution.client().offline(NAMES));
        }
        let mut found = index.find(query, facets, now)?;
        found.look_into(&query.places, facets, |name| self.history(name));
        Ok(found)
    }

    /// The lines of a list of all names as they stand.
    fn name_lines(&self) -> Result<Vec<u8>, RegistryError> {
        let names = self.listed()?;
        let line = |name: &PackageName| {
            let Some(history) = self.history(name)? else { return Ok(None) };
            let named = named(name, &history, |digest| self.card_text(name, digest).ok().flatten());
            // Texts: nothing that could fail to be JSON.
            Ok(Some(serde_json::to_string(&named).unwrap_or_default() + "\n"))
        };
        let lines = names.par_iter().map(line).collect::<Result<Vec<_>, RegistryError>>()?;
        Ok(lines.into_iter().flatten().collect::<String>().into_bytes())
    }
}
