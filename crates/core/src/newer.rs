//! What has newer releases than the lock, and what keeps them out.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;

use crate::advisory::Affecting;
use crate::card::CardNeed;
use crate::charter::{CharterBounds, CharterRelease};
use crate::compliance::scopes;
use crate::facet::{Facets, Fit, Target};
use crate::fitting::{fit, newest};
use crate::history::{CardRevision, Release};
use crate::lock::{Lock, LockedPackage, NeedGraph};
use crate::name::{PackageName, Purpose};
use crate::range::Range;
use crate::resolve::{Catalogue, ChosenPackage, Listing, Resolution};
use crate::rules::{Rules, Subject, rules_of};
use crate::source::Source;
use crate::version::Version;
use crate::workspace::Workspace;

/// A locked package that there is news of.
#[derive(Debug, Clone)]
pub struct Newer<'l> {
    /// The package.
    pub package: &'l LockedPackage,
    /// The release that it is locked to, as it stands now.
    pub locked: Option<Release>,
    /// How its card was corrected since it was locked, the earliest first.
    pub corrections: Vec<CardRevision>,
    /// The release that an update of everything would take, where that is another, with its source.
    pub update: Option<(Version, Source)>,
    /// The newest release beyond what an update would take, with all that keeps it out.
    pub beyond: Option<(Version, Vec<Hold>)>,
    /// The advisories that affect the locked release, each with the nearest release that it doesn't affect.
    pub advisories: Vec<(Affecting, Option<Version>)>,
}

/// What keeps a release out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Hold {
    /// A project or package needs it in another range.
    Need {
        /** Who. */
        by: PackageName,
        /** The version of who, where it is a package. */
        at: Option<Version>,
        /** The range. */
        range: Range,
    },
    /// It doesn't fit a target or promise.
    Unfit {
        /** Where. */
        place: Target,
        /** Why. */
        fit: Fit,
    },
    /// A charter allows another range.
    Charter {
        /** The charter's release. */
        release: CharterRelease,
        /** The range. */
        range: Range,
    },
    /// The manifest takes one commit or archive.
    Fixed {
        /** Which, as people say it: `tag v1.2.0`. */
        at: String,
    },
    /// The rules refuse it.
    Refused {
        /** Whose rules, as the sentence begins. */
        rules: String,
        /** What they say of it, as a sentence without a full stop. */
        why: String,
    },
}

