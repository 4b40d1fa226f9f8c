//! A registry of any kind: in a folder, a bucket, behind HTTP, in a container registry, with mirrors.

mod containers;
mod local;
pub mod mirrored;
mod remote;
mod unreached;

use std::collections::BTreeMap;
use std::io::Read;
use std::ops::Deref;
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

use self::local::Local;
use self::mirrored::{MirrorStatus, Mirrored};
use crate::catalogue::seen_histories::{Order, SeenHistories};
use crate::client::http::Remote;
use crate::client::network::Network;
use crate::client::oci::Oci;
use crate::model::error::RegistryError;
use crate::model::names::Named;
use crate::model::release_status::Change;
use crate::model::storage::{RegistryStorage, read_history, with_built_in};
use crate::search::{Found, Query};
use crate::storage::folder::Folder;

/// An archive that is opened, with who gives it where there are several.
pub type OpenedArchive = (Box<dyn Read + Send>, Option<String>);

/// What a registry of any kind can do.
pub trait RegistryKind: Send + Sync {
    /// The name that the registry gives itself.
    fn name(&self) -> &str;

    /// The facets that the registry defines.
    fn facets(&self) -> &BTreeMap<FacetName, Facet>;

    /// Whether it is at a place that only this machine or its network reaches.
    fn is_inside(&self) -> bool;

    /// Whether it is asked over a network, where many questions at once are better than one after the other.
    fn is_remote(&self) -> bool {
        true
    }

    /// Where the history of a package is, for messages.
    fn place_of(&self, package: &PackageName) -> PathBuf;

    /// The whole lines of a package's history; `None` if the registry doesn't hold the name.
    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError>;

    /// The history of a package; `None` if the registry doesn't hold the name.
    fn history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        let text = self.history_text(package)?;
        text.map(|text| read_history(package, &text, None, || self.place_of(package))).transpose()
    }

    /// The history of a package as it was a moment ago, or is now: for what a registry decides itself in the end.
    fn recent_history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        self.history(package)
    }

    /// The lines of a package's history, compared with what was seen of it before.
    fn text_seen(
        &self,
        package: &PackageName,
        seen: &SeenHistories,
    ) -> Result<Option<String>, RegistryError> {
        let text = self.history_text(package)?;
        seen.check(package, text.as_deref(), Order::Kept)?;
        Ok(text)
    }

    /// The text of a package's card; `None` if there is no such card.
    fn card_text(&self, package: &PackageName, digest: &Digest) -> Result<Option<String>, RegistryError>;

    /// How many places may have an archive: the registry and its mirrors.
    fn places(&self) -> usize {
        1
    }

    /// Opens an archive of a package from a byte on, at one of the places that may have it, numbered from 0; its bytes are yet to
    /// be checked.
    fn open_archive(
        &self,
        package: &PackageName,
        archive: &Archive,
        place: usize,
        from: u64,
    ) -> Result<OpenedArchive, RegistryError>;

    /// The names of all packages and capabilities.
    fn listed(&self) -> Result<Vec<PackageName>, RegistryError>;

    /// Finds packages by words, and says which of their releases fit; what makes searching fast is kept below `cache`.
    fn find(
        &self,
        query: &Query,
        facets: &Facets,
        cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError>;

    /// What is known of the packages whose names begin with a text, at once and also without a network, as far as their names were
    /// ever read; what makes that fast is kept below `cache`.
    fn beginning_with(&self, text: &str, most: usize, _cache: &Path) -> Result<Vec<Named>, RegistryError> {
        let names = self.listed()?.into_iter().filter(|name| name.as_str().starts_with(text));
        Ok(names.take(most).map(Named::only).collect())
    }

    /// Brings what makes that fast up to date, where that takes a question over a network.
    fn follow_names(&self) {}

    /// Changes how releases of a package stand; whether it was so already. A server has a clock of its own.
    fn change(&self, name: &PackageName, change: &Change, now: Timestamp) -> Result<bool, RegistryError>;

    /// Where releases are published to it.
    fn publisher(&self) -> Result<Publisher, RegistryError>;

    /// Asks at once for all that these needs can reach, where that is one question instead of many.
    fn prefetch_closure(&self, _: &[(PackageName, Range)]) {}

    /// Where each mirror stands with a package.
    fn mirror_statuses(&self, _: &PackageName) -> Vec<MirrorStatus> {
        Vec::new()
    }

    /// What would open it for publishing, and whether it does; `None` where there is nothing, or nothing is wanted.
    fn opening(&self) -> Result<Option<(String, bool)>, RegistryError>;

    /// What people should know of who answers for the registry of this name.
    fn warning(&self, _: &RegistryName) -> Option<String> {
        None
    }
}

