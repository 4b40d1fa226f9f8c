//! Packages as the engine's variables; manifests and cards as its clauses.
//!
//! Clauses are grounded lazily: a package is read when a chosen release needs it, a release's needs when it
//! is chosen. In a hard search all demands between known packages are added at once. The source of each clause
//! is a [`Fact`] that a person can check.

mod charters;
mod clauses;
mod demands;
mod extras;
mod fits;
mod package;
mod refused;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use jiff::Timestamp;

use self::package::extra_needs;
pub use self::package::{Demand, Extra, Kind, Package};
use super::choices::Choices;
use super::engine::{Engine, Unsat, Var};
use super::{Catalogue, OpenCapability, Problem};
use crate::card::CardNeed;
use crate::facet::Facets;
use crate::name::{FacetName, Family, PackageName, PartName};
use crate::rules::Breach;

/// Something that a manifest or a registry says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact {
    /// The project's need of this number.
    Direct(usize),
    /// These releases of a package demand something of another, where this extra of them is needed.
    Demands { package: Var, releases: Choices, demand: Demand, extra: Option<Extra> },
    /// These releases of a package were withdrawn.
    Withdrawn { package: Var, releases: Choices },
    /// A package must stay at this release, unless it leaves.
    Held { package: Var, choice: usize },
    /// The project keeps the family of a package in a range.
    Kept { package: Var, family: Family },
    /// Two packages of a family are at one version.
    InStep { one: Var, other: Var, family: Family },
    /// These releases of a package don't fit a target (by its index), where this extra of them is needed, for a purpose of this
    /// scope.
    Unfit {
        package: Var,
        target: usize,
        lack: Lack,
        releases: Choices,
        extra: Option<Extra>,
        scope: Option<usize>,
    },
    /// The rules exclude these releases of a package, where it is needed for a purpose of this scope.
    Refused { package: Var, releases: Choices, breach: Breach, scope: Option<usize> },
    /// The charter of this number binds a package, by itself or by a family.
    Chartered { package: Var, charter: usize, family: Option<Family> },
    /// These releases are charters, which nothing can need.
    Charters { package: Var, releases: Choices },
    /// Who provides a capability is needed wherever that is.
    Provided { capability: Var },
}

/// What releases lack to fit a target.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Lack {
    /// What they state of a facet, or don't declare, doesn't fit.
    Facet(FacetName),
    /// They have no file of a part for it.
    Part(PartName),
}

impl Fact {
    /// The package whose releases the fact is about; `None` where it is about the project.
    pub fn subject(&self) -> Option<Var> {
        match self {
            Self::Direct(_) | Self::Kept { .. } => None,
            Self::Demands { package, .. }
            | Self::Withdrawn { package, .. }
            | Self::Held { package, .. }
            | Self::Refused { package, .. }
            | Self::Chartered { package, .. }
            | Self::Charters { package, .. } => Some(*package),
            Self::InStep { one, .. } => Some(*one),
            Self::Unfit { package, .. } | Self::Provided { capability: package } => Some(*package),
        }
    }
}

/// Why no clause can be added.
#[derive(Debug)]
pub enum Stop<E> {
    Unsat(Unsat),
    Catalogue(E),
    GaveUp,
    /// Several packages provide a capability, and a person has to choose one.
    Open(Box<OpenCapability>),
}

impl<E> From<Unsat> for Stop<E> {
    fn from(unsat: Unsat) -> Self {
        Self::Unsat(unsat)
    }
}

/// All packages that the search has reached.
pub struct Universe<'a, C> {
    pub problem: &'a Problem,
    pub catalogue: &'a C,
    pub packages: Vec<Package>,
    pub stated: Vec<Fact>,
    /// The facets that are defined.
    pub facets: Arc<Facets>,
    vars: HashMap<PackageName, Var>,
    /// How many scopes of rules there are; none where all purposes have the same rules.
    scopes: usize,
    /// Now, for rules about ages.
    now: Timestamp,
    /// For each target, then for each scope, the variable that says whether a package is needed there.
    presences: HashMap<Var, Vec<Var>>,
    /// For each target, the variable that says whether an extra of a package is needed on it.
    extras: HashMap<(Var, Extra), Vec<Var>>,
    /// What packages need and the project does without.
    left_out: HashMap<PackageName, Vec<PackageName>>,
    /// The numbers of the demands of each package that were added.
    facts_about: HashMap<Var, Vec<usize>>,
    /// The packages known that have releases of a family.
    families: BTreeMap<Family, Vec<Var>>,
    /// Demands on packages that are not reached yet: added when they are.
    waiting: HashMap<PackageName, Vec<(Var, usize)>>,
    /// Whether all demands between known packages are added at once.
    is_thorough: bool,
}

