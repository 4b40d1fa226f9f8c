//! Advisories from the feeds that a workspace names: folders of OSV records, archives of them, and single records.
//!
//! Each feed is read once into an index in the store and again only when it changed. `feed` brings a feed to this machine, `records`
//! goes through what is in it, `index` finds the records about a package.

mod commits;
mod feed;
mod index;
mod records;
#[cfg(test)]
mod tests;

use std::path::Path;
use std::sync::{Arc, OnceLock};

use bibliotax_core::advisory::{Advisory, Affecting, Key, affecting, keys_of_release};
use bibliotax_core::resolve::Listing;
use bibliotax_core::workspace::Workspace;
use rayon::prelude::*;

use self::commits::Commits;
use self::feed::Feed;
pub use self::feed::FeedStatus;
use self::index::Index;
use crate::client::network::Network;
use crate::model::error::RegistryError;
use crate::sources::direct_sources::DirectSources;

/// The advisories of a workspace's feeds.
#[derive(Clone, Default)]
pub struct Advisories {
    feeds: Vec<Arc<Opened>>,
}

/// A feed, opened when something is first asked of it.
struct Opened {
    feed: Feed,
    index: OnceLock<Result<Option<Index>, String>>,
}

impl Advisories {
    /// The feeds that a workspace in `root` names; none is looked at yet. With `asks_anew`, servers are asked again even if they
    /// answered a while ago.
    pub fn of(workspace: &Workspace, root: &Path, network: &Network) -> Self {
        let feeds = workspace.rules.feeds.places.iter();
        let feeds = feeds.map(|feed| {
            Arc::new(Opened { feed: Feed::new(&feed.place, root, network), index: OnceLock::new() })
        });
        Self { feeds: feeds.collect() }
    }

    /// Whether there are no feeds.
    pub fn is_empty(&self) -> bool {
        self.feeds.is_empty()
    }

    /// What affects which releases of a package.
    pub(crate) fn affecting(
        &self,
        listing: &Listing,
        sources: &DirectSources,
    ) -> Result<Arc<[Affecting]>, RegistryError> {
        if self.is_empty() {
            return Ok(Arc::default());
        }
        let releases: Vec<_> = listing.sourced_releases().collect();
        let keys = releases
            .iter()
            .flat_map(|(release, source)| keys_of_release(&release.entry.name, &release.entry, source));
        let mut keys: Vec<Key> = keys.collect();
        keys.sort_unstable();
        keys.dedup();
        let mut records: Vec<Arc<Advisory>> = Vec::new();
        for feed in &self.feeds {
            if let Some(index) = feed.index() {
                let found = index.records(&keys).map_err(|error| feed.feed.broken(&error))?;
                records.extend(found.into_iter().map(Arc::new));
            }
        }
        // A record that several feeds have is one; the latest counts.
        records.sort_by(|a, b| a.id.cmp(&b.id).then_with(|| b.modified.cmp(&a.modified)));
        records.dedup_by(|later, first| later.id == first.id);
        if records.is_empty() {
            return Ok(Arc::default());
        }
        Ok(affecting(&releases, &records, &Commits::of(&releases, sources)).into())
    }

    /// The record of this name, in any feed.
    pub fn named(&self, name: &str) -> Option<Advisory> {
        self.feeds.iter().find_map(|feed| feed.index()?.named(name).ok().flatten())
    }

    /// What people should know of the feeds that were looked at.
    pub fn warnings(&self) -> Vec<String> {
        let of_one = |opened: &Arc<Opened>| {
            let (place, index) = (opened.feed.place(), opened.index.get()?);
            match (index, opened.feed.trouble()) {
                (Err(why), _) => Some(format!("the feed {place} can't be read: {why}")),
                (Ok(None), why) => {
                    let why = why.map(|why| format!(": {why}")).unwrap_or_default();
                    Some(format!("nothing is known of the advisories of {place}{why}"))
                }
                (Ok(Some(_)), Some(why)) => {
                    let since = opened.feed.kept().map(|kept| kept.confirmed.to_string()).unwrap_or_default();
                    Some(format!("the advisories of {place} are those of {since}: {why}"))
                }
                (Ok(Some(_)), None) => None,
            }
        };
        self.feeds.iter().filter_map(of_one).collect()
    }

    /// How each feed stands; all are read for it.
    pub fn statuses(&self) -> Vec<FeedStatus> {
        self.feeds
            .par_iter()
            .map(|opened| {
                let index = opened.index();
                let away = opened.index.get().and_then(|index| index.as_ref().err().cloned());
                let (records, faults) = index.map(Index::summary).unwrap_or_default();
                let kept = opened.feed.kept();
                FeedStatus {
                    place: opened.feed.place().to_owned(),
                    records,
                    faults,
                    fetched: kept.as_ref().map(|kept| kept.confirmed),
                    away: away.or_else(|| opened.feed.trouble()),
                    is_known: index.is_some(),
                }
            })
            .collect()
    }
}

/// Why a feed can't be read, for a sentence that names the feed itself.
fn reason(error: &RegistryError) -> String {
    match error {
        RegistryError::Feed { message, .. } => message.clone(),
        error => error.to_string(),
    }
}

impl Opened {
    /// The index of the feed; `None` where nothing of it is known.
    fn index(&self) -> Option<&Index> {
        let opened = self.index.get_or_init(|| self.feed.index().map_err(|error| reason(&error)));
        opened.as_ref().ok().and_then(Option::as_ref)
    }
}
