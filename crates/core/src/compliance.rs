//! A lock held against the rules of its workspace.

use std::collections::BTreeMap;

use jiff::Timestamp;

use crate::card::Card;
use crate::digest::Digest;
use crate::history::Release;
use crate::lock::{Lock, LockedPackage, NeedGraph, RUN};
use crate::name::Purpose;
use crate::rules::{Breach, Rules, Subject, Waiver};

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
/// `release` says what is known of a locked release today; of one that isn't known, only what the lock has counts.
pub fn breaches<'l>(
    lock: &'l Lock,
    rules: &'l Rules,
    release: impl Fn(&LockedPackage) -> Option<Release>,
    now: Timestamp,
) -> Vec<LockBreach<'l>> {
    let scopes = scopes(lock, rules);
    let mut found = Vec::new();
    for (package, scopes) in lock.packages.iter().zip(&scopes) {
        let release = release(package).unwrap_or_else(|| locked_release(package));
        let subject = Subject { release: &release, source: &package.source, is_stand_in: package.stood_in };
        let mut seen: Vec<Breach> = Vec::new();
        for scope in scopes {
            for breach in rules.breaches(*scope, &subject, now) {
                if seen.contains(&breach) {
                    continue;
                }
                let waiver = rules.waiver_for(breach.rule, &release, now);
                seen.push(breach.clone());
                found.push(LockBreach { package, scope: *scope, breach, waiver });
            }
        }
    }
    found
}

/// For each package of a lock the purposes with rules of their own that it is needed for, `None` for all others.
pub(crate) fn scopes<'l>(lock: &Lock, rules: &'l Rules) -> Vec<Vec<Option<&'l Purpose>>> {
    if rules.purposes.is_empty() {
        return vec![vec![None]; lock.packages.len()];
    }
    let projects: Vec<_> = lock.projects.iter().collect();
    let reached = NeedGraph::of(lock).reached(&projects, &[]);
    let own: BTreeMap<&str, &Purpose> =
        rules.purposes.keys().map(|purpose| (purpose.as_str(), purpose)).collect();
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

/// What a lock alone says of a release.
fn locked_release(package: &LockedPackage) -> Release {
    let card = Card {
        license: package.license.clone(),
        ..Card::bare(package.name.clone(), package.version.clone(), Timestamp::UNIX_EPOCH)
    };
    let entry = card.entry(package.card.unwrap_or_else(|| Digest::of(b"")));
    Release { entry, withdrawn: None, deprecated: None }
}

/// The waivers that except nothing, where these are all breaches of a lock.
pub fn unused_waivers<'r>(rules: &'r Rules, breaches: &[LockBreach<'_>]) -> Vec<&'r Waiver> {
    let is_used = |waiver: &&Waiver| {
        breaches.iter().any(|one| waiver.covers(one.breach.rule, &one.package.name, &one.package.version))
    };
    rules.waivers.iter().filter(|waiver| !is_used(waiver)).collect()
}
