//! Where a registry is: in a folder, behind HTTP, or in a registry of containers.

pub mod mirrored;

use std::collections::BTreeMap;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::history::History;
use bibliotax_core::location::Location;
use bibliotax_core::manifest::RegistryDeclaration;
use bibliotax_core::name::{FacetName, PackageName, RegistryName};
use bibliotax_core::range::Range;
use jiff::Timestamp;

use self::mirrored::{Mirrored, Standing};
use crate::catalogue::seen::{Order, SeenHistories};
use crate::client::http::Remote;
use crate::client::network::Network;
use crate::client::oci::Oci;
use crate::model::error::RegistryError;
use crate::model::keep::{Keep, read_history, with_built_in};
use crate::model::standing::Change;
use crate::search::{Found, Query, Searcher};
use crate::storage::folder::Folder;

/// A registry, wherever it is.
#[derive(Clone)]
pub enum Registry {
    /// Kept as files that can be reached.
    Kept(Arc<dyn Keep>),
    /// Behind HTTP.
    Remote(Box<Remote>),
    /// In a registry of containers.
    Oci(Box<Oci>),
    /// With mirrors.
    Mirrored(Arc<Mirrored>),
}

impl Registry {
    /// Opens the registry that a manifest in `project` declares.
    pub fn open(
        declaration: &RegistryDeclaration,
        project: &Path,
        network: &Network,
    ) -> Result<Self, RegistryError> {
        let RegistryDeclaration { name, url, .. } = declaration;
        if !declaration.mirrors.is_empty() {
            return Ok(Self::Mirrored(Arc::new(Mirrored::open(declaration, project, network)?)));
        }
        Ok(match Location::of(url) {
            Location::Relative(path) | Location::Absolute(path) => {
                Self::Kept(Arc::new(Folder::open(&project.join(&*path))?))
            }
            Location::Url { scheme: "oci", .. } => {
                Self::Oci(Box::new(Oci::open(name, url, &declaration.allowed, network)?))
            }
            Location::Url { .. } | Location::OnHost { .. } => {
                Self::Remote(Box::new(Remote::open(name, url, &declaration.allowed, network)?))
            }
        })
    }

    /// Whether a declaration names a folder, so that nobody is asked over a network.
    pub fn is_local(declaration: &RegistryDeclaration) -> bool {
        Location::of(&declaration.url).is_path()
    }

    /// Whether it is at a place that only this machine or its network reaches.
    pub fn is_inside(&self) -> bool {
        match self {
            Self::Kept(kept) => kept.is_near(),
            Self::Remote(remote) => remote.is_inside(),
            Self::Oci(oci) => oci.is_inside(),
            Self::Mirrored(mirrored) => mirrored.itself().is_ok_and(|itself| itself.is_inside()),
        }
    }

    /// The name that the registry gives itself.
    pub fn name(&self) -> &str {
        match self {
            Self::Kept(kept) => kept.name(),
            Self::Remote(remote) => remote.name(),
            Self::Oci(oci) => oci.name(),
            Self::Mirrored(mirrored) => mirrored.name(),
        }
    }

