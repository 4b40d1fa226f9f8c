//! Updates: moves the named packages as far as possible, and all others as little as possible.

use std::collections::{BTreeMap, BTreeSet};

use super::{Catalogue, ChosenPackage, Conflict, Problem, Resolution, Unresolved, resolve};
use crate::card::Entry;
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// What an update comes to.
#[derive(Debug, Clone)]
pub struct Update {
    /// The releases chosen.
    pub resolution: Resolution,
    /// Why locked packages beside the asked ones can't all stay: each conflict names in `held` those of which
    /// one has to move.
    pub forced: Vec<Conflict>,
}

/// Moves `asked` packages, in their order, as far as the needs allow; of the other locked ones as few as
/// possible move, and those to the nearest release that will do. Without any asked, everything may move.
pub fn update<C: Catalogue>(
    problem: &Problem,
    asked: &[PackageName],
    catalogue: &C,
) -> Result<Update, Unresolved<C::Error>> {
    if asked.is_empty() {
        let free = Problem { locked: BTreeMap::new(), ..problem.clone() };
        return Ok(Update { resolution: resolve(&free, catalogue)?, forced: Vec::new() });
    }
    let mut pinned = problem.clone();
    for name in asked {
        if let Some(version) = furthest(&pinned, name, catalogue)? {
            pinned = pinned.asking_where_needed(name, &Range::exactly(&version));
        }
    }
    let update = fewest_moves(Problem { gentle: true, ..pinned }, asked, catalogue)?;
    // The questions have had their answers; what is needed where is what declared needs say.
    let locked = problem.locking(&update.resolution);
    let resolution = resolve(&Problem { held: locked.locked.clone(), ..locked }, catalogue)?;
    Ok(Update { resolution, ..update })
}

/// Moves packages that the rules exclude to the nearest releases that they allow, and of the others as few as possible.
///
/// Where a package can leave altogether, because what needs it moves, that counts as well. With `leaves_advisories`, they leave
/// releases that the rules only warn of for an advisory, too.
pub fn comply<C: Catalogue>(
    problem: &Problem,
    excluded: &[PackageName],
    leaves_advisories: bool,
    catalogue: &C,
) -> Result<Update, Unresolved<C::Error>> {
    let leaving = excluded.iter().cloned().collect();
    let problem = Problem { gentle: true, leaving, leaves_advisories, ..problem.clone() };
    fewest_moves(problem, excluded, catalogue)
}

/// Moves many packages as far as the needs allow, all at once; the others stay before those move.
pub fn update_among<C: Catalogue>(
    problem: &Problem,
    free: &[PackageName],
    catalogue: &C,
) -> Result<Update, Unresolved<C::Error>> {
    let free: BTreeSet<&PackageName> = free.iter().collect();
    let mut staying = problem.clone();
    staying.locked.retain(|name, _| !free.contains(name));
    Ok(Update { resolution: resolve(&staying, catalogue)?, forced: Vec::new() })
}

/// Holds what two sides of a merge chose: of the locked packages as few as possible move. One that can't stay takes its `other`
/// release, where one is given and fewer packages move with it.
pub fn reconcile<C: Catalogue>(
    problem: &Problem,
    others: &[(PackageName, Version)],
    catalogue: &C,
) -> Result<Update, Unresolved<C::Error>> {
    let mut problem = Problem { gentle: true, ..problem.clone() };
    let mut best = fewest_moves(problem.clone(), &[], catalogue)?;
    for (name, other) in others {
        let is_let_go =
            |chosen: &ChosenPackage| problem.locked.get(name) != Some(&chosen.release.entry.version);
        if !best.resolution.package(name).is_some_and(is_let_go) {
            continue;
        }
        let mut tried = problem.clone();
        tried.locked.insert(name.clone(), other.clone());
        match fewest_moves(tried.clone(), &[], catalogue) {
            Ok(update) if moves(&tried, &update) < moves(&problem, &best) => {
                (problem, best) = (tried, update);
            }
            Ok(_) | Err(Unresolved::Conflict(_)) => {}
            Err(failed) => return Err(failed),
        }
    }
    Ok(best)
}

