//! Every source that has a package, compared.

use bibliotax_core::card::Card;
use bibliotax_core::fitting::newest;
use bibliotax_core::history::{History, Release};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Listing;
use bibliotax_core::version::Version;
use jiff::Timestamp;
use rayon::prelude::*;

use crate::catalogue::registries::{Declared, Registries};
use crate::catalogue::upstream_releases::Upstream;
use crate::model::error::RegistryError;

/// A place that has a package.
#[derive(Debug, Clone)]
pub struct At {
    /// What it is called: a registry's name, or where it is.
    pub place: String,
    /// Whether the package is taken from here.
    pub is_taken: bool,
    /// Its newest release, or why that is unknown.
    pub newest: Result<Newest, String>,
}

/// The newest release that a place has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Newest {
    /// Its version.
    pub version: Version,
    /// When it was published, or its commit made; nothing where nobody says.
    pub published: Option<Timestamp>,
}

/// The newest version that any of these places has.
pub fn newest_of_all(places: &[At]) -> Option<&Version> {
    places.iter().filter_map(|at| at.newest.as_ref().ok()).map(|newest| &newest.version).max()
}

impl Registries {
    /// All places that have a package: registries, what manifests declare, the git repository that its card names, and where its card
    /// says that upstream's releases appear.
    pub fn all_sources(&self, package: &PackageName, card: Option<&Card>) -> Vec<At> {
        let taken = self.listing_of(package);
        let in_registry = |declared: &Declared| {
            let is_taken =
                taken.as_ref().is_some_and(|listing| listing.source.registry() == Some(&declared.name));
            let newest = match declared.history(package, None) {
                Ok(None) => return None,
                Ok(Some(history)) => of_history(&history)?,
                Err(error) => Err(error.to_string()),
            };
            Some(At { place: declared.name.to_string(), is_taken, newest })
        };
        let mut all: Vec<At> = self.declared().par_iter().filter_map(in_registry).collect();
        all.extend(
            taken
                .filter(|listing| listing.source.registry().is_none())
                .and_then(|listing| of_listing(&listing)),
        );
        let upstream = card.and_then(|card| self.upstream_of(card));
        if upstream.is_none() {
            all.extend(self.in_repository(package, card.and_then(|card| card.repository.as_deref())));
        }
        all.extend(upstream);
        all
    }

    /// The newest release of upstream, where a card says that they appear.
    pub fn upstream_of(&self, card: &Card) -> Option<At> {
        let follow = card.follow.as_ref()?;
        let upstream = Upstream { sources: self.elsewhere(), is_inside: self.is_inside(&card.name) };
        let newest = upstream.releases(card, follow).map_err(|error| shown(&error));
        let newest = newest.and_then(|releases| {
            let newest = releases.into_iter().next_back().ok_or("none of its releases is final")?;
            Ok(Newest { version: newest.version, published: newest.at })
        });
        Some(At { place: format!("upstream, {}", follow.place.url()), is_taken: false, newest })
    }

    /// Whether the registry that a package comes from is at a place that only this machine or its network reaches.
    fn is_inside(&self, package: &PackageName) -> bool {
        let listing = self.listing_of(package);
        let source = listing.as_ref().and_then(|listing| listing.source.registry());
        self.declared().iter().any(|declared| Some(&declared.name) == source && declared.source.is_inside())
    }

    /// The newest release by the tags of a repository: the one that a need declares, else the one that a card names.
    fn in_repository(&self, package: &PackageName, repository: Option<&str>) -> Option<At> {
        let elsewhere = self.elsewhere();
        let (place, newest) = match (elsewhere.repository_of(package), repository) {
            (Some(place), _) => (place.clone(), elsewhere.newest_of(package, &place)),
            // What a card says is followed only over the network's safe ways.
            (None, Some(url)) if url.starts_with("https://") && url.ends_with(".git") => {
                (url.to_owned(), elsewhere.newest_of(package, url))
            }
            _ => return None,
        };
        match newest {
            Ok(None) => None,
            Ok(Some((version, published))) => {
                let newest = Ok(Newest { version, published: Some(published) });
                Some(At { place: format!("tags of {place}"), is_taken: false, newest })
            }
            Err(error) => {
                Some(At { place: format!("tags of {place}"), is_taken: false, newest: Err(shown(&error)) })
            }
        }
    }
}

fn of_listing(listing: &Listing) -> Option<At> {
    let newest = of_history(&listing.history)?;
    Some(At { place: listing.source.to_string(), is_taken: true, newest })
}

fn of_history(history: &History) -> Option<Result<Newest, String>> {
    let of_release = |release: &Release| {
        let entry = &release.entry;
        Newest { version: entry.version.clone(), published: entry.dated() }
    };
    newest(history.releases()).map(|release| Ok(of_release(release)))
}

fn shown(error: &RegistryError) -> String {
    match error {
        RegistryError::Git { what, .. } | RegistryError::NoCommit { what, .. } => what.clone(),
        error => error.to_string(),
    }
}
