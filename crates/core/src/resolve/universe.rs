//! Packages as the engine's variables, and what cards say as its clauses.
//!
//! Only what the search reaches is read: a package when something chosen needs it, a release's needs when it
//! is the one chosen. Each clause is a [`Fact`] that a person can check.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use super::choices::Choices;
use super::engine::{Engine, Refuted, Term, Var};
use super::{Catalogue, Listing, Problem};
use crate::card::CardNeed;
use crate::history::Release;
use crate::name::PackageName;
use crate::range::VersionSet;
use crate::version::Version;

/// Something that a manifest or a registry says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact {
    /// The project's need of this number.
    Direct(usize),
    /// These releases of a package need another.
    Needs { package: Var, releases: Choices, need: CardNeed },
    /// These releases of a package were withdrawn.
    Withdrawn { package: Var, releases: Choices },
    /// A package must stay at this release, unless it leaves.
    Held { package: Var, choice: usize },
}

/// What a clause says.
#[derive(Debug, Clone)]
pub enum Stated {
    /// One fact.
    Fact(Fact),
    /// Each of these releases of a package needs another within these choices: what several facts come to.
    Within { package: Var, releases: Choices, needed: Var, within: Choices },
}

/// Why nothing more can be stated.
#[derive(Debug)]
pub enum Stop<E> {
    Refuted(Refuted),
    Catalogue(E),
    GaveUp,
}

impl<E> From<Refuted> for Stop<E> {
    fn from(refuted: Refuted) -> Self {
        Self::Refuted(refuted)
    }
}

/// A package that the search has reached.
#[derive(Debug)]
pub struct Package {
    pub name: PackageName,
    pub listing: Option<Arc<Listing>>,
    /// The releases that are not deprecated.
    pub sound: Choices,
    /// The releases whose needs were stated already.
    stated: Choices,
}

impl Package {
    /// The releases, oldest first; empty if no registry has the package.
    pub fn releases(&self) -> &[Release] {
        self.listing.as_ref().map_or(&[], |listing| listing.history.releases())
    }

    /// The release behind a choice; `None` for leaving the package out.
    pub fn release(&self, choice: usize) -> Option<&Release> {
        self.releases().get(choice.checked_sub(1)?)
    }

    /// The choice that takes `version`.
    pub fn choice(&self, version: &Version) -> Option<usize> {
        let found = self.releases().binary_search_by(|release| release.entry.version.cmp(version));
        found.ok().map(|at| at + 1)
    }

    /// How many choices there are: a release, or leaving the package out.
    pub fn width(&self) -> usize {
        self.releases().len() + 1
    }

    /// The choices that take a release in `set`.
    pub fn within(&self, set: &VersionSet) -> Choices {
        self.choices_where(|release| set.contains(release.entry.version.point()))
    }

    /// The choices that take a release of which something holds.
    fn choices_where(&self, holds: impl Fn(&Release) -> bool) -> Choices {
        let held = self.releases().iter().enumerate().filter(|(_, release)| holds(release));
        Choices::of(self.width(), held.map(|(at, _)| at + 1))
    }
}

/// Everything reached so far.
pub struct Universe<'a, C> {
    pub problem: &'a Problem,
    pub catalogue: &'a C,
    pub packages: Vec<Package>,
    pub stated: Vec<Stated>,
    vars: HashMap<PackageName, Var>,
    /// The choices that a need accepts, by package, choice and the need's place in the card.
    accepted: HashMap<(Var, usize, usize), Choices>,
}

impl<'a, C: Catalogue> Universe<'a, C> {
    /// The universe of a problem, nothing reached yet.
    pub fn new(problem: &'a Problem, catalogue: &'a C) -> Self {
        Self {
            problem,
            catalogue,
            packages: Vec::new(),
            stated: Vec::new(),
            vars: HashMap::new(),
            accepted: HashMap::new(),
        }
    }

    /// The variable of a package, if it was reached.
    pub fn known(&self, name: &PackageName) -> Option<Var> {
        self.vars.get(name).copied()
    }

