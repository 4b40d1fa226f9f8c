//! The search for the best resolution.
//!
//! Decisions are made in one fixed order of preference, each for the best open value. Learned clauses exclude only
//! what is impossible, so the first answer is the best by that order.
//!
//! After many conflicts a search counts as hard. Then each preferred value is probed: any solution with it is
//! looked for, deciding by activity and restarting now and then. A solution settles all further preferences
//! that it agrees with.

mod answer;
mod nearest;

use std::collections::{HashMap, HashSet};

use self::nearest::Nearest;
use super::choices::Choices;
use super::conflict;
use super::engine::{Engine, Unsat, Var};
use super::universe::{Kind, Stop, Universe};
use super::{Catalogue, Prefer, Problem, Resolution, Unresolved};
use crate::name::PackageName;

/// Most packages that are named where no answer was found.
const MAX_HARDEST: usize = 5;

/// Conflicts up to which a probe decides by preference, and from then on by saved phase.
const PREFERRED_PHASE_CONFLICTS: u64 = 20;

/// Conflicts after which a search counts as hard.
const PROBE_AFTER: u64 = 100;

/// The best resolution of a problem, or why there is none.
pub fn resolve<C: Catalogue>(problem: &Problem, catalogue: &C) -> Result<Resolution, Unresolved<C::Error>> {
    resolve_with_options(problem, catalogue, SearchOptions::default())
}

/// The best resolution of a problem; `strategy` changes nothing but the time it takes.
pub fn resolve_with_options<C: Catalogue>(
    problem: &Problem,
    catalogue: &C,
    options: SearchOptions,
) -> Result<Resolution, Unresolved<C::Error>> {
    let mut search = Search::new(problem, catalogue, options);
    let result = search.run();
    let conflicts = search.engine.conflicts();
    match result {
        Ok(()) => Ok(search.resolution()),
        Err(Stop::Catalogue(error)) => Err(Unresolved::Catalogue(error)),
        Err(Stop::GaveUp) => Err(Unresolved::GaveUp(search.hardest_packages())),
        Err(Stop::Open(open)) => Err(Unresolved::Open(open)),
        Err(Stop::Unsat(unsat)) => {
            Err(Unresolved::Conflict(Box::new(conflict::explain(&search.universe, &unsat, conflicts))))
        }
    }
}

/// The best resolution of a problem; `None` where there is none, or none was found before
/// `conflict_budget` ran out, from which the conflicts met are subtracted.
pub fn attempt<C: Catalogue>(
    problem: &Problem,
    catalogue: &C,
    conflict_budget: &mut u64,
) -> Result<Option<Resolution>, C::Error> {
    let options = SearchOptions { max_conflicts: *conflict_budget, ..SearchOptions::default() };
    let mut search = Search::new(problem, catalogue, options);
    let result = search.run();
    *conflict_budget = conflict_budget.saturating_sub(search.engine.conflicts());
    match result {
        Ok(()) => Ok(Some(search.resolution())),
        Err(Stop::Catalogue(error)) => Err(error),
        Err(Stop::GaveUp | Stop::Open(_) | Stop::Unsat(_)) => Ok(None),
    }
}

/// How a problem is searched.
#[derive(Debug, Clone, Copy)]
pub struct SearchOptions {
    /// Whether releases that contradict what is decided are ruled out before a decision.
    pub probes_literals: bool,
    /// After how many conflicts it counts as hard.
    pub probe_after: u64,
    /// After how many it gives up.
    pub max_conflicts: u64,
}

impl Default for SearchOptions {
    fn default() -> Self {
        Self { probes_literals: true, probe_after: PROBE_AFTER, max_conflicts: u64::MAX }
    }
}

struct Search<'a, C> {
    universe: Universe<'a, C>,
    engine: Engine,
    /// The direct needs' packages, in order.
    direct: Vec<Var>,
    staying: Nearest,
    rest: Nearest,
    /// How often each package was decided.
    tries: HashMap<Var, usize>,
    options: SearchOptions,
    probing: Option<Probing>,
}

