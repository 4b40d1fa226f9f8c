//! A lock held against the rules of its workspace.

use std::collections::BTreeMap;
use std::sync::Arc;

use jiff::Timestamp;

use crate::advisory::Affecting;
use crate::card::Card;
use crate::digest::Digest;
use crate::history::Release;
use crate::lock::{Lock, LockedPackage, NeedGraph, RUN};
use crate::name::Purpose;
use crate::resolve::Listing;
use crate::rules::{Breach, Rules, Subject, Waiver};
use crate::version::Version;

/// A locked package that breaks a rule.
#[derive(Debug, Clone)]
pub struct LockBreach<'l> {
    /// The package.
    pub package: &'l LockedPackage,
    /// The purpose whose rules it breaks; `None` for those of all purposes that have none of their own.
    pub scope: Option<&'l Purpose>,
    /// How.
    pub breach: Breach,
    /// What excepts it from the rule at this time.
    pub waiver: Option<&'l Waiver>,
}

/// How the packages of a lock break the rules of the purposes that they are needed for, at a time.
///
/// `known` says what is known of a locked release today; of one that isn't known, only what the lock has counts.
pub fn breaches<'l>(
    lock: &'l Lock,
    rules: &'l Rules,
    known: impl Fn(&LockedPackage) -> Option<Known>,
    now: Timestamp,
) -> Vec<LockBreach<'l>> {
    let scopes = scopes(lock, rules);
    let mut found = Vec::new();
    for (package, scopes) in lock.packages.iter().zip(&scopes) {
        let known = known(package).unwrap_or_else(|| Known::of_lock(package));
        let subject = Subject {
            release: &known.release,
            source: &package.source,
            is_stand_in: package.stood_in,
            advisories: &known.advisories,
            before: known.before.as_ref(),
        };
        let mut seen: Vec<Breach> = Vec::new();
        for scope in scopes {
            for breach in rules.breaches(*scope, &subject, now) {
                if seen.contains(&breach) {
                    continue;
                }
                let waiver = rules.waiver_for(&breach, &known.release, now);
                seen.push(breach.clone());
                found.push(LockBreach { package, scope: *scope, breach, waiver });
            }
        }
    }
    found
}

/// For each package of a lock the purposes with rules of their own that it is needed for, `None` for all others.
pub(crate) fn scopes<'l>(lock: &Lock, rules: &'l Rules) -> Vec<Vec<Option<&'l Purpose>>> {
    let known = rules.scopes();
    if known.is_empty() {
        return vec![vec![None]; lock.packages.len()];
    }
    let projects: Vec<_> = lock.projects.iter().collect();
    let reached = NeedGraph::of(lock).reached(&projects, &[]);
    let own: BTreeMap<&str, &Purpose> =
        known.into_iter().flatten().map(|purpose| (purpose.as_str(), purpose)).collect();
    let of_package = |at: usize| {
        let purposes = reached.get(&at).into_iter().flatten();
        let mut scopes: Vec<Option<&Purpose>> =
            purposes.map(|purpose| own.get(purpose).copied().filter(|_| *purpose != RUN)).collect();
        scopes.sort();
        scopes.dedup();
        scopes
    };
    (0..lock.packages.len()).map(of_package).collect()
}

/// What is known of a locked release.
#[derive(Debug, Clone)]
pub struct Known {
    /// The release as it stands.
    pub release: Release,
    /// What affects releases of its package.
    pub advisories: Arc<[Affecting]>,
    /// The release before it.
    pub before: Option<Version>,
}

impl Known {
    /// What a listing says of a version; `None` where it doesn't have it.
    pub fn of_listing(listing: &Listing, version: &Version, advisories: Arc<[Affecting]>) -> Option<Self> {
        let release = listing.history.release(version)?.clone();
        Some(Self { release, advisories, before: listing.history.before(version).cloned() })
    }

    /// What a lock alone says of a release.
    fn of_lock(package: &LockedPackage) -> Self {
        let card = Card {
            license: package.license.clone(),
            ..Card::bare(package.name.clone(), package.version.clone(), Timestamp::UNIX_EPOCH)
        };
        let entry = card.entry(package.card.unwrap_or_else(|| Digest::of(b"")));
        Self { release: Release::new(entry), advisories: Arc::default(), before: None }
    }
}

/// The waivers that except nothing, where these are all breaches of a lock.
pub fn unused_waivers<'r>(rules: &'r Rules, breaches: &[LockBreach<'_>]) -> Vec<&'r Waiver> {
    let is_used = |waiver: &&Waiver| {
        breaches.iter().any(|one| waiver.covers(&one.breach, &one.package.name, &one.package.version))
    };
    rules.waivers.iter().filter(|waiver| !is_used(waiver)).collect()
}