    /// The variable of a package, which is looked up when it is reached for the first time.
    pub fn reach(&mut self, engine: &mut Engine, name: &PackageName) -> Result<Var, Stop<C::Error>> {
        if let Some(var) = self.known(name) {
            return Ok(var);
        }
        let listing = self.catalogue.listing(name).map_err(Stop::Catalogue)?;
        let mut package =
            Package { name: name.clone(), listing, sound: Choices::none(0), stated: Choices::none(0) };
        package.sound = package.choices_where(|release| release.deprecated.is_none());
        package.stated = Choices::none(package.width());
        let var = engine.new_var(package.width());
        self.packages.push(package);
        self.vars.insert(name.clone(), var);
        self.state_withdrawn(engine, var)?;
        self.state_held(engine, var)?;
        Ok(var)
    }

    /// States the project's own needs.
    pub fn state_direct(&mut self, engine: &mut Engine) -> Result<(), Stop<C::Error>> {
        let problem = self.problem;
        let names: Vec<PackageName> = problem.needs.iter().map(|need| need.package.clone()).collect();
        self.catalogue.expect(&names);
        for (number, need) in problem.needs.iter().enumerate() {
            let var = self.reach(engine, &need.package)?;
            let choices = self.packages[var].within(need.range.set(need.prereleases));
            self.state(engine, [Term { var, choices }], Fact::Direct(number))?;
        }
        Ok(())
    }

    /// States what the release behind `choice` needs, together with all releases that need the same.
    pub fn state_needs(
        &mut self,
        engine: &mut Engine,
        var: Var,
        choice: usize,
    ) -> Result<(), Stop<C::Error>> {
        let package = &mut self.packages[var];
        if package.stated.has(choice) {
            return Ok(());
        }
        package.stated.insert(choice);
        let needs = package.release(choice).map(running_needs);
        for need in needs.unwrap_or_default() {
            self.state_need(engine, var, choice, need)?;
        }
        Ok(())
    }

    /// States which releases of a package can't be chosen any more because what they need of a known package
    /// is no longer open; whether there was anything to state.
    ///
    /// One clause takes out all releases that stumble over the same thing. Without it, the search would run
    /// into each of them.
    pub fn state_impossible(&mut self, engine: &mut Engine, var: Var) -> Result<bool, Stop<C::Error>> {
        let mut impossible: BTreeMap<Var, Choices> = BTreeMap::new();
        let open: Vec<usize> =
            engine.domain(var).iter().filter(|choice| *choice != Choices::LEFT_OUT).collect();
        if open.len() < 2 {
            return Ok(false);
        }
        for choice in 1..self.packages[var].width() {
            for (needed, accepted) in self.accepted(var, choice) {
                if engine.domain(needed).misses(&accepted) {
                    let none = || Choices::none(engine.width(var));
                    impossible.entry(needed).or_insert_with(none).insert(choice);
                }
            }
        }
        impossible.retain(|_, releases| open.iter().any(|choice| releases.has(*choice)));
        // All are worked out before any is stated: stating may take decisions back and open domains again.
        let width = engine.width(var);
        let stated: Vec<_> = impossible
            .into_iter()
            .map(|(needed, releases)| {
                let within = engine.domain(needed).not(engine.width(needed));
                let unless = Term { var, choices: releases.not(width) };
                let terms = [unless, Term { var: needed, choices: within.clone() }];
                (terms, Stated::Within { package: var, releases, needed, within })
            })
            .collect();
        let any = !stated.is_empty();
        stated.into_iter().try_for_each(|(terms, what)| self.state_as(engine, terms, what))?;
        Ok(any)
    }

    /// What a release needs of other packages that are known, and the choices that each need accepts.
    fn accepted(&mut self, var: Var, choice: usize) -> Vec<(Var, Choices)> {
        let Some(listing) = self.packages[var].listing.clone() else { return Vec::new() };
        let Some(release) = choice.checked_sub(1).and_then(|at| listing.history.releases().get(at)) else {
            return Vec::new();
        };
        let mut all = Vec::new();
        for (place, need) in release.entry.running_needs().enumerate() {
            if let Some(needed) = self.known(&need.name).filter(|needed| *needed != var) {
                let packages = &self.packages;
                let accepted = self.accepted.entry((var, choice, place));
                let accepted =
                    accepted.or_insert_with(|| packages[needed].within(need.range.set(need.prereleases)));
                all.push((needed, accepted.clone()));
            }
        }
        all
    }