/// How many locked packages an update moves.
fn moves(problem: &Problem, update: &Update) -> usize {
    let chosen = update.resolution.packages.iter().map(|package| &package.release.entry);
    let is_moved = |entry: &&Entry| problem.locked.get(&entry.name).is_some_and(|own| *own != entry.version);
    chosen.filter(is_moved).count()
}

/// The best version of a package with which the problem has a solution that needs the package; deprecated ones
/// come last.
fn furthest<C: Catalogue>(
    problem: &Problem,
    name: &PackageName,
    catalogue: &C,
) -> Result<Option<Version>, Unresolved<C::Error>> {
    let Some(listing) = catalogue.listing(name).map_err(Unresolved::Catalogue)? else { return Ok(None) };
    let mut releases: Vec<_> = listing.history.releases().iter().rev().collect();
    releases.sort_by_key(|release| release.deprecated.is_some());
    // What was withdrawn may stay where it is locked; moving away from it is what is asked here.
    let mut free = problem.clone();
    free.locked.remove(name);
    for release in releases {
        let version = &release.entry.version;
        match resolve(&free.asking_where_needed(name, &Range::exactly(version)), catalogue) {
            Ok(resolution) if is_reached(&free, &resolution, name) => return Ok(Some(version.clone())),
            Ok(_) | Err(Unresolved::Conflict(_)) => {}
            Err(other) => return Err(other),
        }
    }
    Ok(None)
}

/// Whether declared needs lead to a package, and not just the question about it.
fn is_reached(problem: &Problem, resolution: &Resolution, name: &PackageName) -> bool {
    let declared = problem.needs.iter().filter(|need| !need.asked).map(|need| &need.package);
    let mut open: Vec<&PackageName> = declared.collect();
    let mut seen: BTreeSet<&PackageName> = BTreeSet::new();
    while let Some(next) = open.pop() {
        let answers =
            |package: &&ChosenPackage| package.release.entry.name == *next || package.provides.contains(next);
        let package = resolution.packages.iter().find(answers);
        if let Some(package) = package.filter(|_| seen.insert(next)) {
            open.extend(&package.needs);
        }
    }
    seen.contains(name)
}

/// Holds every locked package that was not asked to move and lets go, of each set that can't stay together, as
/// few as possible.
///
/// Every set found so has to lose a member, so a smallest choice that takes a member from each (and then
/// resolves) moves the fewest.
fn fewest_moves<C: Catalogue>(
    mut problem: Problem,
    asked: &[PackageName],
    catalogue: &C,
) -> Result<Update, Unresolved<C::Error>> {
    let mut forced: Vec<Conflict> = Vec::new();
    loop {
        let sets: Vec<&[PackageName]> = forced.iter().map(|conflict| conflict.held.as_slice()).collect();
        let loose = smallest_hitting(&sets);
        let held = problem.locked.iter().filter(|(name, _)| !asked.contains(name) && !loose.contains(name));
        problem.held = held.map(|(name, version)| (name.clone(), version.clone())).collect();
        match resolve(&problem, catalogue) {
            Ok(resolution) => return Ok(Update { resolution, forced }),
            Err(Unresolved::Conflict(conflict)) if !conflict.held.is_empty() => forced.push(*conflict),
            Err(other) => return Err(other),
        }
    }
}

/// A smallest set that has a member of each of these; of several the first by name.
fn smallest_hitting<'s>(sets: &[&'s [PackageName]]) -> BTreeSet<&'s PackageName> {
    (0..=sets.len()).find_map(|most| hitting(sets, &BTreeSet::new(), most)).unwrap_or_default()
}

fn hitting<'s>(
    sets: &[&'s [PackageName]],
    chosen: &BTreeSet<&'s PackageName>,
    most: usize,
) -> Option<BTreeSet<&'s PackageName>> {
    let missed = sets.iter().find(|set| !set.iter().any(|name| chosen.contains(name)));
    let Some(missed) = missed else { return Some(chosen.clone()) };
    if chosen.len() == most {
        return None;
    }
    missed.iter().find_map(|name| {
        let mut more = chosen.clone();
        more.insert(name);
        hitting(sets, &more, most)
    })
}
