//! Packages as the engine's variables, and what manifests and cards say as its clauses.
//!
//! Only what the search reaches is read: a package when something chosen needs it, a release's needs when it
//! is the one chosen. Where a search turns out to be hard, all that known packages demand of each other is
//! stated at once. What is stated is a [`Fact`] that a person can check.

mod clauses;
mod package;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use self::package::Demanded;
pub use self::package::{Demand, Kind, Package};
use super::choices::Choices;
use super::engine::{Engine, Refuted, Term, Var};
use super::{Catalogue, Problem};
use crate::card::CardNeed;
use crate::facet::{Facets, Fit, Fits, Unstated};
use crate::name::{FacetName, Family, PackageName};

/// Most packages of which one is needed whichever release is taken, where that is stated.
const MOST_POOLED: usize = 4;

/// Something that a manifest or a registry says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fact {
    /// The project's need of this number.
    Direct(usize),
    /// These releases of a package demand something of another.
    Demands { package: Var, releases: Choices, demand: Demand },
    /// These releases of a package were withdrawn.
    Withdrawn { package: Var, releases: Choices },
    /// A package must stay at this release, unless it leaves.
    Held { package: Var, choice: usize },
    /// The project keeps the family of a package in a range.
    Kept { package: Var, family: Family },
    /// Two packages of a family are at one version.
    InStep { one: Var, other: Var, family: Family },
    /// These releases of a package don't suit what a place (of this number) has of a facet.
    Unfit { package: Var, place: usize, facet: FacetName, releases: Choices },
    /// Who provides a capability is needed wherever that is.
    Provided { capability: Var },
}

impl Fact {
    /// The package whose releases the fact is about; `None` where it is about the project.
    pub fn subject(&self) -> Option<Var> {
        match self {
            Self::Direct(_) | Self::Kept { .. } => None,
            Self::Demands { package, .. } | Self::Withdrawn { package, .. } | Self::Held { package, .. } => {
                Some(*package)
            }
            Self::InStep { one, .. } => Some(*one),
            Self::Unfit { package, .. } | Self::Provided { capability: package } => Some(*package),
        }
    }
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

/// Everything reached so far.
pub struct Universe<'a, C> {
    pub problem: &'a Problem,
    pub catalogue: &'a C,
    pub packages: Vec<Package>,
    pub stated: Vec<Fact>,
    /// The facets that are defined.
    pub facets: Arc<Facets>,
    vars: HashMap<PackageName, Var>,
    /// That a package is needed at each place, in the places' order.
    presences: HashMap<Var, Vec<Var>>,
    /// What packages need and the project does without.
    left_out: HashMap<PackageName, Vec<PackageName>>,
    /// The numbers of what was stated of each package's demands.
    facts_about: HashMap<Var, Vec<usize>>,
    /// The packages known that have releases of a family.
    families: BTreeMap<Family, Vec<Var>>,
    /// Demands of packages that are not reached: stated when they are.
    waiting: HashMap<PackageName, Vec<(Var, usize)>>,
    /// Whether all that known packages demand of each other is stated at once.
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
            vars: HashMap::new(),
            presences: HashMap::new(),
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

    /// The places at which a package is needed as things stand.
    pub fn places_of(&self, engine: &Engine, var: Var) -> Vec<usize> {
        let presences = self.presences.get(&var).into_iter().flatten().enumerate();
        let is_present = |presence: Var| !engine.domain(presence).has(Choices::LEFT_OUT);
        presences.filter(|(_, presence)| is_present(**presence)).map(|(place, _)| place).collect()
    }

    /// The places at which the conditions of a need hold.
    fn places_when<'w>(&'w self, when: &'w Fits) -> impl Iterator<Item = usize> + 'w {
        let places = self.problem.places.iter().enumerate();
        places.filter(|(_, place)| self.facets.holds(when, place)).map(|(number, _)| number)
    }

    /// What a package needs and the project does without.
    pub fn left_out(&self, package: &PackageName) -> &[PackageName] {
        self.left_out.get(package).map_or(&[], Vec::as_slice)
    }