impl<'a, C: Catalogue> Universe<'a, C> {
    /// The universe of a problem, nothing reached yet.
    pub fn new(problem: &'a Problem, catalogue: &'a C) -> Self {
        let left_out = problem.needs.iter().filter(|need| !need.without.is_empty()).map(|need| &need.package);
        let left_out = left_out.map(|package| (package.clone(), problem.left_out(package)));
        Self {
            problem,
            catalogue,
            left_out: left_out.filter(|(_, names)| !names.is_empty()).collect(),
            packages: Vec::new(),
            stated: Vec::new(),
            facets: catalogue.facets(),
            scopes: problem.rules.scopes().len(),
            now: catalogue.now(),
            vars: HashMap::new(),
            presences: HashMap::new(),
            extras: HashMap::new(),
            facts_about: HashMap::new(),
            families: BTreeMap::new(),
            waiting: HashMap::new(),
            is_thorough: false,
        }
    }

    /// The variable of a package, if it was reached.
    pub fn known(&self, name: &PackageName) -> Option<Var> {
        self.vars.get(name).copied()
    }

    /// The targets on which a package is needed by the current assignment.
    pub fn places_of(&self, engine: &Engine, var: Var) -> Vec<usize> {
        let presences = self.presences.get(&var).into_iter().flatten().enumerate();
        let is_present = |presence: Var| !engine.domain(presence).has(Choices::LEFT_OUT);
        let targets = presences.take(self.problem.places.len());
        targets.filter(|(_, presence)| is_present(**presence)).map(|(target, _)| target).collect()
    }

    /// What a package needs and the project does without.
    pub fn left_out(&self, package: &PackageName) -> &[PackageName] {
        self.left_out.get(package).map_or(&[], Vec::as_slice)
    }

    /// The names that a value adds: what a release needs, or the provider.
    pub fn brought_by(&self, engine: &Engine, var: Var, choice: usize) -> Vec<&PackageName> {
        let package = &self.packages[var];
        let left_out = self.left_out(&package.name);
        let entry = package.release(choice).map(|release| &release.entry);
        let bare = entry.into_iter().flat_map(|entry| entry.running_needs().map(|need| (None, need)));
        let needs = bare.chain(entry.into_iter().flat_map(extra_needs));
        let applies = |(extra, need): &(Option<Extra>, &CardNeed)| {
            let is_unconditional = extra.is_none() && need.when.is_empty();
            is_unconditional
                || self.spots_when(&need.when).any(|spot| self.is_wanted(engine, var, extra.as_ref(), spot))
        };
        let needs = needs.filter(|need| applies(need)).map(|(_, need)| &need.name);
        let needs = needs.filter(|name| !left_out.contains(name));
        needs.chain(package.provider(choice)).collect()
    }

    /// The variable of a package, which is looked up when it is reached for the first time.
    pub fn reach(&mut self, engine: &mut Engine, name: &PackageName) -> Result<Var, Stop<C::Error>> {
        if let Some(var) = self.known(name) {
            return Ok(var);
        }
        let listing = self.catalogue.listing(name).map_err(Stop::Catalogue)?;
        let all = listing.as_ref().map(|listing| listing.history.providers());
        let providers = all.map(|all| self.problem.possible_providers(name, all)).unwrap_or(Ok(Vec::new()));
        let providers = providers.map_err(|open| Stop::Open(Box::new(open)))?;
        let package = Package::new(name.clone(), listing, providers);
        let var = engine.new_var(package.width());
        self.packages.push(package);
        self.reach_places(engine, var);
        self.reach_providers(engine, var)?;
        // Not before its providers are known: what they need of it would be stated without the providers that come later.
        self.vars.insert(name.clone(), var);
        self.state_fits(engine, var)?;
        self.state_standing(engine, var)?;
        self.state_refused(engine, var)?;
        self.state_families(engine, var)?;
        self.state_charters(engine, var)?;
        for (demanding, number) in self.waiting.remove(name).unwrap_or_default() {
            self.state_demand(engine, demanding, number)?;
        }
        if self.is_thorough {
            self.state_known_demands(engine, var)?;
        }
        Ok(var)
    }

