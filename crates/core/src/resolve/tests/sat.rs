//! What cards, manifests and sentences say, put to a general SAT solver with one variable for each release.

use std::collections::HashMap;

use varisat::{ExtendFormula, Lit, Solver};

use super::*;
use crate::facet::Unstated;

/// Most places that a problem of these tests has.
pub const MOST_PLACES: usize = 3;

/// Some releases of a package.
pub type Releases = (PackageName, Vec<Version>);

/// Something that has to hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Rule {
    /// Whoever takes one of these (the project, if none are named) takes a release in the range, which is needed then
    /// wherever the taker is.
    Needs(Option<Releases>, PackageName, Range, Where),
    /// None of these is taken for a package that is needed at this place.
    Unfit(Releases, usize),
    /// A provider is needed wherever the capability is.
    Provided(PackageName),
    /// Whoever takes one of these takes none in the range.
    Bars(Releases, PackageName, Range),
    /// None of these is taken.
    Never(Releases),
    /// Releases of the family are in the range.
    Kept(PackageName, Family, Range),
    /// Two packages are at one version, where their releases are of the family.
    InStep(PackageName, PackageName, Family),
}

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
        let places = places.map(|(number, _)| number).collect();
        Self { places, only_there: level.is_some() && !problem.places.is_empty() }
    }

    /// The places of these names; all places for none.
    pub fn named(problem: &Problem, names: Option<&Vec<String>>) -> Self {
        let is_named = |place: &Target| names.is_none_or(|names| names.contains(&place.name));
        let places = problem.places.iter().enumerate().filter(|(_, place)| is_named(place));
        Self { places: places.map(|(number, _)| number).collect(), only_there: false }
    }
}

/// All that a registry and a problem say.
pub fn rules(registry: &Registry, problem: &Problem) -> Vec<Rule> {
    let mut rules: Vec<Rule> = problem
        .needs
        .iter()
        .map(|need| {
            let place = Where::named(problem, need.targets.as_ref());
            Rule::Needs(None, need.package.clone(), need.range.clone(), place)
        })
        .collect();
    for (name, releases) in &registry.0 {
        for release in releases {
            let who = (name.clone(), vec![release.version.clone()]);
            let left_out = problem.left_out(name);
            for (at, (needed, range)) in release.needs.iter().enumerate() {
                if !left_out.contains(needed) {
                    let place = Where::from(problem, release.when(at));
                    rules.push(Rule::Needs(Some(who.clone()), needed.clone(), range.clone(), place));
                }
            }
            for (number, place) in problem.places.iter().enumerate() {
                let fails = match release.level {
                    Some(level) => level > level_of(place),
                    None => problem.unstated.others == Unstated::Refuse,
                };
                rules.extend(fails.then(|| Rule::Unfit(who.clone(), number)));
            }
            for (barred, range) in release.conflicts.iter().filter(|conflict| conflict.0 != *name) {
                rules.push(Rule::Bars(who.clone(), barred.clone(), range.clone()));
            }
            if release.standing == Standing::Withdrawn && problem.locked.get(name) != Some(&release.version) {
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

/// Whether releases of a registry can be chosen so that all these rules hold.
pub fn is_possible(registry: &Registry, rules: &[Rule]) -> bool {
    let mut asking = Asking { registry, solver: Solver::new(), lits: HashMap::new() };
    for (name, releases) in &registry.0 {
        let versions: Vec<Lit> =
            releases.iter().map(|release| asking.release(name, &release.version)).collect();
        for (at, one) in versions.iter().enumerate() {
            versions[..at].iter().for_each(|other| asking.solver.add_clause(&[!*one, !*other]));
        }
    }
    rules.iter().for_each(|rule| asking.state(rule));
    asking.solver.solve().unwrap()
}

struct Asking<'r> {
    registry: &'r Registry,
    solver: Solver<'static>,
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
            Rule::Needs(who, name, range, place) => {
                let whos: Vec<Option<Lit>> = match who {
                    None => vec![None],
                    Some(who) => self.each(who).into_iter().map(Some).collect(),
                };
                let taker = who.as_ref().map(|who| &who.0);
                for who in whos {
                    let unless: Vec<Lit> = who.map(|who| !who).into_iter().collect();
                    if !place.only_there {
                        self.need(&unless, name, range);
                    }
                    for number in &place.places {
                        let absent = taker.map(|taker| !self.presence(taker, *number));
                        let unless: Vec<Lit> = unless.iter().copied().chain(absent).collect();
                        if place.only_there {
                            self.need(&unless, name, range);
                        }
                        let present = self.presence(name, *number);
                        let clause: Vec<Lit> = unless.into_iter().chain([present]).collect();
                        self.solver.add_clause(&clause);
                    }
                }
            }
            Rule::Unfit(who, number) => {
                let absent = !self.presence(&who.0, *number);
                self.each(who).into_iter().for_each(|one| self.solver.add_clause(&[absent, !one]));
            }
            Rule::Provided(capability) => {
                for provider in self.registry.providers(capability) {
                    let another = !self.lit(capability, provider.as_str());
                    for number in 0..MOST_PLACES {
                        let clause =
                            [another, !self.presence(capability, number), self.presence(&provider, number)];
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

    /// That a package is needed at a place.
    fn presence(&mut self, name: &PackageName, place: usize) -> Lit {
        self.lit(name, &format!("at place {place}"))
    }

    fn need(&mut self, unless: &[Lit], name: &PackageName, range: &Range) {
        let unless = unless.iter().copied();
        let providers = self.registry.providers(name);
        if providers.is_empty() {
            let releases = self.within(name, |release| range.accepts(&release.version));
            let clause: Vec<Lit> = unless.chain(releases).collect();
            self.solver.add_clause(&clause);
            return;
        }
        // One provider answers all needs on the capability, so which one is a choice of its own.
        let taken: Vec<Lit> = providers.iter().map(|provider| self.lit(name, provider.as_str())).collect();
        for (at, one) in taken.iter().enumerate() {
            taken[..at].iter().for_each(|other| self.solver.add_clause(&[!*one, !*other]));
            let provides = |r: &Published| range.accepts(&r.version) && r.provides.contains(name);
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
