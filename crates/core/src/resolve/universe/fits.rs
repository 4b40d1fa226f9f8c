//! Which releases don't fit which targets, and why.

use std::collections::{BTreeMap, BTreeSet};

use super::{Extra, Fact, Lack, Stop, Universe};
use crate::card::Entry;
use crate::facet::{Fit, Misfit};
use crate::resolve::Catalogue;
use crate::resolve::choices::Choices;
use crate::resolve::engine::{Engine, Var};
use crate::variant::parts_along;

impl<C: Catalogue> Universe<'_, C> {
    /// Adds which releases don't fit which targets.
    pub(super) fn state_fits(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let is_somewhere = !self.problem.places.is_empty() || self.scopes > 0;
        if !self.packages[var].providers().is_empty() && is_somewhere {
            return self.state(engine, Fact::Provided { capability: var });
        }
        for target in 0..self.problem.places.len() {
            for ((scope, lack), releases) in self.unfit(var, target) {
                let extra = None;
                self.state(engine, Fact::Unfit { package: var, target, lack, releases, extra, scope })?;
            }
        }
        Ok(())
    }

    /// The releases of a package that don't fit a target even without extras, by the scope of rules that excludes them, if one does,
    /// and by what they lack.
    pub(super) fn unfit(&self, var: Var, target: usize) -> BTreeMap<(Option<usize>, Lack), Choices> {
        if self.problem.places[target].is_open() {
            return BTreeMap::new();
        }
        let bare = BTreeSet::new();
        let scopes = self.each_scope();
        let name = &self.packages[var].name;
        self.grouped(var, |entry| match self.facets.fit_release(entry, &bare, &self.problem.places[target]) {
            Fit::Yes => Vec::new(),
            Fit::No(Misfit::Facet { facet, .. }) => vec![(None, Lack::Facet(facet))],
            Fit::No(Misfit::Part { part, .. }) => vec![(None, Lack::Part(part))],
            Fit::NotDeclared(facets) => {
                let refused = scopes.iter().filter_map(|scope| {
                    let facet = self.refused_undeclared(name, &facets, *scope)?;
                    Some((*scope, Lack::Facet(facet.clone())))
                });
                refused.collect()
            }
        })
    }

    /// The releases of a package by each key that they have.
    fn grouped<K: Ord, I: IntoIterator<Item = K>>(
        &self,
        var: Var,
        keys: impl Fn(&Entry) -> I,
    ) -> BTreeMap<K, Choices> {
        let package = &self.packages[var];
        let mut grouped = BTreeMap::new();
        for (at, release) in package.releases().iter().enumerate() {
            for key in keys(&release.entry) {
                grouped.entry(key).or_insert_with(|| Choices::none(package.width())).insert(at + 1);
            }
        }
        grouped
    }

    /// The releases of a package that have no file for a target of a part that comes only with an extra.
    pub(super) fn unfit_with(&self, var: Var, extra: &Extra, target: usize) -> BTreeMap<Lack, Choices> {
        let target = &self.problem.places[target];
        if target.is_open() {
            return BTreeMap::new();
        }
        self.grouped(var, |entry| {
            let components = match extra {
                Extra::Defaults => entry.default_components(),
                Extra::Component(name) => [name.clone()].into(),
            };
            let bare = BTreeSet::new();
            let mut parts = parts_along(entry, &components, &[]).into_iter();
            let part = parts.find(|part| {
                !entry.goes_along(part, &bare) && !self.facets.has_file(&entry.files, part, target)
            });
            part.map(|part| Lack::Part(part.clone()))
        })
    }
}
