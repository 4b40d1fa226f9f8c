//! Ways out of a conflict: each is solved before it is offered.

use super::search::attempt;
use super::{Catalogue, Conflict, Problem, ProblemNeed, Resolution, Unresolved, resolve};
use crate::facet::{FitValue, Target};
use crate::name::{FacetName, PackageName};
use crate::range::Range;
use crate::version::Version;

/// Conflicts that all attempts together may meet: those of a usual conflict meet a few.
const CONFLICT_BUDGET: u64 = 50_000;

/// The same, and most needs that are looked at, where even the conflict was too hard to tell briefly.
const SMALL_CONFLICT_BUDGET: u64 = 1_000;
const FEW_NEEDS: usize = 3;

/// Most pairs of needs that are relaxed together where no single one helps.
const MAX_PAIRS: usize = 12;

/// Changes after which there is a resolution.
#[derive(Debug, Clone)]
pub struct WayOut {
    /// What changes of direct needs, at most two things.
    pub changes: Vec<(ProblemNeed, Relaxation)>,
    /// What changes instead of a target, or of the promise.
    pub raised: Option<Raised>,
    /// The package that is excepted from a charter instead: first the charter, then the package.
    pub excepted: Option<(PackageName, PackageName)>,
    /// What would then be chosen.
    pub resolution: Resolution,
}

/// How a direct need changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Relaxation {
    /// Pre-releases count like any other version.
    Prereleases,
    /// Another range, around this version.
    Range(Range, Version),
    /// It is for these targets only.
    Targets(Vec<String>),
    /// None of its components is wanted.
    WithoutComponents,
    /// It is dropped.
    Drop,
}

/// A place at another level.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Raised {
    /// The target, or the promise.
    pub place: Target,
    /// The ladder.
    pub facet: FacetName,
    /// The level.
    pub level: String,
}

/// The ways out of a conflict of `problem`, those that change least first: letting pre-releases
/// count, another range that stays with the same major version, any other range, dropping; two changes only
/// where one is not enough.
pub fn ways_out<C: Catalogue>(
    problem: &Problem,
    conflict: &Conflict,
    catalogue: &C,
) -> Result<Vec<WayOut>, C::Error> {
    let (conflict_budget, most) =
        if conflict.is_minimal { (CONFLICT_BUDGET, usize::MAX) } else { (SMALL_CONFLICT_BUDGET, FEW_NEEDS) };
    let mut finder = Finder { problem, catalogue, conflict_budget };
    let places = conflict.misfits.iter().map(|(place, _)| &problem.places[*place]);
    let mut misfits: Vec<String> =
        places.filter(|place| !place.is_promise).map(|place| place.name.clone()).collect();
    misfits.dedup();
    let mut ways = Vec::new();
    for number in finder.open_to_change(conflict).into_iter().take(most) {
        let targets = (!misfits.is_empty()).then_some(Kind::Targets(&misfits));
        for kind in
            [Kind::Prereleases, Kind::Range, Kind::WithoutComponents, Kind::Drop].into_iter().chain(targets)
        {
            ways.extend(finder.relaxing(&[number], kind)?);
        }
    }
    for (place, facet) in conflict.misfits.iter().filter_map(|(place, facet)| Some((*place, facet.as_ref()?)))
    {
        ways.extend(finder.raising(place, facet)?);
    }
    for (charter, package) in &conflict.chartered {
        ways.extend(finder.excepting(charter, package)?);
    }
    if ways.is_empty() && conflict.is_minimal {
        ways = finder.relaxing_two(conflict)?;
    }
    ways.sort_by_key(|way| {
        let changes = way.changes.iter().map(|(need, change)| weight(need, change));
        changes
            .chain(way.raised.as_ref().map(|raised| 4 + usize::from(raised.place.is_promise)))
            .chain(way.excepted.as_ref().map(|_| 6))
            .sum::<usize>()
    });
    Ok(ways)
}

#[derive(Clone, Copy)]
enum Kind<'k> {
    Prereleases,
    Range,
    /// Not for these targets.
    Targets(&'k [String]),
    WithoutComponents,
    Drop,
}

struct Finder<'a, C> {
    problem: &'a Problem,
    catalogue: &'a C,
    /// Conflicts that may yet be met.
    conflict_budget: u64,
}

