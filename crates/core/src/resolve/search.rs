//! The search for the best resolution.
//!
//! Decisions are made in one fixed order of preference, each for the best choice still open. What the engine
//! learns only excludes what is impossible, so the first answer found is the best by that order.

use std::collections::{HashMap, HashSet};

use super::choices::Choices;
use super::conflict;
use super::engine::{Engine, Var};
use super::universe::{Stop, Universe};
use super::{Catalogue, ChosenPackage, Prefer, Problem, Resolution, Unresolved};
use crate::name::PackageName;

/// Most packages that are told where no answer was found.
const MOST_STRUGGLED: usize = 5;

/// The best resolution of a problem, or why there is none.
pub fn resolve<C: Catalogue>(problem: &Problem, catalogue: &C) -> Result<Resolution, Unresolved<C::Error>> {
    find(problem, catalogue, true)
}

/// The same without looking ahead, which must change nothing but the time that it takes.
#[cfg(test)]
pub fn resolve_plainly<C: Catalogue>(
    problem: &Problem,
    catalogue: &C,
) -> Result<Resolution, Unresolved<C::Error>> {
    find(problem, catalogue, false)
}

fn find<C: Catalogue>(
    problem: &Problem,
    catalogue: &C,
    looks_ahead: bool,
) -> Result<Resolution, Unresolved<C::Error>> {
    let mut search = Search {
        universe: Universe::new(problem, catalogue),
        engine: Engine::default(),
        staying: Nearest::default(),
        rest: Nearest::default(),
        tries: HashMap::new(),
        looks_ahead,
    };
    match search.run() {
        Ok(()) => Ok(search.resolution()),
        Err(Stop::Catalogue(error)) => Err(Unresolved::Catalogue(error)),
        Err(Stop::GaveUp) => Err(Unresolved::GaveUp(search.struggled())),
        Err(Stop::Refuted(refuted)) => {
            Err(Unresolved::Conflict(Box::new(conflict::tell(&search.universe, &refuted))))
        }
    }
}

struct Search<'a, C> {
    universe: Universe<'a, C>,
    engine: Engine,
    staying: Nearest,
    rest: Nearest,
    /// How often each package was decided.
    tries: HashMap<Var, usize>,
    /// Whether releases that stumble are ruled out before a decision.
    looks_ahead: bool,
}

