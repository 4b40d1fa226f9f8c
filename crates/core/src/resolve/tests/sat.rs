//! What cards, manifests and sentences say, put to a general SAT solver with one variable for each release.

use std::collections::HashMap;

use batsat::{BasicSolver, Lit, SolverInterface, lbool};

use super::brute_force::is_allowed;
use super::*;
use crate::resolve::universe::Extra;
use crate::rules::Stance;

/// Most places that a problem of these tests has.
pub const MAX_PLACES: usize = 3;

/// Some releases of a package.
pub type Releases = (PackageName, Vec<Version>);

/// Something that has to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Rule {
    /// What takes one of these (the project, if none are named), with something wanted of them, takes a release in
    /// the range that has these components, which is needed then wherever the taker is.
    Needs(Option<Releases>, Option<Extra>, PackageName, Range, Where, Wants),
    /// None of these is taken for a package that is needed at this place, or of which something is wanted there.
    Unfit(Releases, usize, Option<Extra>),
    /// A provider is needed wherever the capability is.
    Provided(PackageName),
    /// What takes one of these takes none in the range.
    Bars(Releases, PackageName, Range),
    /// None of these is taken.
    Never(Releases),
    /// Releases of the family are in the range.
    Kept(PackageName, Family, Range),
    /// Two packages are at one version, where their releases are of the family.
    InStep(PackageName, PackageName, Family),
}

/// What a problem's rules say of releases that don't declare a facet.
fn undeclared(problem: &Problem) -> Stance {
    let rules = problem.rules.own.general.undeclared.as_ref();
    rules.and_then(|rules| rules.others).unwrap_or_default()
}

/// The spot of a problem without places.
const ANYWHERE: usize = usize::MAX;

/// At which places something is needed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Where {
    /// These, by their numbers.
    pub places: Vec<usize>,
    /// Whether it is not needed at all where the taker is at none of them.
    pub only_there: bool,
}

impl Where {
    /// The places from a level on; all places for none.
    pub fn from(problem: &Problem, level: Option<usize>) -> Self {
        let reaches = |place: &Target| level.is_none_or(|level| level_of(place) >= level);
        let places = problem.places.iter().enumerate().filter(|(_, place)| reaches(place));
        let places: Vec<usize> = places.map(|(number, _)| number).collect();
        let places = if problem.places.is_empty() { vec![ANYWHERE] } else { places };
        Self { places, only_there: level.is_some() && !problem.places.is_empty() }
    }

    /// The places of these names; all places for none.
    pub fn named(problem: &Problem, names: Option<&Vec<String>>) -> Self {
        let is_named = |place: &Target| names.is_none_or(|names| names.contains(&place.name));
        let places = problem.places.iter().enumerate().filter(|(_, place)| is_named(place));
        let places: Vec<usize> = places.map(|(number, _)| number).collect();
        Self { places: if problem.places.is_empty() { vec![ANYWHERE] } else { places }, only_there: false }
    }
}

/// All that a registry and a problem say.
pub fn rules(registry: &Registry, problem: &Problem) -> Vec<Rule> {
    let mut rules: Vec<Rule> = problem
        .needs
        .iter()
        .map(|need| {
            let place = Where::named(problem, need.targets.as_ref());
            let wants = Wants { components: need.components.clone(), bare: need.bare };
            Rule::Needs(None, None, need.package.clone(), need.range.clone(), place, wants)
        })
        .collect();
    for (name, releases) in &registry.0 {
        for release in releases {
            let who = (name.clone(), vec![release.version.clone()]);
            let left_out = problem.left_out(name);
            for (at, (needed, range)) in release.needs.iter().enumerate() {
                if !left_out.contains(needed) {
                    let place = Where::from(problem, release.when(at));
                    let wants = release.wants(at);
                    rules.push(Rule::Needs(
                        Some(who.clone()),
                        None,
                        needed.clone(),
                        range.clone(),
                        place,
                        wants,
                    ));
                }
            }
            for component in &release.components {
                for extra in extras(component) {
                    rules.extend(of_component(problem, &who, component, &extra, &left_out));
                }
            }
            for (number, place) in problem.places.iter().enumerate() {
                if lacks_file(&release.natives, place) {
                    rules.push(Rule::Unfit(who.clone(), number, None));
                }
                let fails = match release.level {
                    Some(level) => level > level_of(place),
                    None => undeclared(problem) == Stance::Refuse && release.natives.is_empty(),
                };
                rules.extend(fails.then(|| Rule::Unfit(who.clone(), number, None)));
            }
            for (barred, range) in release.conflicts.iter().filter(|conflict| conflict.0 != *name) {
                rules.push(Rule::Bars(who.clone(), barred.clone(), range.clone()));
            }
            if release.clause_state == ClauseState::Withdrawn
                && problem.locked.get(name) != Some(&release.version)
            {
                rules.push(Rule::Never(who.clone()));
            }
            if !is_allowed(problem, name, release) {
                rules.push(Rule::Never(who.clone()));
            }
            if problem.rules.own.general.licenses.is_some() && release.license == Some("AGPL-3.0-only") {
                rules.push(Rule::Never(who.clone()));
            }
            if let Some(family) = &release.family {
                let range = problem.families.get(family).cloned();
                rules.extend(range.map(|range| Rule::Kept(name.clone(), family.clone(), range)));
                let others = registry.0.keys().filter(|other| *other > name);
                rules.extend(others.map(|other| Rule::InStep(name.clone(), other.clone(), family.clone())));
            }
        }
    }
    rules.extend(registry.capabilities().into_iter().map(Rule::Provided));
    rules
}

