//! A registry with mirrors: histories from the registry itself while it answers, files from the fastest.
//!
//! All are opened at once. What is newest is known to the registry alone, so histories come from a mirror only where the
//! registry doesn't answer; files have digests that everybody checks, so they may come from anywhere.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::{Facet, Facets};
use bibliotax_core::manifest::RegistryDeclaration;
use bibliotax_core::name::{FacetName, PackageName, RegistryName};
use bibliotax_core::range::Range;
use jiff::Timestamp;

use crate::catalogue::registry::{OpenedArchive, Publisher, Registry, RegistryKind};
use crate::catalogue::seen_histories::SeenHistories;
use crate::client::network::Network;
use crate::model::error::RegistryError;
use crate::model::names::Named;
use crate::model::release_status::Change;
use crate::search::{Found, Query};

/// How much longer than its quickest mirror the registry may take.
const GRACE_PERIOD: Duration = Duration::from_secs(3);

/// A registry with its mirrors.
pub struct Mirrored {
    urls: Vec<String>,
    name: String,
    facets: BTreeMap<FacetName, Facet>,
    places: Arc<Places>,
    /// The place that is asked; the registry itself is the first.
    leading: AtomicUsize,
    /// The mirrors that answered in place of the registry.
    answering: Mutex<BTreeSet<usize>>,
    /// The place that answered first.
    quickest: usize,
}

/// The places as far as they are opened.
struct Places {
    opened: Mutex<Vec<Opening>>,
    changed: Condvar,
}

enum Opening {
    UnderWay,
    Open(Registry),
    /// Why it couldn't be opened; nothing once that was reported.
    Failed(Option<RegistryError>),
}

/// Where a mirror stands with a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MirrorStatus {
    /// The mirror.
    pub url: String,
    /// How it stands.
    pub lag: Lag,
}

/// How a mirror stands with a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lag {
    /// It has all that the registry has.
    None,
    /// It lacks so many events, the first of which happened then.
    Behind(usize, Option<Timestamp>),
    /// It doesn't have the package at all.
    Missing,
    /// It has something else than the registry.
    Other,
    /// It can't be asked.
    Away,
}

impl Mirrored {
    /// Opens a registry and its mirrors, all at once.
    pub fn open(
        declaration: &RegistryDeclaration,
        project: &Path,
        network: &Network,
    ) -> Result<Self, RegistryError> {
        let urls: Vec<String> = [&declaration.url].into_iter().chain(&declaration.mirrors).cloned().collect();
        let opened = Mutex::new(urls.iter().map(|_| Opening::UnderWay).collect());
        let places = Arc::new(Places { opened, changed: Condvar::new() });
        for (number, url) in urls.iter().enumerate() {
            let declaration =
                RegistryDeclaration { url: url.clone(), mirrors: Vec::new(), ..declaration.clone() };
            let (places, project, network) = (Arc::clone(&places), project.to_owned(), network.clone());
            thread::spawn(move || {
                let opening = match Registry::open(&declaration, &project, &network) {
                    Ok(source) => Opening::Open(source),
                    Err(error) => Opening::Failed(Some(error)),
                };
                places.lock()[number] = opening;
                places.changed.notify_all();
            });
        }
        let (leading, quickest) = places.first_that_answers()?;
        let source = places.wait_for(leading)?;
        let (name, facets) = (source.name().to_owned(), source.facets().clone());
        let answering = Mutex::new((leading > 0).then_some(leading).into_iter().collect());
        Ok(Self { urls, name, facets, places, leading: AtomicUsize::new(leading), answering, quickest })
    }

    /// Asks the registry, or a mirror where it can't be reached.
    pub fn ask<T>(&self, ask: impl Fn(&Registry) -> Result<T, RegistryError>) -> Result<T, RegistryError> {
        let leading = self.leading.load(Ordering::Relaxed);
        let error = match ask(&self.places.wait_for(leading)?) {
            Err(error @ RegistryError::Unreachable { .. }) => error,
            answer => return answer,
        };
        for other in (0..self.urls.len()).filter(|other| *other != leading) {
            if let Ok(answer) = self.places.wait_for(other).and_then(|source| ask(&source)) {
                self.lead(other);
                return Ok(answer);
            }
        }
        Err(error)
    }

    /// The registry itself, for what no mirror can do.
    pub fn itself(&self) -> Result<Registry, RegistryError> {
        self.places.wait_for(0)
    }

    /// The place with this number, of which the quickest has 0, with where it is.
    pub fn quickest(&self, number: usize) -> (String, Result<Registry, RegistryError>) {
        let rest = (0..self.urls.len()).filter(|place| *place != self.quickest);
        let place = [self.quickest].into_iter().chain(rest).nth(number).unwrap_or(0);
        (self.urls[place].clone(), self.places.wait_for(place))
    }