impl<C: Catalogue> Finder<'_, C> {
    /// The direct needs in a conflict that somebody declared.
    fn open_to_change(&self, conflict: &Conflict) -> Vec<usize> {
        conflict.direct.iter().copied().filter(|number| !self.problem.needs[*number].asked).collect()
    }

    /// Ways that change two ranges: one of this conflict, and one of what it then comes to.
    fn relaxing_two(&mut self, conflict: &Conflict) -> Result<Vec<WayOut>, C::Error> {
        let mut tried: Vec<[usize; 2]> = Vec::new();
        let mut ways = Vec::new();
        for first in self.open_to_change(conflict) {
            let Some(next) = self.conflict_without(first)? else { continue };
            for second in self.open_to_change(&next) {
                let pair = [first.min(second), first.max(second)];
                if first != second && tried.len() < MAX_PAIRS && !tried.contains(&pair) {
                    tried.push(pair);
                    ways.extend(self.relaxing(&pair, Kind::Range)?);
                }
            }
        }
        Ok(ways)
    }

    /// The conflict that is left when one need has any range.
    fn conflict_without(&self, number: usize) -> Result<Option<Conflict>, C::Error> {
        let Some(problem) = self.relaxed(&[number], Kind::Range) else { return Ok(None) };
        match resolve(&problem, self.catalogue) {
            Err(Unresolved::Conflict(conflict)) => Ok(Some(*conflict)),
            Err(Unresolved::Catalogue(error)) => Err(error),
            Ok(_) | Err(Unresolved::GaveUp(_) | Unresolved::Open(_)) => Ok(None),
        }
    }

    /// The way of relaxing these needs so, if it leads anywhere.
    fn relaxing(&mut self, numbers: &[usize], kind: Kind<'_>) -> Result<Option<WayOut>, C::Error> {
        let Some(mut problem) = self.relaxed(numbers, kind) else { return Ok(None) };
        let names: Vec<&PackageName> =
            numbers.iter().map(|number| &self.problem.needs[*number].package).collect();
        let resolution = loop {
            let attempted = (self.conflict_budget > 0)
                .then(|| attempt(&problem, self.catalogue, &mut self.conflict_budget));
            let Some(resolution) = attempted.transpose()?.flatten() else { return Ok(None) };
            // What was withdrawn may stay where it is locked, but nobody is sent there.
            let locked = problem.locked.len();
            problem.locked.retain(|name, _| !names.contains(&name) || !is_withdrawn(&resolution, name));
            if problem.locked.len() == locked {
                break resolution;
            }
        };
        let needs = numbers.iter().map(|number| &self.problem.needs[*number]);
        let changes = needs.map(|need| Some((need.clone(), relaxation(need, kind, &resolution)?)));
        let changes: Option<Vec<_>> = changes.collect();
        Ok(changes.map(|changes| WayOut { changes, raised: None, excepted: None, resolution }))
    }

    /// The way of raising a place, if it leads anywhere: to the lowest level that does.
    fn raising(&mut self, number: usize, facet: &FacetName) -> Result<Option<WayOut>, C::Error> {
        let facets = self.catalogue.facets();
        let place = &self.problem.places[number];
        let Some(FitValue::One(now)) = place.values.get(facet).map(|now| facets.plain(facet, now)) else {
            return Ok(None);
        };
        let higher = facets.levels(facet).iter().skip_while(|level| **level != now).skip(1);
        for level in higher {
            let mut problem = self.problem.clone();
            problem.places[number].values.insert(facet.clone(), FitValue::One(level.clone()));
            if self.conflict_budget == 0 {
                return Ok(None);
            }
            if let Some(resolution) = attempt(&problem, self.catalogue, &mut self.conflict_budget)? {
                let raised = Raised { place: place.clone(), facet: facet.clone(), level: level.clone() };
                let (changes, raised) = (Vec::new(), Some(raised));
                return Ok(Some(WayOut { changes, raised, excepted: None, resolution }));
            }
        }
        Ok(None)
    }

    /// The way of excepting a package from a charter, if it leads anywhere.
    fn excepting(
        &mut self,
        charter: &PackageName,
        package: &PackageName,
    ) -> Result<Option<WayOut>, C::Error> {
        let mut problem = self.problem.clone();
        let mut bounds = problem.charters.to_vec();
        let of_charter = bounds.iter_mut().filter(|bounds| bounds.release.name == *charter);
        of_charter.for_each(|bounds| {
            bounds.except.insert(package.clone());
        });
        problem.charters = bounds.into();
        if self.conflict_budget == 0 {
            return Ok(None);
        }
        let resolution = attempt(&problem, self.catalogue, &mut self.conflict_budget)?;
        let excepted = Some((charter.clone(), package.clone()));
        Ok(resolution.map(|resolution| WayOut { changes: Vec::new(), raised: None, excepted, resolution }))
    }

    /// The problem with these needs relaxed; `None` if they are so already.
    fn relaxed(&self, numbers: &[usize], kind: Kind<'_>) -> Option<Problem> {
        let mut problem = self.problem.clone();
        for number in numbers {
            match kind {
                Kind::Prereleases if problem.needs[*number].prereleases => return None,
                Kind::Prereleases => problem.needs[*number].prereleases = true,
                Kind::Range => loosen(&mut problem, *number),
                Kind::WithoutComponents if problem.needs[*number].components.is_empty() => return None,
                Kind::WithoutComponents => problem.needs[*number].components.clear(),
                Kind::Targets(misfits) => {
                    let others = other_targets(&problem, *number, misfits);
                    problem.needs[*number].targets = Some(others?);
                }
                Kind::Drop => {}
            }
        }
        if let Kind::Drop = kind {
            let kept = problem.needs.into_iter().enumerate().filter(|(number, _)| !numbers.contains(number));
            problem.needs = kept.map(|(_, need)| need).collect();
        }
        Some(problem)
    }
}