/// What has to be wanted of a package for a component of it.
fn extras(component: &TestComponent) -> Vec<Extra> {
    let by_default = component.default.then_some(Extra::Defaults);
    [Extra::Component(component.name.clone())].into_iter().chain(by_default).collect()
}

/// What follows where a component of a release is wanted.
fn of_component(
    problem: &Problem,
    who: &Releases,
    component: &TestComponent,
    extra: &Extra,
    left_out: &[PackageName],
) -> Vec<Rule> {
    let needs = component.needs.iter().filter(|(needed, _)| !left_out.contains(needed));
    let needs = needs.map(|(needed, range)| {
        let place = Where::from(problem, None);
        let (name, range, wants) = (needed.clone(), range.clone(), Wants::default());
        Rule::Needs(Some(who.clone()), Some(extra.clone()), name, range, place, wants)
    });
    let places = problem.places.iter().enumerate();
    let places = places.filter(|(_, place)| lacks_file(&component.natives, place));
    let unfit = places.map(|(number, _)| Rule::Unfit(who.clone(), number, Some(extra.clone())));
    needs.chain(unfit).collect()
}

/// Whether files for these levels are all for higher ones than a place has.
fn lacks_file(levels: &[usize], place: &Target) -> bool {
    levels.iter().min().is_some_and(|lowest| *lowest > level_of(place))
}

/// Whether releases of a registry can be chosen so that all these rules hold.
pub fn is_possible(registry: &Registry, rules: &[Rule]) -> bool {
    let mut asking = Asking { registry, solver: Solver::default(), lits: HashMap::new() };
    for (name, releases) in &registry.0 {
        let versions: Vec<Lit> =
            releases.iter().map(|release| asking.release(name, &release.version)).collect();
        for (at, one) in versions.iter().enumerate() {
            versions[..at].iter().for_each(|other| asking.solver.add_clause(&[!*one, !*other]));
        }
    }
    rules.iter().for_each(|rule| asking.state(rule));
    asking.solver.is_satisfiable()
}

/// The general solver.
#[derive(Default)]
struct Solver(BasicSolver);

impl Solver {
    fn new_lit(&mut self) -> Lit {
        Lit::new(self.0.new_var_default(), true)
    }

    fn add_clause(&mut self, clause: &[Lit]) {
        self.0.add_clause_reuse(&mut clause.to_vec());
    }

    fn is_satisfiable(&mut self) -> bool {
        self.0.solve_limited(&[]) == lbool::TRUE
    }
}

struct Asking<'r> {
    registry: &'r Registry,
    solver: Solver,
    lits: HashMap<(PackageName, String), Lit>,
}