    /// The names that a choice brings in: what a release needs, or the provider that was taken.
    pub fn brought_by(&self, engine: &Engine, var: Var, choice: usize) -> Vec<&PackageName> {
        let package = &self.packages[var];
        let left_out = self.left_out(&package.name);
        let needs = package.release(choice).into_iter().flat_map(|release| release.entry.running_needs());
        let places = self.places_of(engine, var);
        let applies = |need: &&CardNeed| {
            let is_unconditional = need.when.is_empty() || self.problem.places.is_empty();
            is_unconditional || self.places_when(&need.when).any(|place| places.contains(&place))
        };
        let needs = needs.filter(|need| applies(need)).map(|need| &need.name);
        let needs = needs.filter(|name| !left_out.contains(name));
        needs.chain(package.provider(choice)).collect()
    }

    /// The variable of a package, which is looked up when it is reached for the first time.
    pub fn reach(&mut self, engine: &mut Engine, name: &PackageName) -> Result<Var, Stop<C::Error>> {
        if let Some(var) = self.known(name) {
            return Ok(var);
        }
        let listing = self.catalogue.listing(name).map_err(Stop::Catalogue)?;
        let package = Package::new(name.clone(), listing);
        let var = engine.new_var(package.width());
        self.packages.push(package);
        self.vars.insert(name.clone(), var);
        self.reach_places(engine, var);
        self.reach_providers(engine, var)?;
        self.state_fits(engine, var)?;
        self.state_standing(engine, var)?;
        self.state_families(engine, var)?;
        for (demanding, number) in self.waiting.remove(name).unwrap_or_default() {
            self.state_demand(engine, demanding, number)?;
        }
        if self.is_thorough {
            self.state_known_demands(engine, var)?;
        }
        Ok(var)
    }

    /// A package may be needed at some places and not at others.
    fn reach_places(&mut self, engine: &mut Engine, var: Var) {
        if matches!(self.packages[var].kind, Kind::Nothing) {
            return;
        }
        let name = self.packages[var].name.clone();
        let presences = self.problem.places.iter().map(|_| {
            let presence = Package::presence(name.clone());
            let var = engine.new_var(presence.width());
            self.packages.push(presence);
            var
        });
        let presences = presences.collect();
        self.presences.insert(var, presences);
    }

    /// States which releases don't fit which places.
    fn state_fits(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        if !self.packages[var].providers().is_empty() && !self.problem.places.is_empty() {
            return self.state(engine, Fact::Provided { capability: var });
        }
        for place in 0..self.problem.places.len() {
            for (facet, releases) in self.unfit(var, place) {
                self.state(engine, Fact::Unfit { package: var, place, facet, releases })?;
            }
        }
        Ok(())
    }

    /// The releases of a package that don't fit a place, by the facet that they fail on.
    fn unfit(&self, var: Var, place: usize) -> BTreeMap<FacetName, Choices> {
        let package = &self.packages[var];
        let refused = |facet: &FacetName| self.problem.unstated.of(facet) == Unstated::Refuse;
        let mut unfit: BTreeMap<FacetName, Choices> = BTreeMap::new();
        for (at, release) in package.releases().iter().enumerate() {
            let fails = match self.facets.fit(&release.entry.fits, &self.problem.places[place]) {
                Fit::Yes => None,
                Fit::No { facet, .. } => Some(facet),
                Fit::NotStated(facets) => facets.into_iter().find(refused),
            };
            if let Some(facet) = fails {
                unfit.entry(facet).or_insert_with(|| Choices::none(package.width())).insert(at + 1);
            }
        }
        unfit
    }

    /// What is needed of a capability depends on what its providers have.
    fn reach_providers(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let providers = self.packages[var].providers().to_vec();
        self.catalogue.expect(&providers);
        providers.iter().try_for_each(|provider| self.reach(engine, provider).map(drop))
    }

    /// States the project's own needs.
    pub fn state_direct(&mut self, engine: &mut Engine) -> Result<(), Stop<C::Error>> {
        let problem = self.problem;
        let names: Vec<PackageName> = problem.needs.iter().map(|need| need.package.clone()).collect();
        self.catalogue.expect(&names);
        for (number, need) in problem.needs.iter().enumerate() {
            self.reach(engine, &need.package)?;
            self.state(engine, Fact::Direct(number))?;
        }
        Ok(())
    }

    /// States what the release behind `choice` demands, together with all releases that demand the same.
    pub fn state_demands(
        &mut self,
        engine: &mut Engine,
        var: Var,
        choice: usize,
    ) -> Result<(), Stop<C::Error>> {
        for number in self.unstated(var, |releases| releases.has(choice)) {
            self.state_demand(engine, var, number)?;
        }
        Ok(())
    }