    /// Asks the fastest mirror for something that is checked here, or the first that has it.
    pub fn ask_quickest<T>(
        &self,
        ask: impl Fn(&Registry) -> Result<T, RegistryError>,
    ) -> Result<T, RegistryError> {
        let mut failed = None;
        for (_, source) in (0..self.urls.len()).map(|number| self.quickest(number)) {
            match source.and_then(|source| ask(&source)) {
                Ok(answer) => return Ok(answer),
                Err(error) => failed = failed.or(Some(error)),
            }
        }
        Err(failed.unwrap_or_else(|| self.places.failure(0)))
    }

    /// Asks a place from now on.
    fn lead(&self, place: usize) {
        self.leading.store(place, Ordering::Relaxed);
        if place > 0 {
            self.answering.lock().unwrap_or_else(PoisonError::into_inner).insert(place);
        }
    }
}

impl RegistryKind for Mirrored {
    fn name(&self) -> &str {
        &self.name
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.facets
    }

    fn is_inside(&self) -> bool {
        self.itself().is_ok_and(|itself| itself.is_inside())
    }

    fn place_of(&self, _: &PackageName) -> PathBuf {
        PathBuf::from(&self.urls[0])
    }

    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        self.ask(|source| source.history_text(package))
    }

    /// Of the registry, or of a mirror that has all that was seen where the registry can't be reached.
    fn text_seen(
        &self,
        package: &PackageName,
        seen: &SeenHistories,
    ) -> Result<Option<String>, RegistryError> {
        let leading = self.leading.load(Ordering::Relaxed);
        let rest = (0..self.urls.len()).filter(|place| *place != leading);
        let mut failed: Option<RegistryError> = None;
        for place in [leading].into_iter().chain(rest) {
            let error = match self.places.wait_for(place).and_then(|source| source.text_seen(package, seen)) {
                Ok(text) => {
                    self.lead(place);
                    return Ok(text);
                }
                // What a mirror lacks says nothing of the registry.
                Err(RegistryError::ChangedHistory { registry, package, .. }) if place > 0 => {
                    RegistryError::MirrorBehind { registry, url: self.urls[place].clone(), package }
                }
                Err(error @ (RegistryError::Unreachable { .. } | RegistryError::NoMirrorAnswers)) => error,
                Err(error) if place == 0 => return Err(error),
                Err(error) => error,
            };
            let is_telling = matches!(error, RegistryError::MirrorBehind { .. });
            failed = if is_telling { Some(error) } else { failed.or(Some(error)) };
        }
        Err(failed.unwrap_or(RegistryError::NoMirrorAnswers))
    }

    fn card_text(&self, package: &PackageName, digest: &Digest) -> Result<Option<String>, RegistryError> {
        self.ask_quickest(|source| source.card_text(package, digest)).map(Some)
    }

    fn places(&self) -> usize {
        self.urls.len()
    }

    fn open_archive(
        &self,
        package: &PackageName,
        archive: &Archive,
        place: usize,
        from: u64,
    ) -> Result<OpenedArchive, RegistryError> {
        let (url, source) = self.quickest(place);
        let (bytes, _) = source?.open_archive(package, archive, 0, from)?;
        Ok((bytes, Some(url)))
    }

    fn listed(&self) -> Result<Vec<PackageName>, RegistryError> {
        self.ask(|source| source.listed())
    }

    fn find(
        &self,
        query: &Query,
        facets: &Facets,
        cache: &Path,
        now: Timestamp,
    ) -> Result<Found, RegistryError> {
        self.ask(|source| source.find(query, facets, cache, now))
    }

    fn beginning_with(&self, text: &str, most: usize, cache: &Path) -> Result<Vec<Named>, RegistryError> {
        self.ask(|source| source.beginning_with(text, most, cache))
    }

    fn follow_names(&self) {
        let _ = self.ask(|source| {
            source.follow_names();
            Ok(())
        });
    }

    fn change(&self, name: &PackageName, change: &Change, now: Timestamp) -> Result<bool, RegistryError> {
        self.itself()?.change(name, change, now)
    }

    fn publisher(&self) -> Result<Publisher, RegistryError> {
        self.itself()?.publisher()
    }

    fn prefetch_closure(&self, needs: &[(PackageName, Range)]) {
        if let Ok(source) = self.places.wait_for(self.leading.load(Ordering::Relaxed)) {
            source.prefetch_closure(needs);
        }
    }

    /// Nothing where the registry itself doesn't answer.
    fn mirror_statuses(&self, package: &PackageName) -> Vec<MirrorStatus> {
        let Ok(theirs) = self.itself().and_then(|source| source.history_text(package)) else {
            return Vec::new();
        };
        let theirs = theirs.unwrap_or_default();
        let standing = |place: usize| {
            let ours = self.places.wait_for(place).and_then(|source| source.history_text(package));
            let lag = ours.map_or(Lag::Away, |ours| lag(&theirs, ours.as_deref()));
            MirrorStatus { url: self.urls[place].clone(), lag }
        };
        (1..self.urls.len()).map(standing).collect()
    }

    fn opening(&self) -> Result<Option<(String, bool)>, RegistryError> {
        self.itself()?.opening()
    }

    fn warning(&self, registry: &RegistryName) -> Option<String> {
        let answering = self.answering.lock().unwrap_or_else(PoisonError::into_inner);
        let urls: Vec<&str> = answering.iter().map(|place| self.urls[*place].as_str()).collect();
        match urls.as_slice() {
            [] => None,
            [one] => {
                Some(format!("{registry} can't be reached; its mirror {one} is used, and may be outdated"))
            }
            many => Some(format!(
                "{registry} can't be reached; its mirrors {} are used, and may be outdated",
                many.join(" and ")
            )),
        }
    }
}