/// Whether a resolution has a release of a package that was withdrawn.
fn is_withdrawn(resolution: &Resolution, name: &PackageName) -> bool {
    resolution.package(name).is_some_and(|chosen| chosen.release.withdrawn.is_some())
}

/// Lets a need have any range; where it has its family's, the family.
fn loosen(problem: &mut Problem, number: usize) {
    problem.needs[number].range = Range::any();
    let Some(family) = problem.needs[number].family.clone() else { return };
    let of_family = problem.needs.iter_mut().filter(|need| need.family.as_ref() == Some(&family));
    of_family.for_each(|need| need.range = Range::any());
    problem.families.insert(family, Range::any());
}

/// The targets of a need without those that something doesn't fit; `None` if that leaves none, or all.
fn other_targets(problem: &Problem, number: usize, misfits: &[String]) -> Option<Vec<String>> {
    let places = problem.places.iter().enumerate().filter(|(_, place)| !place.is_promise);
    let targets = places.filter(|(at, _)| problem.is_at(&problem.needs[number], *at));
    let (others, without): (Vec<&String>, Vec<&String>) =
        targets.map(|(_, place)| &place.name).partition(|name| !misfits.contains(name));
    (!others.is_empty() && !without.is_empty()).then(|| others.into_iter().cloned().collect())
}

fn relaxation(need: &ProblemNeed, kind: Kind<'_>, resolution: &Resolution) -> Option<Relaxation> {
    match kind {
        Kind::Prereleases => Some(Relaxation::Prereleases),
        Kind::WithoutComponents => Some(Relaxation::WithoutComponents),
        Kind::Drop => Some(Relaxation::Drop),
        Kind::Targets(misfits) => {
            // Those that were tried are all others of the project's.
            let is_other = |target: &&String| !misfits.contains(target);
            let all = resolution.package(&need.package)?;
            Some(Relaxation::Targets(all.targets.iter().filter(is_other).cloned().collect()))
        }
        Kind::Range => {
            let version = &resolution.package(&need.package)?.release.entry.version;
            let exact = need.range.only().is_some();
            let range = if exact { Range::exactly(version) } else { Range::from_version(version) };
            Some(Relaxation::Range(range, version.clone()))
        }
    }
}

/// How much a change asks of people.
fn weight(need: &ProblemNeed, change: &Relaxation) -> usize {
    match change {
        Relaxation::Prereleases => 0,
        Relaxation::Range(_, version) if is_near(&need.range, version) => 1,
        Relaxation::Range(..) => 2,
        Relaxation::Targets(_) | Relaxation::WithoutComponents => 3,
        Relaxation::Drop => 5,
    }
}

/// Whether the range accepts some version that is compatible with this one.
fn is_near(range: &Range, version: &Version) -> bool {
    let [major, ..] = version.point().numeric;
    let same = Version::from_numeric([major, 0, 0, 0], 1).to_string().parse::<Range>();
    same.is_ok_and(|same| !same.set(true).and(range.set(true)).is_none())
}
