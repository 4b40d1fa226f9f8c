//! What could change so that a conflict ends: each way is tried and resolves before it is offered.

use super::{Catalogue, Conflict, Problem, ProblemNeed, Resolution, Unresolved, resolve};
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// Most pairs of needs that are relaxed together where no single one helps.
const MOST_PAIRS: usize = 12;

/// Changes of direct needs after which there is a resolution.
#[derive(Debug, Clone)]
pub struct WayOut {
    /// What changes, at most two things.
    pub changes: Vec<(ProblemNeed, Relaxation)>,
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
    /// It is dropped.
    Drop,
}

/// The ways out of a conflict of `problem`, those that change least first: letting pre-releases
/// count, another range that stays with the same major version, any other range, dropping; two changes only
/// where one is not enough.
pub fn ways_out<C: Catalogue>(
    problem: &Problem,
    conflict: &Conflict,
    catalogue: &C,
) -> Result<Vec<WayOut>, C::Error> {
    let finder = Finder { problem, catalogue };
    let mut ways = Vec::new();
    for number in finder.open_to_change(conflict) {
        for kind in [Kind::Prereleases, Kind::Range, Kind::Drop] {
            ways.extend(finder.relaxing(&[number], kind)?.ok());
        }
    }
    if ways.is_empty() {
        ways = finder.relaxing_two(conflict)?;
    }
    ways.sort_by_key(|way| way.changes.iter().map(|(need, change)| weight(need, change)).sum::<usize>());
    Ok(ways)
}

#[derive(Clone, Copy)]
enum Kind {
    Prereleases,
    Range,
    Drop,
}

struct Finder<'a, C> {
    problem: &'a Problem,
    catalogue: &'a C,
}

impl<C: Catalogue> Finder<'_, C> {
    /// The direct needs in a conflict that somebody declared.
    fn open_to_change(&self, conflict: &Conflict) -> Vec<usize> {
        conflict.direct.iter().copied().filter(|number| !self.problem.needs[*number].asked).collect()
    }

    /// Ways that change two ranges: one of this conflict, and one of what it then comes to.
    fn relaxing_two(&self, conflict: &Conflict) -> Result<Vec<WayOut>, C::Error> {
        let mut tried: Vec<[usize; 2]> = Vec::new();
        let mut ways = Vec::new();
        for first in self.open_to_change(conflict) {
            let Err(next) = self.relaxing(&[first], Kind::Range)? else { continue };
            for second in next.iter().flat_map(|next| self.open_to_change(next)) {
                let pair = [first.min(second), first.max(second)];
                if first != second && tried.len() < MOST_PAIRS && !tried.contains(&pair) {
                    tried.push(pair);
                    ways.extend(self.relaxing(&pair, Kind::Range)?.ok());
                }
            }
        }
        Ok(ways)
    }

    /// The way of relaxing these needs so or, where it leads nowhere, the conflict that is left, if it is another.
    fn relaxing(&self, numbers: &[usize], kind: Kind) -> Result<Result<WayOut, Option<Conflict>>, C::Error> {
        let Some(problem) = self.relaxed(numbers, kind) else { return Ok(Err(None)) };
        let resolution = match resolve(&problem, self.catalogue) {
            Ok(resolution) => resolution,
            Err(Unresolved::Catalogue(error)) => return Err(error),
            Err(Unresolved::Conflict(conflict)) => return Ok(Err(Some(*conflict))),
            Err(Unresolved::GaveUp(_)) => return Ok(Err(None)),
        };
        let needs = numbers.iter().map(|number| &self.problem.needs[*number]);
        let changes = needs.map(|need| Some((need.clone(), relaxation(need, kind, &resolution)?)));
        let changes: Option<Vec<_>> = changes.collect();
        Ok(changes.map(|changes| WayOut { changes, resolution }).ok_or(None))
    }

    /// The problem with these needs relaxed; `None` if they are so already.
    fn relaxed(&self, numbers: &[usize], kind: Kind) -> Option<Problem> {
        let mut problem = self.problem.clone();
        for number in numbers {
            match kind {
                Kind::Prereleases if problem.needs[*number].prereleases => return None,
                Kind::Prereleases => problem.needs[*number].prereleases = true,
                Kind::Range => problem.needs[*number].range = Range::any(),
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

fn relaxation(need: &ProblemNeed, kind: Kind, resolution: &Resolution) -> Option<Relaxation> {
    match kind {
        Kind::Prereleases => Some(Relaxation::Prereleases),
        Kind::Drop => Some(Relaxation::Drop),
        Kind::Range => {
            let version = chosen(resolution, &need.package)?;
            let exact = need.range.only().is_some();
            let range = if exact { Range::exactly(version) } else { Range::from_version(version) };
            Some(Relaxation::Range(range, version.clone()))
        }
    }
}

fn chosen<'r>(resolution: &'r Resolution, package: &PackageName) -> Option<&'r Version> {
    let entries = resolution.packages.iter().map(|chosen| &chosen.release.entry);
    entries.into_iter().find(|entry| entry.name == *package).map(|entry| &entry.version)
}

/// How much a change asks of people.
fn weight(need: &ProblemNeed, change: &Relaxation) -> usize {
    match change {
        Relaxation::Prereleases => 0,
        Relaxation::Range(_, version) if is_near(&need.range, version) => 1,
        Relaxation::Range(..) => 2,
        Relaxation::Drop => 5,
    }
}

/// Whether the range accepts some version that is compatible with this one.
fn is_near(range: &Range, version: &Version) -> bool {
    let [major, ..] = version.point().numeric;
    let same = Version::from_numeric([major, 0, 0, 0], 1).to_string().parse::<Range>();
    same.is_ok_and(|same| !same.set(true).and(range.set(true)).is_none())
}
