//! Packages as far as this machine knows them. An answer to an editor never waits for a network: what isn't known yet is fetched in the
//! background, for the next question.

use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, Weak};

use bibliotax_app::diagnose::Diagnosis;
use bibliotax_app::workspace::ProjectWords;
use bibliotax_core::card::Card;
use bibliotax_core::facet::{Facets, Target};
use bibliotax_core::fitting::newest;
use bibliotax_core::history::Release;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Catalogue, Listing};
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::registries::Registries;
use crossbeam_channel::{Receiver, Sender};

use crate::guard::locked;

/// What is known of a workspace.
pub struct Knowledge {
    /// The workspace with what is wrong, as its texts were then.
    pub diagnosis: Diagnosis,
    fetches: Sender<Fetch>,
    /// What was sent to be fetched; once is enough.
    fetched: Mutex<BTreeSet<(PackageName, Option<Version>)>>,
}

/// A package to ask the registries of a workspace for, and the release whose card is wanted: the newest if none is named.
pub struct Fetch {
    /// Gone once more is known of the workspace, so that nobody waits for this any more.
    registries: Weak<Registries>,
    package: PackageName,
    version: Option<Version>,
}

impl Knowledge {
    /// What a run found out, with where to send what has to be fetched.
    pub fn new(diagnosis: Diagnosis, fetches: Sender<Fetch>) -> Self {
        Self { diagnosis, fetches, fetched: Mutex::default() }
    }

    /// The registries without a network; `None` where they couldn't be opened.
    pub fn registries(&self) -> Option<&Registries> {
        Some(&*self.diagnosis.registries.as_ref()?.cached)
    }

    /// The facets that the workspace and its registries define.
    pub fn facets(&self) -> Arc<Facets> {
        self.registries().map(Catalogue::facets).unwrap_or_default()
    }

    /// The releases of a package.
    pub fn listing(&self, package: &PackageName) -> Option<Arc<Listing>> {
        self.registries()?.listing(package).unwrap_or_else(|_| {
            self.fetch(package, None);
            None
        })
    }

    /// The card of a release.
    pub fn card(&self, listing: &Listing, release: &Release) -> Option<Card> {
        let card = self.registries()?.card(listing, release);
        if card.is_err() {
            self.fetch(&release.entry.name, Some(&release.entry.version));
        }
        card.ok()
    }

    /// Whether more may be known a moment later.
    pub fn is_fetching(&self) -> bool {
        !locked(&self.fetched).is_empty()
    }

    /// Where releases have to fit: the targets of the workspace, and what its projects promise.
    pub fn places(&self) -> Vec<Target> {
        self.diagnosis.workspace.places(&ProjectWords::default(), &[]).unwrap_or_default()
    }

    fn fetch(&self, package: &PackageName, version: Option<&Version>) {
        let Some(registries) = &self.diagnosis.registries else { return };
        if locked(&self.fetched).insert((package.clone(), version.cloned())) {
            let registries = Arc::downgrade(&registries.asked);
            let (package, version) = (package.clone(), version.cloned());
            // The thread that takes it lives as long as the server.
            let _ = self.fetches.send(Fetch { registries, package, version });
        }
    }
}

/// Fetches until nobody asks any more. What comes is kept in the store, where answers find it.
pub fn fetch_all(fetches: &Receiver<Fetch>) {
    for Fetch { registries, package, version } in fetches {
        let Some(registries) = registries.upgrade() else { continue };
        // What can't be reached is reported by the next run.
        let Ok(Some(listing)) = registries.listing(&package) else { continue };
        let wanted = version.and_then(|version| listing.history.release(&version));
        if let Some(release) = wanted.or_else(|| newest(listing.history.releases())) {
            let _ = registries.card(&listing, release);
        }
    }
}