    /// The facets that the registry defines.
    pub fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        match self {
            Self::Kept(kept) => kept.facets(),
            Self::Remote(remote) => remote.facets(),
            Self::Oci(oci) => oci.facets(),
            Self::Mirrored(mirrored) => mirrored.facets(),
        }
    }

    /// The facets that everybody knows who uses this registry: those that it defines and those that are built in.
    pub fn all_facets(&self) -> Facets {
        with_built_in(self.facets())
    }

    /// The history of a package as it was at a time; `None` if the registry doesn't hold the name.
    pub fn history_until(
        &self,
        package: &PackageName,
        until: Option<Timestamp>,
    ) -> Result<Option<History>, RegistryError> {
        match self {
            Self::Kept(kept) => kept.history_until(package, until),
            Self::Remote(remote) => remote.history_until(package, until),
            Self::Oci(oci) => oci.history_until(package, until),
            Self::Mirrored(mirrored) => mirrored.ask(|source| source.history_until(package, until)),
        }
    }

    /// The history of a package as it was a moment ago, or is now: for what a registry decides itself in the end.
    pub fn history_of_late(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        match self {
            Self::Kept(kept) => kept.history_of_late(package),
            other => other.history_until(package, None),
        }
    }

    /// The history of a package as it was at a time, once what was seen of it before is found in it again; `None` if the
    /// registry doesn't hold the name.
    pub fn history_seen(
        &self,
        package: &PackageName,
        until: Option<Timestamp>,
        seen: &SeenHistories,
    ) -> Result<Option<History>, RegistryError> {
        let text = match self {
            Self::Mirrored(mirrored) => mirrored.text_seen(package, seen)?,
            one => one.text_seen(package, seen)?,
        };
        text.map(|text| read_history(package, &text, until, || self.place_of(package))).transpose()
    }

    /// The lines of a package's history of one place, held against what was seen of it before.
    pub(crate) fn text_seen(
        &self,
        package: &PackageName,
        seen: &SeenHistories,
    ) -> Result<Option<String>, RegistryError> {
        let text = match self {
            Self::Remote(remote) => remote.current_text(package)?,
            other => other.history_text(package)?,
        };
        let order = if matches!(self, Self::Oci(_)) { Order::Any } else { Order::Kept };
        seen.check(package, text.as_deref(), order)?;
        Ok(text)
    }

    /// Where the history of a package is, for messages.
    fn place_of(&self, package: &PackageName) -> PathBuf {
        match self {
            Self::Kept(kept) => kept.place(),
            Self::Remote(remote) => remote.place_of(package),
            Self::Oci(oci) => oci.place_of(package),
            Self::Mirrored(mirrored) => PathBuf::from(mirrored.url()),
        }
    }

    /// How many places may have an archive: the registry and its mirrors.
    pub fn places(&self) -> usize {
        if let Self::Mirrored(mirrored) = self { mirrored.places() } else { 1 }
    }

    /// Opens an archive of a package from a byte on, at one of the places that may have it, numbered from 0, with who that is
    /// where there are several; its bytes are yet to be checked.
    pub fn open_archive(
        &self,
        package: &PackageName,
        archive: &Archive,
        place: usize,
        from: u64,
    ) -> Result<(Box<dyn Read + Send>, Option<String>), RegistryError> {
        let opened = match self {
            Self::Mirrored(mirrored) => {
                let (url, source) = mirrored.quickest(place);
                let (bytes, _) = source?.open_archive(package, archive, 0, from)?;
                return Ok((bytes, Some(url)));
            }
            Self::Kept(kept) if from > 0 => kept.read_file(&archive.sha256, from..archive.size)?,
            Self::Kept(kept) => kept.open_file(&archive.sha256)?,
            Self::Remote(remote) => remote.open_archive(archive, from)?,
            Self::Oci(oci) => oci.open_archive(package, archive, from)?,
        };
        Ok((opened, None))
    }

    /// Opens an archive of a package at the first place that gives it; its bytes are yet to be checked.
    pub fn open_archive_anywhere(
        &self,
        package: &PackageName,
        archive: &Archive,
    ) -> Result<Box<dyn Read + Send>, RegistryError> {
        let mut failed = None;
        for place in 0..self.places() {
            match self.open_archive(package, archive, place, 0) {
                Ok((bytes, _)) => return Ok(bytes),
                Err(error) => failed = failed.or(Some(error)),
            }
        }
        Err(failed.unwrap_or(RegistryError::NoMirrorAnswers))
    }

    /// The text of a package's card; an error if nobody has the one of this digest.
    pub fn card_text(&self, package: &PackageName, digest: &Digest) -> Result<String, RegistryError> {
        let text = match self {
            Self::Remote(remote) => remote.card_text(digest).map(Some),
            Self::Kept(kept) => kept.card_text(digest),
            Self::Oci(oci) => oci.card_text(package, digest),
            Self::Mirrored(mirrored) => {
                return mirrored.ask_quickest(|source| source.card_text(package, digest));
            }
        };
        let text = text?.filter(|text| Digest::of(text.as_bytes()) == *digest);
        text.ok_or_else(|| RegistryError::WrongCard { package: package.clone(), digest: *digest })
    }

    /// The whole lines of a package's history; `None` if the registry doesn't hold the name.
    pub fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        match self {
            Self::Kept(kept) => kept.history_text(package),
            Self::Remote(remote) => remote.history_text(package),
            Self::Oci(oci) => oci.history_text(package),
            Self::Mirrored(mirrored) => mirrored.ask(|source| source.history_text(package)),
        }
    }

    /// The names of all packages and capabilities.
    pub fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        match self {
            Self::Kept(kept) => kept.names(),
            Self::Remote(remote) => Ok(remote.listed_names()?.into_keys().collect()),
            Self::Oci(oci) => oci.listed(),
            Self::Mirrored(mirrored) => mirrored.ask(Self::listed),
        }
    }

    /// Changes how releases of a package stand; whether it was so already. A server has a clock of its own.
    pub fn change(&self, name: &PackageName, change: &Change, now: Timestamp) -> Result<bool, RegistryError> {
        match self {
            Self::Kept(kept) => change.make(&**kept, name, now),
            Self::Remote(remote) => remote.change(name, change),
            Self::Oci(oci) => oci.change(name, change, now),
            Self::Mirrored(mirrored) => mirrored.itself()?.change(name, change, now),
        }
    }

    /// The names of all packages, as far as they can be had at once; for suggestions, not for work.
    pub fn names(&self) -> Vec<PackageName> {
        // Where the list can't be had, there is nothing to suggest.
        self.listed().unwrap_or_default()
    }

    /// Finds packages by words, and says which of their releases fit; what makes searching fast is kept below `cache`.
    pub fn find(
        &self,
        query: &Query,
        facets: &Facets,
        cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError> {
        match self {
            Self::Kept(kept) => {
                let place = std::path::absolute(kept.place()).unwrap_or_else(|_| kept.place());
                let place = Digest::of(place.as_os_str().as_encoded_bytes());
                Searcher::new(Arc::clone(kept), cache.join(place.to_string()).join("names.sqlite"))
                    .find(query, facets, now)
            }
            Self::Remote(remote) => remote.find(query, facets, now),
            Self::Oci(oci) => oci.find(query, facets, cache, now),
            Self::Mirrored(mirrored) => mirrored.ask(|source| source.find(query, facets, cache, now)),
        }
    }

    /// Whether it is asked over a network, where many questions at once are better than one after the other.
    pub fn is_remote(&self) -> bool {
        !matches!(self, Self::Kept(_))
    }

    /// Asks at once for all that these needs can reach, where that is one question instead of many.
    pub fn prefetch_closure(&self, needs: &[(PackageName, Range)]) {
        match self {
            Self::Kept(_) | Self::Oci(_) => {}
            Self::Remote(remote) => remote.prefetch_closure(needs),
            Self::Mirrored(mirrored) => mirrored.prefetch_closure(needs),
        }
    }

    /// Where each mirror stands with a package.
    pub fn standings(&self, package: &PackageName) -> Vec<Standing> {
        match self {
            Self::Mirrored(mirrored) => mirrored.standings(package),
            Self::Kept(_) | Self::Remote(_) | Self::Oci(_) => Vec::new(),
        }
    }

    /// What would open it for publishing, and whether it does; `None` where there is nothing, or nothing is wanted.
    pub fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        match self {
            Self::Kept(_) => Ok(None),
            Self::Remote(remote) => remote.opening(),
            Self::Oci(oci) => oci.opening(),
            Self::Mirrored(mirrored) => mirrored.itself()?.opening(),
        }
    }

    /// What people should know of who answers for the registry of this name.
    pub fn heed(&self, registry: &RegistryName) -> Option<String> {
        match self {
            Self::Mirrored(mirrored) => mirrored.heed(registry.as_str()),
            Self::Kept(_) | Self::Remote(_) | Self::Oci(_) => None,
        }
    }
}