impl Asking<'_> {
    fn release(&mut self, name: &PackageName, version: &Version) -> Lit {
        self.lit(name, version.as_str())
    }

    fn lit(&mut self, name: &PackageName, what: &str) -> Lit {
        let solver = &mut self.solver;
        *self.lits.entry((name.clone(), what.to_owned())).or_insert_with(|| solver.new_lit())
    }

    fn within(&mut self, name: &PackageName, accepted: impl Fn(&Published) -> bool) -> Vec<Lit> {
        let releases = self.registry.0.get(name).into_iter().flatten();
        let versions: Vec<Version> = releases.filter(|r| accepted(r)).map(|r| r.version.clone()).collect();
        versions.iter().map(|version| self.release(name, version)).collect()
    }

    fn each(&mut self, who: &Releases) -> Vec<Lit> {
        who.1.iter().map(|version| self.release(&who.0, version)).collect()
    }

    fn state(&mut self, rule: &Rule) {
        match rule {
            Rule::Needs(who, extra, name, range, place, wants) => {
                let whos: Vec<Option<Lit>> = match who {
                    None => vec![None],
                    Some(who) => self.each(who).into_iter().map(Some).collect(),
                };
                let taker = who.as_ref().map(|who| &who.0);
                for who in whos {
                    let unless: Vec<Lit> = who.map(|who| !who).into_iter().collect();
                    let only_there = place.only_there || extra.is_some();
                    if !only_there {
                        self.need(&unless, name, range, &wants.components);
                    }
                    for number in &place.places {
                        let absent = taker.map(|taker| !self.wanted(taker, extra.as_ref(), *number));
                        let absent = absent.filter(|_| extra.is_some() || *number != ANYWHERE);
                        let unless: Vec<Lit> = unless.iter().copied().chain(absent).collect();
                        if only_there {
                            self.need(&unless, name, range, &wants.components);
                        }
                        let present = self.wanted(name, None, *number);
                        let clause: Vec<Lit> = unless.iter().copied().chain([present]).collect();
                        self.solver.add_clause(&clause);
                        self.want(&unless, name, wants, *number);
                    }
                }
            }
            Rule::Unfit(who, number, extra) => {
                let absent = !self.wanted(&who.0, extra.as_ref(), *number);
                self.each(who).into_iter().for_each(|one| self.solver.add_clause(&[absent, !one]));
            }
            Rule::Provided(capability) => {
                for provider in self.registry.providers(capability) {
                    let another = !self.lit(capability, provider.as_str());
                    for number in 0..MAX_PLACES {
                        let clause = [
                            another,
                            !self.wanted(capability, None, number),
                            self.wanted(&provider, None, number),
                        ];
                        self.solver.add_clause(&clause);
                    }
                }
            }
            Rule::Bars(who, name, range) => {
                let barred = self.within(name, |release| range.accepts(&release.version));
                for one in self.each(who) {
                    barred.iter().for_each(|other| self.solver.add_clause(&[!one, !*other]));
                }
            }
            Rule::Never(who) => self.each(who).into_iter().for_each(|one| self.solver.add_clause(&[!one])),
            Rule::Kept(name, family, range) => {
                let is_out = |r: &Published| r.family.as_ref() == Some(family) && !range.accepts(&r.version);
                self.within(name, is_out).into_iter().for_each(|one| self.solver.add_clause(&[!one]));
            }
            Rule::InStep(one, other, family) => self.in_step(one, other, family),
        }
    }

    /// That a package is needed at a place, or something of it is wanted there.
    fn wanted(&mut self, name: &PackageName, extra: Option<&Extra>, place: usize) -> Lit {
        self.lit(name, &format!("{extra:?} at place {place}"))
    }

    /// That what a need wants of a package is wanted, of a capability from its provider.
    fn want(&mut self, unless: &[Lit], name: &PackageName, wants: &Wants, place: usize) {
        let defaults = (!wants.bare).then_some(Extra::Defaults);
        let extras = wants.components.iter().cloned().map(Extra::Component).chain(defaults);
        let providers = self.registry.providers(name);
        for extra in extras {
            let mut clauses: Vec<(Option<Lit>, PackageName)> = Vec::new();
            for provider in &providers {
                clauses.push((Some(!self.lit(name, provider.as_str())), provider.clone()));
            }
            if providers.is_empty() {
                clauses.push((None, name.clone()));
            }
            for (another, of) in clauses {
                let wanted = self.wanted(&of, Some(&extra), place);
                let clause: Vec<Lit> = unless.iter().copied().chain(another).chain([wanted]).collect();
                self.solver.add_clause(&clause);
            }
        }
    }

    fn need(&mut self, unless: &[Lit], name: &PackageName, range: &Range, components: &[ComponentName]) {
        let has =
            |release: &Published, name: &ComponentName| release.components.iter().any(|c| c.name == *name);
        let has_all = |release: &Published| components.iter().all(|name| has(release, name));
        let unless = unless.iter().copied();
        let providers = self.registry.providers(name);
        if providers.is_empty() {
            let releases = self.within(name, |release| range.accepts(&release.version) && has_all(release));
            let clause: Vec<Lit> = unless.chain(releases).collect();
            self.solver.add_clause(&clause);
            return;
        }
        // One provider answers all needs on the capability, so which one is a choice of its own.
        let taken: Vec<Lit> = providers.iter().map(|provider| self.lit(name, provider.as_str())).collect();
        for (at, one) in taken.iter().enumerate() {
            taken[..at].iter().for_each(|other| self.solver.add_clause(&[!*one, !*other]));
            let provides =
                |r: &Published| range.accepts(&r.version) && r.provides.contains(name) && has_all(r);
            let releases = self.within(&providers[at], provides);
            let clause: Vec<Lit> = unless.clone().chain([!*one]).chain(releases).collect();
            self.solver.add_clause(&clause);
        }
        let clause: Vec<Lit> = unless.chain(taken).collect();
        self.solver.add_clause(&clause);
    }

    fn in_step(&mut self, one: &PackageName, other: &PackageName, family: &Family) {
        let of_family = |name: &PackageName| -> Vec<Version> {
            let releases = self.registry.0.get(name).into_iter().flatten();
            releases.filter(|r| r.family.as_ref() == Some(family)).map(|r| r.version.clone()).collect()
        };
        let (ones, others) = (of_family(one), of_family(other));
        for version in &ones {
            for another in others.iter().filter(|another| *another != version) {
                let clause = [!self.release(one, version), !self.release(other, another)];
                self.solver.add_clause(&clause);
            }
        }
    }
}