/// The state of a hard search.
struct Probing {
    /// The level being probed: above it any solution will do.
    probe: Option<u32>,
    /// How many conflicts there had been when the probe began.
    begun: u64,
    /// The last solution: a value for each variable.
    solution: Vec<usize>,
}

impl<'a, C: Catalogue> Search<'a, C> {
    fn new(problem: &'a Problem, catalogue: &'a C, options: SearchOptions) -> Self {
        Self {
            universe: Universe::new(problem, catalogue),
            engine: Engine::default(),
            direct: Vec::new(),
            staying: Nearest::default(),
            rest: Nearest::default(),
            tries: HashMap::new(),
            options,
            probing: None,
        }
    }

    fn run(&mut self) -> Result<(), Stop<C::Error>> {
        let locked: Vec<PackageName> = self.universe.problem.locked.keys().cloned().collect();
        self.universe.catalogue.prefetch(&locked);
        self.universe.state_direct(&mut self.engine)?;
        let direct = self.universe.problem.needs.iter().map(|need| &need.package);
        self.direct = direct.filter_map(|package| self.universe.known(package)).collect();
        loop {
            self.propagate_all()?;
            let conflicts = self.engine.conflicts();
            if conflicts > self.options.max_conflicts || self.universe.catalogue.is_out_of_time() {
                return Err(Stop::GaveUp);
            }
            if self.probing.is_none() && conflicts >= self.options.probe_after {
                self.start_probing()?;
            } else if let Some(level) = self.probe_level() {
                self.continue_probe(level)?;
            } else if self.prefer()? {
                return Ok(());
            }
        }
    }

    /// Decides the next variable in the order of preference; returns whether nothing was left to decide.
    fn prefer(&mut self) -> Result<bool, Stop<C::Error>> {
        let next = self
            .next_to_stay()
            .or_else(|| self.direct.iter().find_map(|var| self.best(*var, &HashSet::new())))
            .or_else(|| self.next_of_the_rest())
            .or_else(|| {
                // A late assignment may have made a nearer package need more.
                self.rest = Nearest::default();
                self.next_of_the_rest()
            });
        let Some((var, choice)) = next else { return Ok(true) };
        if self.options.probes_literals
            && self.universe.exclude_failed_literals(&mut self.engine, var, choice)?
        {
            return Ok(false);
        }
        self.decide(var, choice);
        let (level, conflicts) = (self.engine.level(), self.engine.conflicts());
        if let Some(probing) =
            self.probing.as_mut().filter(|probing| probing.solution.get(var) != Some(&choice))
        {
            (probing.probe, probing.begun) = (Some(level), conflicts);
        }
        Ok(false)
    }

    fn decide(&mut self, var: Var, choice: usize) {
        *self.tries.entry(var).or_default() += 1;
        self.engine.decide(var, &Choices::of(self.engine.width(var), [choice]));
    }

    /// From here on a solution is known before anything is preferred: first any, then, decision by decision, one
    /// that agrees with what is preferred. Deciding in the order of preference alone would learn too late what
    /// the first decisions make impossible.
    fn start_probing(&mut self) -> Result<(), Stop<C::Error>> {
        self.engine.backjump(0)?;
        self.probing = Some(Probing { probe: Some(0), begun: self.engine.conflicts(), solution: Vec::new() });
        self.universe.add_all_clauses(&mut self.engine)
    }

    /// The level being probed. A probe is over when its last decision was undone: it is impossible.
    fn probe_level(&mut self) -> Option<u32> {
        let level = self.engine.level();
        let probing = self.probing.as_mut()?;
        probing.probe = probing.probe.filter(|probe| *probe <= level);
        probing.probe
    }

    /// Searches on for any solution with what is decided up to `level`.
    fn continue_probe(&mut self, level: u32) -> Result<(), Unsat> {
        if self.engine.should_restart() {
            return self.engine.restart(level);
        }
        if let Some(var) = self.engine.take_most_active() {
            // First by preference, so that the solution settles further preferences, too.
            let is_new = self
                .probing
                .as_ref()
                .is_some_and(|probing| self.engine.conflicts() < probing.begun + PREFERRED_PHASE_CONFLICTS);
            let saved_phase = self.engine.saved_phase(var).filter(|_| !is_new);
            if let Some(choice) = saved_phase.or_else(|| self.best_choice(var, &HashSet::new())) {
                self.decide(var, choice);
            }
            return Ok(());
        }
        let choice = |var| self.engine.domain(var).only().unwrap_or(Choices::LEFT_OUT);
        let solution = (0..self.universe.packages.len()).map(choice).collect();
        self.probing = Some(Probing { probe: None, begun: 0, solution });
        self.engine.backjump(level)
    }