/// Where releases are published.
pub enum Publisher {
    /// Into files that can be written.
    Storage(Arc<dyn RegistryStorage>),
    /// To a server.
    Server(Box<Remote>),
    /// Into a registry of containers.
    Containers(Box<Oci>),
}

/// A registry, wherever it is.
#[derive(Clone)]
pub struct Registry(Arc<dyn RegistryKind>);

impl Deref for Registry {
    type Target = dyn RegistryKind;

    fn deref(&self) -> &Self::Target {
        &*self.0
    }
}

impl Registry {
    /// Opens the registry that a manifest in `project` declares.
    pub fn open(
        declaration: &RegistryDeclaration,
        project: &Path,
        network: &Network,
    ) -> Result<Self, RegistryError> {
        let RegistryDeclaration { name, url, allowed, .. } = declaration;
        if !declaration.mirrors.is_empty() {
            return Ok(Self(Arc::new(Mirrored::open(declaration, project, network)?)));
        }
        Ok(match Location::of(url) {
            Location::Relative(path) | Location::Absolute(path) => {
                Self::of_storage(Arc::new(Folder::open(&project.join(&*path))?))
            }
            Location::Url { scheme: "oci", .. } => Self(Arc::new(Oci::open(name, url, allowed, network)?)),
            Location::Url { .. } | Location::OnHost { .. } => {
                Self(Arc::new(Remote::open(name, url, allowed, network)?))
            }
        })
    }

    fn of_kind(kind: impl RegistryKind + 'static) -> Self {
        Self(Arc::new(kind))
    }

    /// The registry whose files are there.
    pub fn of_storage(storage: Arc<dyn RegistryStorage>) -> Self {
        Self(Arc::new(Local(storage)))
    }

    /// Whether a declaration names a folder, so that nobody is asked over a network.
    pub fn is_local(declaration: &RegistryDeclaration) -> bool {
        Location::of(&declaration.url).is_path()
    }

    /// The facets that everybody knows who uses this registry: those that it defines and those that are built in.
    pub fn all_facets(&self) -> Facets {
        with_built_in(self.facets())
    }

    /// The history of a package as it was at a time, once what was seen of it before is found in it again; `None` if the
    /// registry doesn't hold the name.
    pub fn history_seen(
        &self,
        package: &PackageName,
        until: Option<Timestamp>,
        seen: &SeenHistories,
    ) -> Result<Option<History>, RegistryError> {
        let text = self.text_seen(package, seen)?;
        text.map(|text| read_history(package, &text, until, || self.place_of(package))).transpose()
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
        let text = self.0.card_text(package, digest)?;
        let text = text.filter(|text| Digest::of(text.as_bytes()) == *digest);
        text.ok_or_else(|| RegistryError::WrongCard { package: package.clone(), digest: *digest })
    }

    /// The names of all packages, as far as they can be had at once; for suggestions, not for work.
    pub fn names(&self) -> Vec<PackageName> {
        // Where the list can't be had, there is nothing to suggest.
        self.listed().unwrap_or_default()
    }
}
