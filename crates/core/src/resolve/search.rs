//! The search for the best resolution.
//!
//! Decisions are made in one fixed order of preference, each for the best choice still open. What the engine
//! learns only excludes what is impossible, so the first answer found is the best by that order.

use super::choices::Choices;
use super::conflict;
use super::engine::{Engine, Var};
use super::universe::{Stop, Universe};
use super::{Catalogue, ChosenPackage, Prefer, Problem, Resolution, Unresolved};
use crate::name::PackageName;

/// The best resolution of a problem, or why there is none.
pub fn resolve<C: Catalogue>(problem: &Problem, catalogue: &C) -> Result<Resolution, Unresolved<C::Error>> {
    let mut search = Search {
        universe: Universe::new(problem, catalogue),
        engine: Engine::default(),
        rest: Nearest::default(),
    };
    match search.run() {
        Ok(()) => Ok(search.resolution()),
        Err(Stop::Catalogue(error)) => Err(Unresolved::Catalogue(error)),
        Err(Stop::Refuted(refuted)) => Err(Unresolved::Conflict(conflict::tell(&search.universe, &refuted))),
    }
}

struct Search<'a, C> {
    universe: Universe<'a, C>,
    engine: Engine,
    rest: Nearest,
}

impl<C: Catalogue> Search<'_, C> {
    fn run(&mut self) -> Result<(), Stop<C::Error>> {
        self.universe.state_direct(&mut self.engine)?;
        let direct = self.direct();
        let locked = self.locked(&direct)?;
        loop {
            self.draw_consequences()?;
            let kept = locked.iter().find_map(|(var, keep)| self.staying(*var, keep));
            let next = kept
                .or_else(|| direct.iter().find_map(|var| self.best(*var)))
                .or_else(|| self.next_of_the_rest());
            match next {
                Some((var, choices)) => self.engine.decide(var, &choices),
                None => return Ok(()),
            }
        }
    }

    /// The direct needs' packages, in order.
    fn direct(&self) -> Vec<Var> {
        self.universe.problem.needs.iter().filter_map(|need| self.universe.known(&need.package)).collect()
    }

    /// The packages that are locked and still have the release, with "that one or none".
    fn locked(&mut self, direct: &[Var]) -> Result<Vec<(Var, Choices)>, Stop<C::Error>> {
        let problem = self.universe.problem;
        let names: Vec<PackageName> = problem.locked.keys().cloned().collect();
        self.universe.catalogue.expect(&names);
        let mut locked = Vec::new();
        for (name, version) in &problem.locked {
            let var = self.universe.reach(&mut self.engine, name)?;
            if let Some(choice) = self.universe.packages[var].choice(version) {
                locked.push((var, Choices::of(self.engine.width(var), [Choices::LEFT_OUT, choice])));
            }
        }
        locked.sort_by_key(|(var, _)| direct.iter().position(|other| other == var).unwrap_or(usize::MAX));
        Ok(locked)
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

    /// The decision that a locked package stays or is left out, where that is still open.
    fn staying(&self, var: Var, keep: &Choices) -> Option<(Var, Choices)> {
        let domain = self.engine.domain(var);
        (!domain.misses(keep) && !domain.within(keep)).then(|| (var, keep.clone()))
    }

    /// The decision for the best release still open, where there is more than one.
    fn best(&self, var: Var) -> Option<(Var, Choices)> {
        let domain = self.engine.domain(var);
        if domain.only().is_some() {
            return None;
        }
        let sound = domain.and(&self.universe.packages[var].sound);
        let open = if sound.is_none() { domain } else { &sound };
        let best = match self.universe.problem.prefer {
            Prefer::Newest => open.highest(),
            Prefer::Oldest => open.iter().find(|choice| *choice != Choices::LEFT_OUT),
        };
        Some((var, Choices::of(self.engine.width(var), best)))
    }

    /// The next decision among the packages that those already settled need.
    fn next_of_the_rest(&mut self) -> Option<(Var, Choices)> {
        if self.rest.left_levels != self.engine.left_levels() || self.rest.ring.is_empty() {
            self.rest = Nearest { left_levels: self.engine.left_levels(), ..Nearest::start(self.direct()) };
        }
        loop {
            while let Some(var) = self.rest.ring.get(self.rest.next) {
                if let Some(decision) = self.best(*var) {
                    return Some(decision);
                }
                self.rest.next += 1;
            }
            let ring = self.ring_behind(&self.rest.ring);
            if !self.rest.advance(ring) {
                return None;
            }
        }
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
        let mut walk = Nearest::start(self.direct());
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
            if !walk.advance(ring) {
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
    seen: std::collections::HashSet<Var>,
    left_levels: usize,
}

impl Nearest {
    fn start(direct: Vec<Var>) -> Self {
        let mut walk = Self::default();
        walk.advance(direct);
        walk
    }

    /// Goes on to the packages of `ring` that were not seen before; `false` if there are none.
    fn advance(&mut self, ring: Vec<Var>) -> bool {
        self.ring = ring.into_iter().filter(|var| self.seen.insert(*var)).collect();
        self.next = 0;
        !self.ring.is_empty()
    }
}