    /// The packages that were decided most often, which made a long search long.
    fn hardest_packages(&self) -> Vec<PackageName> {
        let mut tries: Vec<(usize, &PackageName)> =
            self.tries.iter().map(|(var, tries)| (*tries, &self.universe.packages[*var].name)).collect();
        tries.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| a.1.cmp(b.1)));
        tries.into_iter().take(MAX_HARDEST).map(|(_, name)| name.clone()).collect()
    }

    /// Propagates, and adds the demands of every release that was chosen by it.
    fn propagate_all(&mut self) -> Result<(), Stop<C::Error>> {
        loop {
            self.engine.propagate()?;
            let narrowed = self.engine.take_changed();
            if narrowed.is_empty() {
                return Ok(());
            }
            let chosen = narrowed.into_iter().filter_map(|var| self.chosen_behind(var));
            let chosen: Vec<(Var, usize)> = chosen.collect();
            self.prefetch_needed(&chosen);
            for (var, choice) in chosen {
                self.universe.state_demands(&mut self.engine, var, choice)?;
            }
        }
    }

    /// A package and its one remaining release or provider, where something about it was assigned.
    fn chosen_behind(&self, var: Var) -> Option<(Var, usize)> {
        let choice = self.chosen(var)?;
        match self.universe.packages[var].kind {
            Kind::Extra(of) => Some((of, self.chosen(of)?)),
            _ => Some((var, choice)),
        }
    }

    fn prefetch_needed(&self, chosen: &[(Var, usize)]) {
        let brought =
            chosen.iter().flat_map(|(var, choice)| self.universe.brought_by(&self.engine, *var, *choice));
        let unknown: Vec<PackageName> =
            brought.filter(|name| self.universe.known(name).is_none()).cloned().collect();
        if !unknown.is_empty() {
            self.universe.catalogue.prefetch(&unknown);
        }
    }

    /// The one remaining release or provider of a package.
    fn chosen(&self, var: Var) -> Option<usize> {
        self.engine.domain(var).only().filter(|choice| *choice != Choices::LEFT_OUT)
    }

    /// The locked value of a package; of a capability first the provider that the project prefers.
    fn locked(&self, var: Var) -> Option<usize> {
        let package = &self.universe.packages[var];
        let Problem { locked, preferred, providers, .. } = self.universe.problem;
        match package.kind {
            Kind::Capability(_) => {
                let wishes = [preferred.get(&package.name), providers.get(&package.name)];
                let choices = wishes.into_iter().flatten().filter_map(|provider| package.taking(provider));
                choices.into_iter().find(|choice| self.engine.domain(var).has(*choice))
            }
            _ => package.choice(locked.get(&package.name)?),
        }
    }

    /// The decision that a locked package stays, where that is still open.
    fn stay(&self, var: Var) -> Option<(Var, usize)> {
        let locked = self.locked(var)?;
        let domain = self.engine.domain(var);
        (domain.has(locked) && domain.only().is_none()).then_some((var, locked))
    }

    /// The next decision that a locked package stays: direct ones, then those that staying ones need.
    ///
    /// A package that is needed only by packages that can't stay is not kept before newer releases are tried.
    fn next_to_stay(&mut self) -> Option<(Var, usize)> {
        let Problem { locked, preferred, providers, .. } = self.universe.problem;
        if locked.is_empty() && preferred.is_empty() && providers.is_empty() {
            return None;
        }
        let mut walk = std::mem::take(&mut self.staying);
        let stayed = |var: Var| self.chosen(var).is_some_and(|choice| self.locked(var) == Some(choice));
        let next = self.next_on(&mut walk, |var, _| self.stay(var), stayed);
        self.staying = walk;
        next
    }

    /// The decision for the best open value, where there is more than one.
    fn best(&self, var: Var, nearer: &HashSet<Var>) -> Option<(Var, usize)> {
        if self.engine.domain(var).only().is_some() {
            return None;
        }
        Some((var, self.best_choice(var, nearer)?))
    }

    /// The best open value: the locked one, or the best of the rest.
    fn best_choice(&self, var: Var, nearer: &HashSet<Var>) -> Option<usize> {
        let locked = self.locked(var).filter(|locked| self.engine.domain(var).has(*locked));
        match self.universe.packages[var].kind {
            Kind::Capability(_) => locked.or_else(|| self.best_provider(var, nearer)),
            _ => locked.or_else(|| self.best_release(var)),
        }
    }

    /// The best open release, deprecated ones last.
    fn best_release(&self, var: Var) -> Option<usize> {
        let domain = self.engine.domain(var);
        let Universe { packages, problem, .. } = &self.universe;
        let sound = domain.and(packages[var].sound.view());
        let open = if sound.is_none() { domain } else { sound.view() };
        let mut releases = open.iter().filter(|choice| *choice != Choices::LEFT_OUT);
        let locked = problem.locked.get(&packages[var].name).filter(|_| problem.gentle);
        if let Some(version) = locked {
            let is_newer =
                |choice: &usize| packages[var].release(*choice).is_some_and(|r| r.entry.version >= *version);
            return open.iter().find(is_newer).or_else(|| releases.next_back());
        }
        match problem.prefer {
            Prefer::Newest => releases.next_back(),
            Prefer::Oldest => releases.next(),
        }
    }

    /// The best open provider: one that is used anyway, or the first by name.
    fn best_provider(&self, var: Var, nearer: &HashSet<Var>) -> Option<usize> {
        let Universe { packages, problem, .. } = &self.universe;
        let open = || self.engine.domain(var).iter().filter(|choice| *choice != Choices::LEFT_OUT);
        let is_taken = |provider: &PackageName| {
            let is_direct = problem.needs.iter().any(|need| need.package == *provider);
            is_direct || self.universe.known(provider).is_some_and(|provider| nearer.contains(&provider))
        };
        let by_presence = open().find(|choice| packages[var].provider(*choice).is_some_and(is_taken));
        by_presence.or_else(|| open().next())
    }

    /// The next decision among the packages that assigned ones need.
    fn next_of_the_rest(&mut self) -> Option<(Var, usize)> {
        let mut walk = std::mem::take(&mut self.rest);
        let next = self.next_on(&mut walk, |var, nearer| self.best(var, nearer), |_| true);
        self.rest = walk;
        next
    }

    /// The next decision on a walk that goes on behind those packages of a ring that `leads_on` says.
    fn next_on(
        &self,
        walk: &mut Nearest,
        decision: impl Fn(Var, &HashSet<Var>) -> Option<(Var, usize)>,
        leads_on: impl Fn(Var) -> bool,
    ) -> Option<(Var, usize)> {
        walk.resume(&self.engine, &self.direct);
        while !walk.is_done {
            while let Some(var) = walk.ring().get(walk.next) {
                if let Some(decision) = decision(*var, &walk.nearer) {
                    return Some(decision);
                }
                walk.next += 1;
            }
            let leading: Vec<Var> = walk.ring().iter().copied().filter(|var| leads_on(*var)).collect();
            walk.advance(&self.engine, self.ring_behind(&leading));
        }
        None
    }

    /// The packages that a ring of assigned ones needs, by name.
    fn ring_behind(&self, ring: &[Var]) -> Vec<Var> {
        let settled = ring.iter().filter_map(|var| Some((*var, self.chosen(*var)?)));
        let brought = settled.flat_map(|(var, choice)| self.universe.brought_by(&self.engine, var, choice));
        let mut vars: Vec<Var> = brought.filter_map(|name| self.universe.known(name)).collect();
        vars.sort_by(|a, b| self.universe.packages[*a].name.cmp(&self.universe.packages[*b].name));
        vars.dedup();
        vars
    }
}
