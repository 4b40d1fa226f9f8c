//! Which releases the rules exclude.
//!
//! Rules may differ by purpose. Each set of purposes with the same rules is a *scope*, and for each scope a package has a variable
//! that says whether it is needed for one of its purposes, as it has one for each target: needs pass it on.

use super::{Fact, Stop, Universe};
use crate::name::{FacetName, PackageName, Purpose};
use crate::resolve::choices::Choices;
use crate::resolve::engine::{Engine, Term, Var};
use crate::resolve::{Catalogue, ProblemNeed};
use crate::rules::{Breach, Stance, Subject};

impl<C: Catalogue> Universe<'_, C> {
    /// The numbers of the scopes among a package's presences: behind those of the targets.
    pub(super) fn scope_spots(&self) -> impl Iterator<Item = usize> + use<C> {
        let places = self.problem.places.len();
        (0..self.scopes).map(move |scope| places + scope)
    }

    /// The scopes that have to be looked at one by one: `None` for the only one.
    pub(super) fn each_scope(&self) -> Vec<Option<usize>> {
        if self.scopes == 0 { vec![None] } else { self.scope_spots().map(Some).collect() }
    }

    /// Whether a direct need is for a purpose of a scope. A question is about running.
    pub(super) fn is_in_scope(&self, need: &ProblemNeed, spot: usize) -> bool {
        if need.asked && need.targets.is_some() {
            return false;
        }
        let scopes = self.problem.rules.scopes();
        let scope = self.problem.rules.scope_of(need.purpose.as_ref());
        scopes.get(spot - self.problem.places.len()).copied() == Some(scope)
    }

    /// Adds which releases the rules exclude.
    pub(super) fn state_refused(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        if !self.problem.rules.can_refuse() && !self.problem.leaves_advisories {
            return Ok(());
        }
        for scope in self.each_scope() {
            for (breach, releases) in self.refused(var, scope)? {
                self.state(engine, Fact::Refused { package: var, releases, breach, scope })?;
            }
        }
        Ok(())
    }

    /// The releases of a package that a scope's rules exclude, by how they break them. What is locked stays until somebody moves it.
    fn refused(&self, var: Var, scope: Option<usize>) -> Result<Vec<(Breach, Choices)>, Stop<C::Error>> {
        let package = &self.packages[var];
        let Some(listing) = package.listing() else { return Ok(Vec::new()) };
        let advisories = self.catalogue.advisories(listing).map_err(Stop::Catalogue)?;
        let kept = self.problem.kept(&package.name).and_then(|version| package.choice(version));
        let purpose = scope.and_then(|spot| self.purpose_of(spot));
        let mut refused: Vec<(Breach, Choices)> = Vec::new();
        for (at, release) in package.releases().iter().enumerate().filter(|(at, _)| Some(at + 1) != kept) {
            let source = listing.source_of(&release.entry.version);
            let before = at.checked_sub(1).map(|before| &package.releases()[before].entry.version);
            let is_stand_in = listing.is_stand_in;
            let subject = Subject { release, source, is_stand_in, advisories: &advisories, before };
            let rules = &self.problem.rules;
            let breach = rules.refusal(purpose, &subject, self.now);
            let breach = breach.or_else(|| {
                let leaves = self.problem.leaves_advisories && self.problem.leaving.contains(&package.name);
                leaves.then(|| rules.advisory_breach(purpose, &subject, self.now)).flatten()
            });
            let Some(breach) = breach else { continue };
            // Ages differ from release to release; one sentence tells of all.
            match refused.iter_mut().find(|(other, _)| other.is_told_like(&breach)) {
                Some((_, releases)) => releases.insert(at + 1),
                None => refused.push((breach, Choices::of(package.width(), [at + 1]))),
            }
        }
        Ok(refused)
    }

    /// The purpose that has a scope's rules; `None` for all that have none of their own.
    pub fn purpose_of(&self, spot: usize) -> Option<&Purpose> {
        self.problem.rules.scopes().get(spot - self.problem.places.len()).copied().flatten()
    }

    /// The literal "a package isn't needed for a purpose of this scope"; none where all have the same rules.
    pub(super) fn unless_in_scope(&self, package: Var, scope: Option<usize>) -> Option<Term> {
        let var = *self.presences.get(&package)?.get(scope?)?;
        Some(Term { var, choices: Choices::of(self.packages[var].width(), [Choices::LEFT_OUT]) })
    }

    /// The first facet for which a scope's rules refuse a release that doesn't declare it.
    pub(super) fn refused_undeclared<'f>(
        &self,
        package: &PackageName,
        undeclared: &'f [FacetName],
        scope: Option<usize>,
    ) -> Option<&'f FacetName> {
        let purpose = scope.and_then(|spot| self.purpose_of(spot));
        let rules = &self.problem.rules;
        undeclared.iter().find(|facet| rules.undeclared(purpose, package, facet).0 == Stance::Refuse)
    }
}
