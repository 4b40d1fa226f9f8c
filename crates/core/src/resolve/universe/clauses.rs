//! What facts say, as clauses: the one place for both the search and the telling of conflicts.

use super::{Demand, Fact, Kind, Universe};
use crate::card::CardNeed;
use crate::name::{Family, PackageName};
use crate::range::VersionSet;
use crate::resolve::Catalogue;
use crate::resolve::choices::Choices;
use crate::resolve::engine::{Term, Var};

impl<C: Catalogue> Universe<'_, C> {
    /// The clauses that a fact comes to, no variable twice in any.
    pub fn clauses_of(&self, fact: &Fact) -> Vec<Vec<Term>> {
        match fact {
            Fact::Direct(number) => {
                let need = &self.problem.needs[*number];
                let mut clauses = self.needing(None, &need.package, need.range.set(need.prereleases));
                let is_for =
                    |name: &String| need.targets.as_ref().is_none_or(|targets| targets.contains(name));
                let places = self.problem.places.iter().enumerate();
                let places = places.filter(|(_, place)| place.is_promise || is_for(&place.name));
                for (place, _) in places {
                    clauses.extend(self.present(&need.package, place).map(|term| vec![term]));
                }
                clauses
            }
            Fact::Demands { package, releases, demand } => {
                let unless = Term { var: *package, choices: releases.not(self.packages[*package].width()) };
                match demand {
                    Demand::Needs(need) => self.demanding(*package, &unless, need),
                    Demand::Conflicts(conflict) => {
                        let other = self.known(&conflict.name);
                        let barred = other.map(|other| self.packages[other].within(conflict.range.set(true)));
                        let barred = other.zip(barred).map(|(var, barred)| Term {
                            var,
                            choices: barred.not(self.packages[var].width()),
                        });
                        vec![[unless].into_iter().chain(barred).collect()]
                    }
                }
            }
            Fact::Withdrawn { package, releases } => {
                let choices = releases.not(self.packages[*package].width());
                vec![vec![Term { var: *package, choices }]]
            }
            Fact::Held { package, choice } => {
                let choices = Choices::of(self.packages[*package].width(), [Choices::LEFT_OUT, *choice]);
                vec![vec![Term { var: *package, choices }]]
            }
            Fact::Kept { package, family } => vec![vec![self.kept(*package, family)]],
            Fact::InStep { one, other, family } => self.in_step(*one, *other, family),
            Fact::Unfit { package, place, releases, .. } => {
                let fitting = releases.not(self.packages[*package].width());
                let fitting = Term { var: *package, choices: fitting };
                vec![self.absent(*package, *place).into_iter().chain([fitting]).collect()]
            }
            Fact::Provided { capability } => self.provided(*capability),
        }
    }

    /// That a package which some releases of another need is taken, and needed wherever those are.
    fn demanding(&self, package: Var, unless: &Term, need: &CardNeed) -> Vec<Vec<Term>> {
        let set = need.range.set(need.prereleases);
        let absent = |place: usize| self.absent(package, place);
        let is_conditional = !need.when.is_empty() && !self.problem.places.is_empty();
        let mut clauses =
            if is_conditional { Vec::new() } else { self.needing(Some(unless), &need.name, set) };
        for place in self.places_when(&need.when) {
            let Some(absent) = absent(place) else { continue };
            let unless = [unless.clone(), absent];
            if is_conditional {
                let taken = self.needing(None, &need.name, set).into_iter();
                clauses.extend(taken.map(|terms| merged(unless.iter().cloned().chain(terms))));
            }
            let present = self.present(&need.name, place).into_iter();
            clauses.extend(present.map(|present| merged(unless.iter().cloned().chain([present]))));
        }
        clauses
    }

    /// That a package is needed at a place.
    fn present(&self, name: &PackageName, place: usize) -> Option<Term> {
        let var = *self.presences.get(&self.known(name)?)?.get(place)?;
        Some(Term { var, choices: self.packages[var].taken() })
    }

    /// That a package is not needed at a place.
    fn absent(&self, package: Var, place: usize) -> Option<Term> {
        let var = *self.presences.get(&package)?.get(place)?;
        Some(Term { var, choices: Choices::of(self.packages[var].width(), [Choices::LEFT_OUT]) })
    }

    /// That whoever provides a capability is needed wherever that is.
    fn provided(&self, capability: Var) -> Vec<Vec<Term>> {
        let package = &self.packages[capability];
        let mut clauses = Vec::new();
        for (at, provider) in package.providers().iter().enumerate() {
            let another = Choices::of(package.width(), [at + 1]).not(package.width());
            for place in 0..self.problem.places.len() {
                let another = Term { var: capability, choices: another.clone() };
                let terms = [Some(another), self.absent(capability, place), self.present(provider, place)];
                clauses.push(terms.into_iter().flatten().collect());
            }
        }
        clauses
    }

    /// That a package is taken in one of the versions or, of a capability, a provider that has one of them.
    fn needing(&self, unless: Option<&Term>, name: &PackageName, set: &VersionSet) -> Vec<Vec<Term>> {
        let Some(var) = self.known(name) else { return Vec::new() };
        let package = &self.packages[var];
        let either = |terms: Vec<Term>| merged(unless.into_iter().cloned().chain(terms));
        if !matches!(package.kind, Kind::Capability(_)) {
            return vec![either(vec![Term { var, choices: package.within(set) }])];
        }
        let by_provider = package.providers().iter().enumerate().filter_map(|(at, provider)| {
            let another = Term { var, choices: Choices::of(package.width(), [at + 1]).not(package.width()) };
            let provider = self.known(provider)?;
            let choices = self.packages[provider].providing(name, set);
            Some(either(vec![another, Term { var: provider, choices }]))
        });
        by_provider.chain([either(vec![Term { var, choices: package.taken() }])]).collect()
    }

    /// That releases of a family are in the range that the project keeps it in.
    fn kept(&self, var: Var, family: &Family) -> Term {
        let package = &self.packages[var];
        let others = package.of_family(family).not(package.width());
        let kept = self.problem.families.get(family).map(|range| package.within(range.set(false)));
        Term { var, choices: kept.map_or(others.clone(), |kept| kept.or(&others)) }
    }

    /// That two packages of a family are at one version, for each version of the one.
    fn in_step(&self, one: Var, other: Var, family: &Family) -> Vec<Vec<Term>> {
        let (package, follower) = (&self.packages[one], &self.packages[other]);
        let free = follower.of_family(family).not(follower.width());
        let at_one_version = |choice: usize| {
            let version = &package.release(choice)?.entry.version;
            let same = follower.choice(version).into_iter();
            let same = Choices::of(follower.width(), same).or(&free);
            let unless = Choices::of(package.width(), [choice]).not(package.width());
            Some(vec![Term { var: one, choices: unless }, Term { var: other, choices: same }])
        };
        package.of_family(family).iter().filter_map(at_one_version).collect()
    }
}

/// Terms of which one must hold, those about one variable as one.
fn merged(terms: impl Iterator<Item = Term>) -> Vec<Term> {
    let mut all: Vec<Term> = Vec::new();
    for term in terms {
        match all.iter_mut().find(|other| other.var == term.var) {
            Some(other) => other.choices = other.choices.or(&term.choices),
            None => all.push(term),
        }
    }
    all
}
