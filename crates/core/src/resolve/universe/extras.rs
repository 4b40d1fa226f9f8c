//! Extras of a package on each target: components, and what comes by default.
//!
//! In a problem without targets all hold for one spot, `None`; else each target is a spot.

use std::collections::BTreeSet;

use super::{Extra, Fact, Package, Stop, Universe};
use crate::facet::Fits;
use crate::name::{ComponentName, PackageName};
use crate::resolve::Catalogue;
use crate::resolve::choices::Choices;
use crate::resolve::engine::{Engine, Var};

impl<C: Catalogue> Universe<'_, C> {
    /// The targets, or the one spot of a problem that has none.
    pub(super) fn spots(&self) -> impl Iterator<Item = Option<usize>> + use<C> {
        let places = self.problem.places.len();
        (places == 0).then_some(None).into_iter().chain((0..places).map(Some))
    }

    /// The targets for which the conditions of a need hold; the one spot of a problem that has none.
    pub(super) fn spots_when<'w>(&'w self, when: &'w Fits) -> impl Iterator<Item = Option<usize>> + 'w {
        let holds = |target: usize| self.facets.holds(when, &self.problem.places[target]);
        self.spots().filter(move |spot| spot.is_none_or(holds))
    }

    /// The variable of an extra that some need has of a package.
    pub(super) fn extra(&self, package: Var, extra: &Extra, spot: Option<usize>) -> Option<Var> {
        let of_extra = self.extras.get(&(package, extra.clone()))?;
        // Without targets, the one spot comes before the scopes.
        let at = spot.map_or(0, |spot| spot + usize::from(self.problem.places.is_empty()));
        of_extra.get(at).copied()
    }

    /// Whether a package, or this extra of it, is needed at a spot by the current assignment.
    pub(super) fn is_wanted(
        &self,
        engine: &Engine,
        package: Var,
        extra: Option<&Extra>,
        spot: Option<usize>,
    ) -> bool {
        let is_on = |var: Var| !engine.domain(var).has(Choices::LEFT_OUT);
        match (extra, spot) {
            (Some(extra), spot) => self.extra(package, extra, spot).is_some_and(is_on),
            (None, Some(target)) => {
                self.presences.get(&package).and_then(|all| all.get(target)).copied().is_some_and(is_on)
            }
            (None, None) => true,
        }
    }

    /// The components of a release that are needed at a spot by the current assignment.
    pub fn components_at(
        &self,
        engine: &Engine,
        var: Var,
        choice: usize,
        spot: Option<usize>,
    ) -> BTreeSet<ComponentName> {
        let components = self.packages[var].release(choice).map(|release| &release.entry.components);
        let by_default = self.is_wanted(engine, var, Some(&Extra::Defaults), spot);
        let is_wanted =
            |name: &ComponentName| self.is_wanted(engine, var, Some(&Extra::Component(name.clone())), spot);
        let wanted = components.into_iter().flatten();
        let wanted = wanted.filter(|(name, component)| component.default && by_default || is_wanted(name));
        wanted.map(|(name, _)| name.clone()).collect()
    }

    /// Adds the variables of the extras of a need.
    pub(super) fn reach_extras(
        &mut self,
        engine: &mut Engine,
        name: &PackageName,
        components: &[ComponentName],
        bare: bool,
    ) -> Result<(), Stop<C::Error>> {
        let Some(var) = self.known(name) else { return Ok(()) };
        let providers = self.packages[var].providers().iter().filter_map(|provider| self.known(provider));
        let packages: Vec<Var> = providers.chain([var]).collect();
        for extra in Extra::wanted(components, bare) {
            for package in &packages {
                self.reach_extra(engine, *package, &extra)?;
            }
        }
        Ok(())
    }

    pub(super) fn reach_extra(
        &mut self,
        engine: &mut Engine,
        var: Var,
        extra: &Extra,
    ) -> Result<(), Stop<C::Error>> {
        let key = (var, extra.clone());
        if self.extras.contains_key(&key) || !self.packages[var].knows(extra) {
            return Ok(());
        }
        let name = self.packages[var].name.clone();
        let spots = self.spots().count() + self.scopes;
        let wanted: Vec<Var> = (0..spots)
            .map(|_| {
                let package = Package::extra(name.clone(), var);
                let wanted = engine.new_var(package.width());
                self.packages.push(package);
                wanted
            })
            .collect();
        self.extras.insert(key, wanted);
        for target in 0..self.problem.places.len() {
            for (lack, releases) in self.unfit_with(var, extra, target) {
                let (extra, scope) = (Some(extra.clone()), None);
                self.state(engine, Fact::Unfit { package: var, target, lack, releases, extra, scope })?;
            }
        }
        if self.is_thorough { self.state_known_demands(engine, var) } else { Ok(()) }
    }
}