/// The locked packages that there is news of: first what projects need themselves, each by name. `updated` is what an
/// update of everything comes to; `elsewhere` has the newest versions that sources outside of registries are known to have, of packages
/// that come from there.
pub fn newer<'l, C: Catalogue>(
    lock: &'l Lock,
    workspace: &Workspace,
    updated: &Resolution,
    elsewhere: &BTreeMap<PackageName, Version>,
    catalogue: &C,
) -> Result<Vec<Newer<'l>>, C::Error> {
    let (facets, places) = (catalogue.facets(), Places::of(lock, workspace));
    let (needs, bounds) = (Needers::of(lock, workspace, catalogue)?, workspace.charter_bounds());
    let chosen: BTreeMap<&PackageName, &ChosenPackage> =
        updated.packages.iter().map(|package| (&package.release.entry.name, package)).collect();
    let mut found = Vec::new();
    let scopes = scopes(lock, &workspace.rules);
    let packages = lock.packages.iter().zip(&scopes);
    for (package, scopes) in packages.filter(|(package, _)| package.source.path().is_none()) {
        let Some(listing) = catalogue.listing(&package.name)? else { continue };
        let locked = listing.history.release(&package.version).cloned();
        let corrections = corrections(package, locked.as_ref());
        let update = chosen.get(&package.name).filter(|chosen| is_newer(package, chosen));
        let update = update.map(|chosen| (chosen.release.entry.version.clone(), chosen.source.clone()));
        let reached = update.as_ref().map_or(&package.version, |(version, _)| version);
        let beyond = newest(listing.history.releases()).filter(|newest| newest.entry.version > *reached);
        let advisories = catalogue.advisories(&listing)?;
        let beyond = beyond.map(|release| {
            let mut holds = needs.holding(package, release);
            holds.extend(outside_of_charters(&bounds, &listing, release));
            holds.extend(places.unfit(package, release, &facets));
            let source = listing.source_of(&release.entry.version);
            let before = listing.history.before(&release.entry.version);
            let is_stand_in = listing.is_stand_in;
            let subject = Subject { release, source, is_stand_in, advisories: &advisories, before };
            holds.extend(refused(&workspace.rules, scopes, &subject, catalogue.now()));
            (release.entry.version.clone(), holds)
        });
        let known = beyond.as_ref().map_or(reached, |(version, _)| version);
        let further = elsewhere.get(&package.name).filter(|newest| *newest > known);
        let beyond = further.map(|newest| (newest.clone(), needs.outside(package, newest))).or(beyond);
        let is_news =
            locked.as_ref().is_some_and(|locked| locked.deprecated.is_some() || locked.withdrawn.is_some());
        let affected = affected(package, &advisories, listing.history.releases());
        if is_news || !corrections.is_empty() || !affected.is_empty() || update.is_some() || beyond.is_some()
        {
            found.push(Newer { package, locked, corrections, update, beyond, advisories: affected });
        }
    }
    let direct: BTreeSet<&PackageName> = workspace.needs().map(|(_, need)| &need.package).collect();
    found.sort_by_key(|newer| !direct.contains(&newer.package.name));
    Ok(found)
}

/// The charters that don't allow a release.
fn outside_of_charters<'b>(
    bounds: &'b [CharterBounds],
    listing: &Listing,
    release: &'b Release,
) -> impl Iterator<Item = Hold> + 'b {
    let is_bound = listing.is_bound_by_charters();
    let entry = &release.entry;
    let ranges = bounds.iter().filter(move |_| is_bound).flat_map(|bounds| {
        let ranges = bounds.binding(&entry.name, entry.family.as_ref());
        ranges.map(move |range| (bounds, range))
    });
    let outside = ranges.filter(|(_, range)| !range.set(true).contains(entry.version.point()));
    outside.map(|(bounds, range)| Hold::Charter { release: bounds.release.clone(), range: range.clone() })
}

/// What the rules of these purposes say against a release, the first of it.
fn refused(
    rules: &Rules,
    scopes: &[Option<&Purpose>],
    subject: &Subject<'_>,
    now: Timestamp,
) -> Option<Hold> {
    let who = format!("{} {}", subject.release.entry.name, subject.release.entry.version);
    let refused = |scope: &Option<&Purpose>| {
        let breach = rules.refusal(*scope, subject, now)?;
        let why = breach.sentence(*scope, &who, true);
        Some(Hold::Refused { rules: rules_of(breach.charter.as_ref(), *scope), why })
    };
    scopes.iter().find_map(refused)
}

/// The advisories that affect a locked release, each with the nearest release that it doesn't affect.
fn affected(
    package: &LockedPackage,
    advisories: &[Affecting],
    releases: &[Release],
) -> Vec<(Affecting, Option<Version>)> {
    let affecting = advisories.iter().filter(|one| one.versions.contains(&package.version));
    let fixed = |one: &Affecting| one.fixed_after(&package.version, releases).cloned();
    affecting.map(|one| (one.clone(), fixed(one))).collect()
}

/// How the card of a locked release was corrected since it was locked.
fn corrections(package: &LockedPackage, release: Option<&Release>) -> Vec<CardRevision> {
    let since = release.zip(package.card).map(|(release, card)| release.corrections_since(&card).to_vec());
    since.unwrap_or_default()
}

