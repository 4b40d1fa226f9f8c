//! The needs of releases as clauses, grounded when a release is chosen, in a conflict, or all at once.

use std::collections::BTreeMap;

use super::package::Demanded;
use super::{Demand, Extra, Fact, Kind, Stop, Universe};
use crate::facet::Fits;
use crate::name::PackageName;
use crate::resolve::Catalogue;
use crate::resolve::choices::Choices;
use crate::resolve::engine::{Engine, Term, Var};

/// Most packages in a clause "one of these is needed, whichever release is chosen".
const MAX_POOLED: usize = 4;

impl<C: Catalogue> Universe<'_, C> {
    /// Whether nothing open satisfies a demand on a known package.
    pub(super) fn fails_probing(&mut self, engine: &Engine, var: Var, number: usize) -> bool {
        let target = self.demands(var)[number].demand.target().clone();
        let Some(target) = self.known(&target).filter(|target| *target != var) else { return false };
        let package = &self.packages[target];
        let allowed = match self.packages[var].demand(number) {
            _ if matches!(package.kind, Kind::Capability(_)) => return false,
            Some(Demand::Needs(need)) => package.within(need.range.set(need.prereleases)),
            Some(Demand::Conflicts(conflict)) => {
                package.within(conflict.range.set(true)).not(package.width())
            }
            None => return false,
        };
        engine.domain(target).misses(allowed.view())
    }

    /// Adds all demands between known packages, now and of packages that are reached later.
    pub fn add_all_clauses(&mut self, engine: &mut Engine) -> Result<(), Stop<C::Error>> {
        self.is_thorough = true;
        (0..self.packages.len()).try_for_each(|var| self.state_known_demands(engine, var))
    }

    /// Adds what follows for a package whichever of its releases is chosen: where one needs moss and the other fern,
    /// moss or fern is needed. It saves the search from finding that out release by release.
    pub(super) fn state_pooled(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let facts = self.facts_about.get(&var).map_or(&[][..], Vec::as_slice);
        let mut pooled: BTreeMap<Var, (Choices, Choices, Vec<usize>)> = BTreeMap::new();
        for number in facts {
            let Fact::Demands { releases, demand: Demand::Needs(need), extra: None, .. } =
                &self.stated[*number]
            else {
                continue;
            };
            if !need.when.is_empty() {
                continue;
            }
            let Some(target) = self.known(&need.name).filter(|target| *target != var) else { continue };
            let package = &self.packages[target];
            if let Kind::Capability(_) = package.kind {
                continue;
            }
            let none = (Choices::none(engine.width(var)), Choices::none(package.width()), Vec::new());
            let pool = pooled.entry(target).or_insert(none);
            pool.0 = pool.0.or(releases);
            pool.1 = pool.1.or(&package.within(need.range.set(need.prereleases)));
            pool.2.push(*number);
        }
        let all = self.packages[var].taken();
        let (whole, parts): (Vec<_>, Vec<_>) =
            pooled.into_iter().partition(|(_, (by, ..))| all.view().within(by.view()));
        for (target, (_, accepted, facts)) in &whole {
            let left_out = Choices::of(engine.width(var), [Choices::LEFT_OUT]);
            let terms = [Term { var, choices: left_out }, Term { var: *target, choices: accepted.clone() }];
            engine.state_following(terms, facts)?;
        }
        if whole.is_empty() && !parts.is_empty() && parts.len() <= MAX_POOLED {
            let by = parts.iter().fold(Choices::none(engine.width(var)), |by, (_, (more, ..))| by.or(more));
            let facts: Vec<usize> = parts.iter().flat_map(|(_, (.., facts))| facts.clone()).collect();
            let others = Term { var, choices: by.not(engine.width(var)) };
            let terms = parts.into_iter().map(|(var, (_, choices, _))| Term { var, choices });
            engine.state_following([others].into_iter().chain(terms), &facts)?;
        }
        Ok(())
    }

    pub(super) fn state_known_demands(
        &mut self,
        engine: &mut Engine,
        var: Var,
    ) -> Result<(), Stop<C::Error>> {
        for number in self.undeclared(var, |_| true) {
            let target = self.demand(var, number).target().clone();
            if self.known(&target).is_some() {
                self.state_demand(engine, var, number)?;
            } else {
                self.wait(target, var, number);
            }
        }
        self.state_pooled(engine, var)
    }

    pub(super) fn wait(&mut self, target: PackageName, var: Var, number: usize) {
        let waiting = self.waiting.entry(target).or_default();
        if !waiting.contains(&(var, number)) {
            waiting.push((var, number));
        }
    }

    /// The numbers of a package's demands that were not added yet, of releases that pass a test; without those of
    /// extras that nothing needs.
    pub(super) fn undeclared(&mut self, var: Var, of: impl Fn(&Choices) -> bool) -> Vec<usize> {
        self.demands(var);
        let can_be_wanted = |extra: &Option<Extra>| {
            extra.as_ref().is_none_or(|extra| self.extras.contains_key(&(var, extra.clone())))
        };
        let demands = self.packages[var].known_demands().iter().enumerate();
        let open =
            demands.filter(|(_, made)| !made.stated && of(&made.releases) && can_be_wanted(&made.extra));
        open.map(|(number, _)| number).collect()
    }

    pub(super) fn demands(&mut self, var: Var) -> &mut [Demanded] {
        if self.packages[var].has_demands() {
            return self.packages[var].demands(|_| true);
        }
        let Self { packages, left_out, problem, facets, .. } = self;
        let package = &mut packages[var];
        let left_out = left_out.get(&package.name).map_or(&[][..], Vec::as_slice);
        let holds_somewhere = |when: &Fits| {
            when.is_empty()
                || problem.places.is_empty()
                || problem.places.iter().any(|place| facets.holds(when, place))
        };
        package.demands(|need| !left_out.contains(&need.name) && holds_somewhere(&need.when))
    }

    pub(super) fn demand(&mut self, var: Var, number: usize) -> Demand {
        self.demands(var)[number].demand.clone()
    }

    pub(super) fn state_demand(
        &mut self,
        engine: &mut Engine,
        var: Var,
        number: usize,
    ) -> Result<(), Stop<C::Error>> {
        let demanded = &self.demands(var)[number];
        if demanded.stated {
            return Ok(());
        }
        let (demand, releases) = (demanded.demand.clone(), demanded.releases.clone());
        let extra = demanded.extra.clone();
        if let Demand::Conflicts(conflict) = &demand
            && self.known(&conflict.name).is_none()
        {
            // A package that nothing needs is not read only because another conflicts with it.
            self.wait(conflict.name.clone(), var, number);
            return Ok(());
        }
        self.demands(var)[number].stated = true;
        self.reach(engine, demand.target())?;
        if let Demand::Needs(need) = &demand {
            self.reach_extras(engine, &need.name, &need.components, need.bare)?;
        }
        self.state(engine, Fact::Demands { package: var, releases, demand, extra })
    }
}