impl Places {
    fn lock(&self) -> MutexGuard<'_, Vec<Opening>> {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Who is to be asked, and who was quickest: the registry itself, unless it fails or lets wait where a mirror doesn't.
    fn first_that_answers(&self) -> Result<(usize, usize), RegistryError> {
        let mut opened = self.lock();
        let mut mirror: Option<(usize, Instant)> = None;
        loop {
            if mirror.is_none() {
                let first = opened.iter().position(|opening| matches!(opening, Opening::Open(_)));
                mirror = first.map(|place| (place, Instant::now()));
            }
            let waits = mirror.map(|(_, since)| GRACE_PERIOD.saturating_sub(since.elapsed()));
            match (&opened[0], mirror) {
                (Opening::Open(_), quickest) => return Ok((0, quickest.map_or(0, |(place, _)| place))),
                (Opening::Failed(_), Some((place, _))) => return Ok((place, place)),
                (Opening::UnderWay, Some((place, _))) if waits == Some(Duration::ZERO) => {
                    return Ok((place, place));
                }
                _ => {}
            }
            if opened.iter().all(|opening| matches!(opening, Opening::Failed(_))) {
                drop(opened);
                return Err(self.failure(0));
            }
            let waited = self.changed.wait_timeout(opened, waits.unwrap_or(GRACE_PERIOD));
            opened = waited.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// A place once it is opened.
    fn wait_for(&self, place: usize) -> Result<Registry, RegistryError> {
        let mut opened = self.lock();
        loop {
            match &opened[place] {
                Opening::Open(source) => return Ok(source.clone()),
                Opening::Failed(_) => break,
                Opening::UnderWay => {
                    opened = self.changed.wait(opened).unwrap_or_else(PoisonError::into_inner);
                }
            }
        }
        drop(opened);
        Err(self.failure(place))
    }

    /// Why a place couldn't be opened.
    fn failure(&self, place: usize) -> RegistryError {
        match &mut self.lock()[place] {
            Opening::Failed(error) => error.take().unwrap_or(RegistryError::NoMirrorAnswers),
            Opening::Open(_) | Opening::UnderWay => RegistryError::NoMirrorAnswers,
        }
    }
}

/// How a history lags behind another one.
fn lag(theirs: &str, ours: Option<&str>) -> Lag {
    let Some(ours) = ours else { return if theirs.is_empty() { Lag::None } else { Lag::Missing } };
    let Some(missing) = theirs.strip_prefix(ours) else { return Lag::Other };
    let mut lines = missing.lines().filter(|line| !line.is_empty());
    let Some(first) = lines.next() else { return Lag::None };
    let first: serde_json::Value = serde_json::from_str(first).unwrap_or_default();
    let at = first["published"].as_str().or(first["at"].as_str()).and_then(|at| at.parse().ok());
    Lag::Behind(1 + lines.count(), at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_history_lags_by_the_events_that_it_lacks() {
        let one = "{\"event\":\"release\",\"published\":\"2026-01-01T00:00:00Z\"}\n";
        let two = "{\"event\":\"withdrawn\",\"at\":\"2026-02-01T00:00:00Z\"}\n";
        let both = format!("{one}{two}");
        let at = |text: &str| Some(text.parse().unwrap());
        for (theirs, ours, wanted) in [
            (both.as_str(), Some(both.as_str()), Lag::None),
            (&both, Some(one), Lag::Behind(1, at("2026-02-01T00:00:00Z"))),
            (&both, Some(""), Lag::Behind(2, at("2026-01-01T00:00:00Z"))),
            (&both, None, Lag::Missing),
            ("", None, Lag::None),
            (one, Some(&both), Lag::Other),
            (&both, Some(two), Lag::Other),
        ] {
            assert_eq!(lag(theirs, ours), wanted, "{ours:?}");
        }
    }
}
