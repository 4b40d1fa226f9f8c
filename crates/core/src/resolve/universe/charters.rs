//! What charters allow of a package. They bind it wherever it is needed, and bring nothing.

use super::{Fact, Stop, Universe};
use crate::resolve::engine::{Engine, Var};
use crate::resolve::{Catalogue, Listing};

impl<C: Catalogue> Universe<'_, C> {
    /// Adds the ranges of charters for a package and its families, and that charters themselves can't be needed.
    pub(super) fn state_charters(&mut self, engine: &mut Engine, var: Var) -> Result<(), Stop<C::Error>> {
        let releases = self.packages[var].choices_where(|release| release.entry.charter.is_some());
        if !releases.is_none() {
            self.state(engine, Fact::Charters { package: var, releases })?;
        }
        if !self.packages[var].listing().is_some_and(Listing::is_bound_by_charters) {
            return Ok(());
        }
        let families = self.packages[var].families();
        for charter in 0..self.problem.charters.len() {
            let (bounds, name) = (&self.problem.charters[charter], &self.packages[var].name);
            if bounds.except.contains(name) {
                continue;
            }
            let own = bounds.ranges.contains_key(name).then_some(None);
            let of_families = families.iter().filter(|family| bounds.families.contains_key(*family));
            let binding: Vec<_> = own.into_iter().chain(of_families.cloned().map(Some)).collect();
            for family in binding {
                self.state(engine, Fact::Chartered { package: var, charter, family })?;
            }
        }
        Ok(())
    }
}