    /// States why releases of a package that are open stumble over what is closed of known packages; whether
    /// there was anything to state.
    ///
    /// Without it, the search would decide for each of them and run into its reason.
    pub fn state_stumbling(&mut self, engine: &mut Engine, var: Var) -> Result<bool, Stop<C::Error>> {
        let open = engine.domain(var).to_owned();
        let stumbling: Vec<usize> = self
            .unstated(var, |releases| !releases.view().misses(open.view()))
            .into_iter()
            .filter(|number| self.stumbles(engine, var, *number))
            .collect();
        for number in &stumbling {
            self.state_demand(engine, var, *number)?;
        }
        Ok(!stumbling.is_empty())
    }

    /// Whether nothing open satisfies a demand on a package that is known.
    fn stumbles(&mut self, engine: &Engine, var: Var, number: usize) -> bool {
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

    /// States all that known packages demand of each other, now and of whatever is reached later.
    pub fn be_thorough(&mut self, engine: &mut Engine) -> Result<(), Stop<C::Error>> {
        self.is_thorough = true;
        (0..self.packages.len()).try_for_each(|var| self.state_known_demands(engine, var))
    }

    /// States what follows for a package whichever of its releases is taken: where one needs moss and the other fern,
    /// moss or fern is needed. It spares the search to find that out release by release.
    fn state_pooled(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let facts = self.facts_about.get(&var).map_or(&[][..], Vec::as_slice);
        let mut pooled: BTreeMap<Var, (Choices, Choices, Vec<usize>)> = BTreeMap::new();
        for number in facts {
            let Fact::Demands { releases, demand: Demand::Needs(need), .. } = &self.stated[*number] else {
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
        if whole.is_empty() && !parts.is_empty() && parts.len() <= MOST_POOLED {
            let by = parts.iter().fold(Choices::none(engine.width(var)), |by, (_, (more, ..))| by.or(more));
            let facts: Vec<usize> = parts.iter().flat_map(|(_, (.., facts))| facts.clone()).collect();
            let others = Term { var, choices: by.not(engine.width(var)) };
            let terms = parts.into_iter().map(|(var, (_, choices, _))| Term { var, choices });
            engine.state_following([others].into_iter().chain(terms), &facts)?;
        }
        Ok(())
    }

    fn state_known_demands(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        for number in self.unstated(var, |_| true) {
            let target = self.demand(var, number).target().clone();
            if self.known(&target).is_some() {
                self.state_demand(engine, var, number)?;
            } else {
                self.wait(target, var, number);
            }
        }
        self.state_pooled(engine, var)
    }

    fn wait(&mut self, target: PackageName, var: Var, number: usize) {
        let waiting = self.waiting.entry(target).or_default();
        if !waiting.contains(&(var, number)) {
            waiting.push((var, number));
        }
    }

    /// The numbers of a package's demands that were not stated, of releases that a test is for.
    fn unstated(&mut self, var: Var, of: impl Fn(&Choices) -> bool) -> Vec<usize> {
        let demands = self.demands(var).iter().enumerate();
        demands.filter(|(_, made)| !made.stated && of(&made.releases)).map(|(number, _)| number).collect()
    }

    fn demands(&mut self, var: Var) -> &mut [Demanded] {
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

    fn demand(&mut self, var: Var, number: usize) -> Demand {
        self.demands(var)[number].demand.clone()
    }

    fn state_demand(&mut self, engine: &mut Engine, var: Var, number: usize) -> Result<(), Stop<C::Error>> {
        let demanded = &self.demands(var)[number];
        if demanded.stated {
            return Ok(());
        }
        let (demand, releases) = (demanded.demand.clone(), demanded.releases.clone());
        if let Demand::Conflicts(conflict) = &demand
            && self.known(&conflict.name).is_none()
        {
            // What nobody needs is not read only because something can't be together with it.
            self.wait(conflict.name.clone(), var, number);
            return Ok(());
        }
        self.demands(var)[number].stated = true;
        self.reach(engine, demand.target())?;
        self.state(engine, Fact::Demands { package: var, releases, demand })
    }

    /// States what a registry and the problem say of a package's releases by themselves.
    fn state_standing(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let package = &self.packages[var];
        let kept = self.problem.locked.get(&package.name).and_then(|version| package.choice(version));
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

    /// States what holds of a package because its releases are of families.
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
