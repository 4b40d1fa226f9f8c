//! A registry that couldn't be reached when it was opened: what needs it fails with the reason, and nothing else does.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::name::{FacetName, PackageName, RegistryName};
use jiff::Timestamp;

use super::{OpenedArchive, Publisher, Registry, RegistryKind};
use crate::model::error::{Asked, RegistryError};
use crate::model::release_status::Change;
use crate::search::{Found, Query};

/// A registry that couldn't be reached.
pub struct Unreached {
    name: String,
    why: Why,
    facets: BTreeMap<FacetName, Facet>,
}

/// Why a registry couldn't be reached.
enum Why {
    Unreachable { asked: Asked, url: String, what: String },
    NoMirrorAnswers,
}

impl Registry {
    /// The registry of this name that couldn't be opened, where that is because nobody answers.
    pub fn unreached(name: &RegistryName, error: RegistryError) -> Result<Self, RegistryError> {
        let why = match error {
            RegistryError::Unreachable { asked, url, what } => Why::Unreachable { asked, url, what },
            RegistryError::NoMirrorAnswers => Why::NoMirrorAnswers,
            error => return Err(error),
        };
        Ok(Self::of_kind(Unreached { name: name.to_string(), why, facets: BTreeMap::new() }))
    }
}

impl Unreached {
    fn error(&self) -> RegistryError {
        match &self.why {
            Why::Unreachable { asked, url, what } => {
                RegistryError::Unreachable { asked: asked.clone(), url: url.clone(), what: what.clone() }
            }
            Why::NoMirrorAnswers => RegistryError::NoMirrorAnswers,
        }
    }
}

impl RegistryKind for Unreached {
    fn name(&self) -> &str {
        &self.name
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.facets
    }

    fn is_inside(&self) -> bool {
        false
    }

    fn place_of(&self, package: &PackageName) -> PathBuf {
        PathBuf::from(package.as_str())
    }

    fn history_text(&self, _: &PackageName) -> Result<Option<String>, RegistryError> {
        Err(self.error())
    }

    fn card_text(&self, _: &PackageName, _: &Digest) -> Result<Option<String>, RegistryError> {
        Err(self.error())
    }

    fn open_archive(
        &self,
        _: &PackageName,
        _: &Archive,
        _: usize,
        _: u64,
    ) -> Result<OpenedArchive, RegistryError> {
        Err(self.error())
    }

    fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        Err(self.error())
    }

    fn find(&self, _: &Query, _: &Facets, _: &Path, _: Timestamp) -> Result<Found, RegistryError> {
        Err(self.error())
    }

    fn change(&self, _: &PackageName, _: &Change, _: Timestamp) -> Result<bool, RegistryError> {
        Err(self.error())
    }

    fn publisher(&self) -> Result<Publisher, RegistryError> {
        Err(self.error())
    }

    fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        Err(self.error())
    }

    fn warning(&self, name: &RegistryName) -> Option<String> {
        Some(format!("the registry `{name}` can't be reached; packages are looked up in the others only"))
    }
}