    /// The facts behind a clause.
    pub fn facts_of(&self, stated: &Stated) -> Vec<Fact> {
        let (package, releases, needed, within) = match stated {
            Stated::Fact(fact) => return vec![fact.clone()],
            Stated::Within { package, releases, needed, within } => (package, releases, needed, within),
        };
        let mut exact: Vec<Fact> = Vec::new();
        let name = &self.packages[*needed].name;
        for release in releases.iter().filter_map(|choice| self.packages[*package].release(choice)) {
            for need in release.entry.running_needs().filter(|need| need.name == *name) {
                let accepted = self.packages[*needed].within(need.range.set(need.prereleases));
                let is_told = |told: &Fact| matches!(told, Fact::Needs { need: other, .. } if other == need);
                if accepted.within(within) && !exact.iter().any(is_told) {
                    let releases = self.with_same_need(*package, need);
                    exact.push(Fact::Needs { package: *package, releases, need: need.clone() });
                }
            }
        }
        exact
    }

    fn state_need(
        &mut self,
        engine: &mut Engine,
        var: Var,
        choice: usize,
        need: CardNeed,
    ) -> Result<(), Stop<C::Error>> {
        let releases = self.with_same_need(var, &need);
        if releases.iter().any(|other| other != choice && self.packages[var].stated.has(other)) {
            return Ok(());
        }
        let needed = self.reach(engine, &need.name)?;
        let accepted = self.packages[needed].within(need.range.set(need.prereleases));
        let unless = Term { var, choices: releases.not(engine.width(var)) };
        let fact = Fact::Needs { package: var, releases, need };
        if needed == var {
            // A release that needs its own package: satisfied by itself, or never.
            return self.state(engine, [Term { var, choices: unless.choices.or(&accepted) }], fact);
        }
        self.state(engine, [unless, Term { var: needed, choices: accepted }], fact)
    }

    fn with_same_need(&self, var: Var, need: &CardNeed) -> Choices {
        let has = |release: &Release| release.entry.running_needs().any(|other| other == need);
        self.packages[var].choices_where(has)
    }

    fn state_withdrawn(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let package = &self.packages[var];
        let kept = self.problem.locked.get(&package.name).and_then(|version| package.choice(version));
        let withdrawn = package.choices_where(|release| release.withdrawn.is_some());
        let releases = Choices::of(package.width(), withdrawn.iter().filter(|choice| Some(*choice) != kept));
        if releases.is_none() {
            return Ok(());
        }
        let choices = releases.not(package.width());
        self.state(engine, [Term { var, choices }], Fact::Withdrawn { package: var, releases })
    }

    fn state_held(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let package = &self.packages[var];
        let held = self.problem.held.get(&package.name).and_then(|version| package.choice(version));
        let Some(choice) = held else { return Ok(()) };
        let choices = Choices::of(package.width(), [Choices::LEFT_OUT, choice]);
        self.state(engine, [Term { var, choices }], Fact::Held { package: var, choice })
    }

    fn state(
        &mut self,
        engine: &mut Engine,
        terms: impl IntoIterator<Item = Term>,
        fact: Fact,
    ) -> Result<(), Stop<C::Error>> {
        self.state_as(engine, terms, Stated::Fact(fact))
    }

    fn state_as(
        &mut self,
        engine: &mut Engine,
        terms: impl IntoIterator<Item = Term>,
        what: Stated,
    ) -> Result<(), Stop<C::Error>> {
        let number = self.stated.len();
        self.stated.push(what);
        Ok(engine.state(terms, number)?)
    }
}

fn running_needs(release: &Release) -> Vec<CardNeed> {
    release.entry.running_needs().cloned().collect()
}