    /// A package may be needed on some targets and not on others, and for some purposes.
    fn reach_places(&mut self, engine: &mut Engine, var: Var) {
        if matches!(self.packages[var].kind, Kind::Nothing) {
            return;
        }
        let name = self.packages[var].name.clone();
        let presences = (0..self.problem.places.len() + self.scopes).map(|_| {
            let presence = Package::presence(name.clone());
            let var = engine.new_var(presence.width());
            self.packages.push(presence);
            var
        });
        let presences = presences.collect();
        self.presences.insert(var, presences);
    }

    /// What is needed of a capability depends on what its providers have.
    fn reach_providers(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let providers = self.packages[var].providers().to_vec();
        self.catalogue.prefetch(&providers);
        providers.iter().try_for_each(|provider| self.reach(engine, provider).map(drop))
    }

    /// Adds the project's own needs.
    pub fn state_direct(&mut self, engine: &mut Engine) -> Result<(), Stop<C::Error>> {
        let problem = self.problem;
        let names: Vec<PackageName> = problem.needs.iter().map(|need| need.package.clone()).collect();
        self.catalogue.prefetch(&names);
        for (number, need) in problem.needs.iter().enumerate() {
            self.reach(engine, &need.package)?;
            self.reach_extras(engine, &need.package, &need.components, need.bare)?;
            self.state(engine, Fact::Direct(number))?;
        }
        Ok(())
    }

    /// Adds the demands of a release, each for all releases that have the same demand.
    pub fn state_demands(
        &mut self,
        engine: &mut Engine,
        var: Var,
        choice: usize,
    ) -> Result<(), Stop<C::Error>> {
        for number in self.undeclared(var, |releases| releases.has(choice)) {
            let extra = self.packages[var].known_demands().get(number).and_then(|made| made.extra.as_ref());
            let is_wanted = |spot| self.is_wanted(engine, var, extra, spot);
            if extra.is_none() || self.spots().any(is_wanted) {
                self.state_demand(engine, var, number)?;
            }
        }
        Ok(())
    }

    /// Rules out the open releases of a package whose demands nothing open satisfies, where the one that would be chosen
    /// is one of them; returns whether it is (failed-literal probing).
    ///
    /// Without it, the search would decide for each of them and run into its reason.
    pub fn exclude_failed_literals(
        &mut self,
        engine: &mut Engine,
        var: Var,
        choice: usize,
    ) -> Result<bool, Stop<C::Error>> {
        if self.failed_literals(engine, var, |releases| releases.has(choice)).is_empty() {
            return Ok(false);
        }
        let open = engine.domain(var).to_owned();
        let failed_literals =
            self.failed_literals(engine, var, |releases| !releases.view().misses(open.view()));
        for number in &failed_literals {
            self.state_demand(engine, var, *number)?;
        }
        Ok(true)
    }

    /// The demands that nothing open satisfies, of the releases that pass a test.
    fn failed_literals(&mut self, engine: &Engine, var: Var, of: impl Fn(&Choices) -> bool) -> Vec<usize> {
        let mut failed_literals = self.undeclared(var, of);
        failed_literals.retain(|number| self.fails_probing(engine, var, *number));
        failed_literals
    }

    /// Adds what registry and problem say of a package's releases alone.
    fn state_standing(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let package = &self.packages[var];
        let kept = self.problem.kept(&package.name).and_then(|version| package.choice(version));
        let withdrawn = package.choices_where(|release| release.withdrawn.is_some());
        let releases = Choices::of(package.width(), withdrawn.iter().filter(|choice| Some(*choice) != kept));
        let held = self.problem.held.get(&package.name).and_then(|version| package.choice(version));
        if !releases.is_none() {
            self.state(engine, Fact::Withdrawn { package: var, releases })?;
        }
        match held {
            Some(choice) => self.state(engine, Fact::Held { package: var, choice }),
            None => Ok(()),
        }
    }

    /// Adds the rules of the families that a package's releases belong to.
    fn state_families(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        for family in self.packages[var].families() {
            if self.problem.families.contains_key(&family) {
                self.state(engine, Fact::Kept { package: var, family: family.clone() })?;
            }
            let known = self.families.entry(family.clone()).or_default();
            let others = known.clone();
            known.push(var);
            for other in others {
                self.state(engine, Fact::InStep { one: other, other: var, family: family.clone() })?;
            }
        }
        Ok(())
    }

    fn state(&mut self, engine: &mut Engine, fact: Fact) -> Result<(), Stop<C::Error>> {
        let clauses = self.clauses_of(&fact);
        let number = self.stated.len();
        if let Fact::Demands { package, .. } = &fact {
            self.facts_about.entry(*package).or_default().push(number);
        }
        self.stated.push(fact);
        clauses.into_iter().try_for_each(|terms| Ok(engine.state(terms, number)?))
    }
}