/// Whether an update leads to something newer: to a later version, or to another commit or card of the same one.
fn is_newer(package: &LockedPackage, chosen: &ChosenPackage) -> bool {
    let commit = |source: &Source| source.git().map(|git| git.commit.clone());
    let version = &chosen.release.entry.version;
    *version > package.version
        || *version == package.version
            && (commit(&chosen.source) != commit(&package.source)
                || package.card.is_some_and(|card| card != chosen.release.entry.card))
}

/// Who needs which packages in which ranges.
struct Needers {
    needs: BTreeMap<PackageName, Vec<(PackageName, Option<Version>, CardNeed)>>,
}

impl Needers {
    fn of<C: Catalogue>(lock: &Lock, workspace: &Workspace, catalogue: &C) -> Result<Self, C::Error> {
        let mut needs: BTreeMap<PackageName, Vec<_>> = BTreeMap::new();
        // What a charter says is reported at the charter.
        for (project, need) in workspace.needs().filter(|(_, need)| !need.is_chartered) {
            let by = (project.name().clone(), None, CardNeed::from(need));
            needs.entry(need.package.clone()).or_default().push(by);
        }
        for package in &lock.packages {
            let listing: Option<std::sync::Arc<Listing>> = catalogue.listing(&package.name)?;
            let Some(release) =
                listing.as_ref().and_then(|listing| listing.history.release(&package.version))
            else {
                continue;
            };
            for need in release.entry.all_running_needs().filter(|need| package.needs.contains(&need.name)) {
                let by = (package.name.clone(), Some(package.version.clone()), need.clone());
                needs.entry(need.name.clone()).or_default().push(by);
            }
        }
        Ok(Self { needs })
    }

    /// What keeps out a version that the source of a package has and that can't be chosen from it.
    fn outside(&self, package: &LockedPackage, version: &Version) -> Vec<Hold> {
        let holds = self.excluding(package, version);
        if !holds.is_empty() {
            return holds;
        }
        let at =
            package.source.git().map(|git| git.at.clone().unwrap_or_else(|| git.commit.short().to_owned()));
        vec![Hold::Fixed { at: at.unwrap_or_else(|| package.source.to_string()) }]
    }

    /// The needs that a release won't do for.
    fn holding(&self, package: &LockedPackage, release: &Release) -> Vec<Hold> {
        self.excluding(package, &release.entry.version)
    }

    /// The needs that a version won't do for.
    fn excluding(&self, package: &LockedPackage, version: &Version) -> Vec<Hold> {
        let needs = self.needs.get(&package.name).map_or(&[][..], Vec::as_slice);
        let holding =
            needs.iter().filter(|(_, _, need)| !need.range.set(need.prereleases).contains(version.point()));
        let hold = |(by, at, need): &(PackageName, Option<Version>, CardNeed)| Hold::Need {
            by: by.clone(),
            at: at.clone(),
            range: need.range.clone(),
        };
        holding.map(hold).collect()
    }
}

/// Where packages are needed: targets, and the promises of projects with all that they reach.
struct Places<'w> {
    targets: &'w [Target],
    promises: Vec<(Target, BTreeSet<&'w PackageName>)>,
}

impl<'w> Places<'w> {
    fn of(lock: &'w Lock, workspace: &'w Workspace) -> Self {
        Self { targets: &workspace.targets, promises: NeedGraph::of(lock).promises(workspace) }
    }

    /// The places that a release doesn't fit where its package is needed.
    fn unfit(&self, package: &LockedPackage, release: &Release, facets: &Facets) -> Vec<Hold> {
        let targets = self.targets.iter().filter(|target| package.is_on(&target.name));
        let promises = self.promises.iter().filter(|(_, reached)| reached.contains(&package.name));
        let places = targets.chain(promises.map(|(promise, _)| promise));
        let unfit = places.filter_map(|place| match fit(release, place, facets) {
            fit @ Fit::No(_) => Some(Hold::Unfit { place: place.clone(), fit }),
            _ => None,
        });
        unfit.collect()
    }
}