impl<C: Catalogue> Search<'_, C> {
    fn run(&mut self) -> Result<(), Stop<C::Error>> {
        let locked: Vec<PackageName> = self.universe.problem.locked.keys().cloned().collect();
        self.universe.catalogue.expect(&locked);
        self.universe.state_direct(&mut self.engine)?;
        let direct = self.direct();
        loop {
            self.draw_consequences()?;
            let next = self
                .next_to_stay(&direct)
                .or_else(|| direct.iter().find_map(|var| self.best(*var)))
                .or_else(|| self.next_of_the_rest(&direct));
            match next {
                Some((var, _))
                    if self.looks_ahead && self.universe.state_impossible(&mut self.engine, var)? => {}
                Some(_) if self.universe.catalogue.gives_up() => return Err(Stop::GaveUp),
                Some((var, choices)) => {
                    *self.tries.entry(var).or_default() += 1;
                    self.engine.decide(var, &choices);
                }
                None => return Ok(()),
            }
        }
    }

    /// The packages that were decided most often: where a long search goes back and forth.
    fn struggled(&self) -> Vec<PackageName> {
        let mut tries: Vec<(usize, &PackageName)> =
            self.tries.iter().map(|(var, tries)| (*tries, &self.universe.packages[*var].name)).collect();
        tries.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(b.1)));
        tries.into_iter().take(MOST_STRUGGLED).map(|(_, name)| name.clone()).collect()
    }

    /// The direct needs' packages, in order.
    fn direct(&self) -> Vec<Var> {
        self.universe.problem.needs.iter().filter_map(|need| self.universe.known(&need.package)).collect()
    }

    /// Lets the engine settle and states the needs of every release that has thereby been chosen.
    fn draw_consequences(&mut self) -> Result<(), Stop<C::Error>> {
        loop {
            self.engine.settle()?;
            let narrowed = self.engine.take_narrowed();
            if narrowed.is_empty() {
                return Ok(());
            }
            let chosen = narrowed.into_iter().filter_map(|var| Some((var, self.chosen(var)?)));
            let chosen: Vec<(Var, usize)> = chosen.collect();
            self.expect_needs(&chosen);
            for (var, choice) in chosen {
                self.universe.state_needs(&mut self.engine, var, choice)?;
            }
        }
    }

    fn expect_needs(&self, chosen: &[(Var, usize)]) {
        let releases =
            chosen.iter().filter_map(|(var, choice)| self.universe.packages[*var].release(*choice));
        let names: Vec<PackageName> = releases
            .flat_map(|release| release.entry.running_needs().map(|need| need.name.clone()))
            .collect();
        let unknown: Vec<PackageName> =
            names.into_iter().filter(|n| self.universe.known(n).is_none()).collect();
        if !unknown.is_empty() {
            self.universe.catalogue.expect(&unknown);
        }
    }

    /// The one release that is left for a package.
    fn chosen(&self, var: Var) -> Option<usize> {
        self.engine.domain(var).only().filter(|choice| *choice != Choices::LEFT_OUT)
    }

    /// The choice of a package that the lock has.
    fn locked(&self, var: Var) -> Option<usize> {
        let package = &self.universe.packages[var];
        package.choice(self.universe.problem.locked.get(&package.name)?)
    }

    /// The decision that a locked package stays, where that is still open.
    fn stay(&self, var: Var) -> Option<(Var, Choices)> {
        let locked = self.locked(var)?;
        let domain = self.engine.domain(var);
        let is_open = domain.has(locked) && domain.only().is_none();
        is_open.then(|| (var, Choices::of(self.engine.width(var), [locked])))
    }

    /// The next decision that a locked package stays: direct ones, then those that staying ones need.
    ///
    /// What only packages need that can't stay themselves has no claim to stay before newer releases are tried.
    fn next_to_stay(&mut self, direct: &[Var]) -> Option<(Var, Choices)> {
        let mut walk = std::mem::take(&mut self.staying);
        let stayed = |var: Var| self.chosen(var).is_some_and(|choice| self.locked(var) == Some(choice));
        let next = self.next_on(&mut walk, direct, |var| self.stay(var), stayed);
        self.staying = walk;
        next
    }

    /// The decision for the best release still open, where there is more than one.
    fn best(&self, var: Var) -> Option<(Var, Choices)> {
        let domain = self.engine.domain(var);
        if domain.only().is_some() {
            return None;
        }
        Some((var, Choices::of(self.engine.width(var), self.best_choice(var))))
    }

    /// The best release still open: the locked one, or the best of the rest, deprecated ones last.
    fn best_choice(&self, var: Var) -> Option<usize> {
        let domain = self.engine.domain(var);
        let Universe { packages, problem, .. } = &self.universe;
        let sound = domain.and(&packages[var].sound);
        let open = if sound.is_none() { domain } else { &sound };
        let mut releases = open.iter().filter(|choice| *choice != Choices::LEFT_OUT);
        if let Some(locked) = self.locked(var).filter(|locked| domain.has(*locked)) {
            return Some(locked);
        }
        let locked = problem.locked.get(&packages[var].name).filter(|_| problem.gentle);
        if let Some(version) = locked {
            let is_newer =
                |choice: &usize| packages[var].release(*choice).is_some_and(|r| r.entry.version >= *version);
            return open.iter().find(is_newer).or_else(|| releases.last());
        }
        match problem.prefer {
            Prefer::Newest => releases.last(),
            Prefer::Oldest => releases.next(),
        }
    }

    /// The next decision among the packages that those already settled need.
    fn next_of_the_rest(&mut self, direct: &[Var]) -> Option<(Var, Choices)> {
        let mut walk = std::mem::take(&mut self.rest);
        let next = self.next_on(&mut walk, direct, |var| self.best(var), |_| true);
        self.rest = walk;
        next
    }

    /// The next decision on a walk that goes on behind those packages of a ring that `leads_on` says.
    fn next_on(
        &self,
        walk: &mut Nearest,
        direct: &[Var],
        decision: impl Fn(Var) -> Option<(Var, Choices)>,
        leads_on: impl Fn(Var) -> bool,
    ) -> Option<(Var, Choices)> {
        walk.restart_if_left(&self.engine, direct);
        while !walk.is_done {
            while let Some(var) = walk.ring.get(walk.next) {
                if let Some(decision) = decision(*var) {
                    return Some(decision);
                }
                walk.next += 1;
            }
            let leading: Vec<Var> = walk.ring.iter().copied().filter(|var| leads_on(*var)).collect();
            walk.advance(self.ring_behind(&leading));
        }
        None
    }

    /// The packages that a ring of settled ones needs, by name.
    fn ring_behind(&self, ring: &[Var]) -> Vec<Var> {
        let settled = ring.iter().filter_map(|var| self.universe.packages[*var].release(self.chosen(*var)?));
        let needed = settled.flat_map(|release| release.entry.running_needs());
        let mut vars: Vec<Var> = needed.filter_map(|need| self.universe.known(&need.name)).collect();
        vars.sort_by(|a, b| self.universe.packages[*a].name.cmp(&self.universe.packages[*b].name));
        vars.dedup();
        vars
    }

    fn resolution(&self) -> Resolution {
        let mut walk = Nearest::start(&self.direct());
        let mut packages = Vec::new();
        loop {
            let mut ring = walk.ring.clone();
            ring.sort_by(|a, b| self.universe.packages[*a].name.cmp(&self.universe.packages[*b].name));
            for var in ring {
                let package = &self.universe.packages[var];
                let release = self.chosen(var).and_then(|choice| package.release(choice));
                if let (Some(release), Some(listing)) = (release, &package.listing) {
                    packages.push(ChosenPackage { source: listing.source.clone(), release: release.clone() });
                }
            }
            let ring = self.ring_behind(&walk.ring);
            walk.advance(ring);
            if walk.is_done {
                return Resolution { packages };
            }
        }
    }
}

/// A walk over the packages in rings of equal distance from the project.
#[derive(Default)]
struct Nearest {
    ring: Vec<Var>,
    /// The place in the ring up to which all is settled.
    next: usize,
    seen: HashSet<Var>,
    /// Whether there is no further ring.
    is_done: bool,
    /// How often decisions had been taken back when the walk began; `None` before it began.
    left_levels: Option<usize>,
}

impl Nearest {
    fn start(direct: &[Var]) -> Self {
        let mut walk = Self::default();
        walk.advance(direct.to_vec());
        walk
    }

    /// Begins anew where decisions were taken back: what was settled may be open again.
    fn restart_if_left(&mut self, engine: &Engine, direct: &[Var]) {
        let left_levels = Some(engine.left_levels());
        if self.left_levels != left_levels {
            *self = Self { left_levels, ..Self::start(direct) };
        }
    }

    /// Goes on to the packages of `ring` that were not seen before.
    fn advance(&mut self, ring: Vec<Var>) {
        self.ring = ring.into_iter().filter(|var| self.seen.insert(*var)).collect();
        self.next = 0;
        self.is_done = self.ring.is_empty();
    }
}
