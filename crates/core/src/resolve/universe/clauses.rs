//! The clauses of each fact, in one place for the search and for the explanation of conflicts.

use super::{Demand, Extra, Fact, Kind, Package, Universe};
use crate::card::CardNeed;
use crate::name::{ComponentName, Family, PackageName};
use crate::range::VersionSet;
use crate::resolve::Catalogue;
use crate::resolve::choices::Choices;
use crate::resolve::engine::{Term, Var};

impl<C: Catalogue> Universe<'_, C> {
    /// The clauses of a fact, no variable twice in any.
    pub fn clauses_of(&self, fact: &Fact) -> Vec<Vec<Term>> {
        match fact {
            Fact::Direct(number) => {
                let need = &self.problem.needs[*number];
                let set = need.range.set(need.prereleases);
                let mut clauses = self.needing(&[], &need.package, set, &need.components);
                let is_at = |target: usize| self.problem.is_at(need, target);
                let targets = self.spots().filter(|spot| spot.is_none_or(is_at));
                let scopes = self.scope_spots().filter(|spot| self.is_in_scope(need, *spot)).map(Some);
                for spot in targets.chain(scopes) {
                    clauses.extend(self.present(&need.package, spot).map(|term| vec![term]));
                    clauses.extend(self.wanting(&[], &need.package, &need.components, need.bare, spot));
                }
                clauses
            }
            Fact::Demands { package, releases, demand, extra } => {
                let unless = Term { var: *package, choices: releases.not(self.packages[*package].width()) };
                match demand {
                    Demand::Needs(need) => self.demanding(*package, &unless, extra.as_ref(), need),
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
            Fact::Chartered { package, charter, family } => {
                vec![vec![self.chartered(*package, *charter, family.as_ref())]]
            }
            Fact::Charters { package, releases } => {
                let choices = releases.not(self.packages[*package].width());
                vec![vec![Term { var: *package, choices }]]
            }
            Fact::InStep { one, other, family } => self.in_step(*one, *other, family),
            Fact::Refused { package, releases, scope, .. } => {
                let choices = releases.not(self.packages[*package].width());
                let unless = self.unless_in_scope(*package, *scope);
                vec![unless.into_iter().chain([Term { var: *package, choices }]).collect()]
            }
            Fact::Unfit { package, target, releases, extra, scope, .. } => {
                let fitting = releases.not(self.packages[*package].width());
                let fitting = Term { var: *package, choices: fitting };
                let unless = self.unless_wanted(*package, extra.as_ref(), Some(*target));
                let scoped = self.unless_in_scope(*package, *scope);
                unless
                    .map(|unless| unless.into_iter().chain(scoped).chain([fitting]).collect())
                    .into_iter()
                    .collect()
            }
            Fact::Provided { capability } => self.provided(*capability),
        }
    }

    /// A package that some releases of another need is chosen, and needed on each target that those are needed on.
    fn demanding(
        &self,
        package: Var,
        unless: &Term,
        extra: Option<&Extra>,
        need: &CardNeed,
    ) -> Vec<Vec<Term>> {
        let set = need.range.set(need.prereleases);
        let is_conditional = extra.is_some() || !need.when.is_empty() && !self.problem.places.is_empty();
        let taken = |unless: &[Term]| self.needing(unless, &need.name, set, &need.components);
        let mut clauses = if is_conditional { Vec::new() } else { taken(std::slice::from_ref(unless)) };
        if !is_conditional && self.problem.places.is_empty() && self.extras.is_empty() && self.scopes == 0 {
            return clauses;
        }
        for spot in self.spots_when(&need.when) {
            let Some(conditions) = self.unless_wanted(package, extra, spot) else { continue };
            let unless: Vec<Term> = [unless.clone()].into_iter().chain(conditions).collect();
            if is_conditional {
                clauses.extend(taken(&unless));
            }
            clauses.extend(self.needed_at(&unless, need, spot));
        }
        clauses.extend(self.passing_on(package, unless, extra, need));
        clauses
    }

    /// What some releases need of another package is needed for the purposes that they are needed for. A need with conditions
    /// counts where these hold on a target that they are needed on.
    fn passing_on(
        &self,
        package: Var,
        unless: &Term,
        extra: Option<&Extra>,
        need: &CardNeed,
    ) -> Vec<Vec<Term>> {
        let mut clauses = Vec::new();
        for scope in self.scope_spots().map(Some) {
            let Some(in_scope) = self.unless_wanted(package, extra, scope) else { continue };
            let everywhere = need.when.is_empty() || self.problem.places.is_empty();
            let spots: Vec<Option<usize>> =
                if everywhere { vec![None] } else { self.spots_when(&need.when).collect() };
            for spot in spots {
                let there = if everywhere { Some(None) } else { self.unless_wanted(package, extra, spot) };
                let Some(there) = there else { continue };
                let conditions = [Some(unless.clone()), in_scope.clone(), there];
                let unless = merged(conditions.into_iter().flatten());
                clauses.extend(self.needed_at(&unless, need, scope));
            }
        }
        clauses
    }

    /// A need, unless one of these literals holds, has its package needed at a spot, with the extras that it asks for.
    fn needed_at(&self, unless: &[Term], need: &CardNeed, spot: Option<usize>) -> Vec<Vec<Term>> {
        let present = self.present(&need.name, spot).into_iter();
        let present = present.map(|present| merged(unless.iter().cloned().chain([present])));
        let wanting = self.wanting(unless, &need.name, &need.components, need.bare, spot);
        present.chain(wanting).collect()
    }

    /// The literal "an extra of a package isn't needed on a target", or the package itself isn't; no literal where it is
    /// always needed, and `None` where it never can be.
    fn unless_wanted(
        &self,
        package: Var,
        extra: Option<&Extra>,
        spot: Option<usize>,
    ) -> Option<Option<Term>> {
        let var = match (extra, spot) {
            (Some(extra), spot) => self.extra(package, extra, spot)?,
            (None, Some(target)) => *self.presences.get(&package)?.get(target)?,
            (None, None) => return Some(None),
        };
        Some(Some(Term { var, choices: Choices::of(self.packages[var].width(), [Choices::LEFT_OUT]) }))
    }

    /// The literal "a package is needed on a target".
    fn present(&self, name: &PackageName, spot: Option<usize>) -> Option<Term> {
        let var = *self.presences.get(&self.known(name)?)?.get(spot?)?;
        Some(Term { var, choices: self.packages[var].taken() })
    }

    /// The literals "each extra of a need is needed on a target": of a capability from its provider.
    fn wanting(
        &self,
        unless: &[Term],
        name: &PackageName,
        components: &[ComponentName],
        bare: bool,
        spot: Option<usize>,
    ) -> Vec<Vec<Term>> {
        let Some(var) = self.known(name) else { return Vec::new() };
        let package = &self.packages[var];
        let wanted = |of: Var, another: Option<Term>| {
            let extras =
                Extra::wanted(components, bare).filter_map(move |extra| self.extra(of, &extra, spot));
            let terms = extras.map(|var| Term { var, choices: self.packages[var].taken() });
            let all: Vec<Vec<Term>> = terms
                .map(|term| merged(unless.iter().cloned().chain(another.clone()).chain([term])))
                .collect();
            all
        };
        if !matches!(package.kind, Kind::Capability(_)) {
            return wanted(var, None);
        }
        let providers = package.providers().iter().enumerate();
        let providers = providers.filter_map(|(at, provider)| Some((at, self.known(provider)?)));
        providers.flat_map(|(at, provider)| wanted(provider, Some(self.another(var, at)))).collect()
    }

    /// The provider of a capability is needed on each target that the capability is needed on.
    fn provided(&self, capability: Var) -> Vec<Vec<Term>> {
        let mut clauses = Vec::new();
        for (at, provider) in self.packages[capability].providers().iter().enumerate() {
            for spot in (0..self.problem.places.len()).chain(self.scope_spots()) {
                let absent = self.unless_wanted(capability, None, Some(spot)).flatten();
                let terms = [Some(self.another(capability, at)), absent, self.present(provider, Some(spot))];
                clauses.push(terms.into_iter().flatten().collect());
            }
        }
        clauses
    }

    /// The literal "a capability has another provider than this".
    fn another(&self, capability: Var, provider: usize) -> Term {
        let width = self.packages[capability].width();
        Term { var: capability, choices: Choices::of(width, [provider + 1]).not(width) }
    }

    /// The literal "a package is at one of these versions, with these components" or, of a capability, "its provider
    /// has it at one of them".
    fn needing(
        &self,
        unless: &[Term],
        name: &PackageName,
        set: &VersionSet,
        components: &[ComponentName],
    ) -> Vec<Vec<Term>> {
        let Some(var) = self.known(name) else { return Vec::new() };
        let package = &self.packages[var];
        let either = |terms: Vec<Term>| merged(unless.iter().cloned().chain(terms));
        let having = |package: &Package, choices: Choices| {
            if components.is_empty() { choices } else { choices.and(&package.having(components)) }
        };
        if !matches!(package.kind, Kind::Capability(_)) {
            return vec![either(vec![Term { var, choices: having(package, package.within(set)) }])];
        }
        let by_provider = package.providers().iter().enumerate().filter_map(|(at, provider)| {
            let provider = self.known(provider)?;
            let package = &self.packages[provider];
            let choices = having(package, package.providing(name, set));
            Some(either(vec![self.another(var, at), Term { var: provider, choices }]))
        });
        by_provider.chain([either(vec![Term { var, choices: package.taken() }])]).collect()
    }

    /// Releases of a family are in the range that the project declares for it.
    fn kept(&self, var: Var, family: &Family) -> Term {
        let package = &self.packages[var];
        let others = package.of_family(family).not(package.width());
        let kept = self.problem.families.get(family).map(|range| package.within(range.set(false)));
        Term { var, choices: kept.map_or(others.clone(), |kept| kept.or(&others)) }
    }

    /// A package is in the range that a charter has for it, or its releases of a family in the range for that. A pre-release that a
    /// need accepts is no matter of a charter unless it is outside of the range, too.
    fn chartered(&self, var: Var, charter: usize, family: Option<&Family>) -> Term {
        let (package, bounds) = (&self.packages[var], &self.problem.charters[charter]);
        let (range, others) = match family {
            Some(family) => (bounds.families.get(family), package.of_family(family).not(package.width())),
            None => (bounds.ranges.get(&package.name), Choices::of(package.width(), [Choices::LEFT_OUT])),
        };
        let within = range.map(|range| package.within(range.set(true)));
        Term { var, choices: within.map_or(others.clone(), |within| within.or(&others)) }
    }

    /// Two packages of a family are at the same version: a clause for each version of the one.
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

/// Literals of a clause, those of one variable joined.
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
