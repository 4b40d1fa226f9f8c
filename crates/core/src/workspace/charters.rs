//! The charters of a workspace, once it is known which release of each binds it.

use std::collections::BTreeMap;
use std::sync::Arc;

use super::{Misfit, Workspace};
use crate::charter::{CharterBounds, DeclaredCharter, LockedCharter};
use crate::fault::Fault;
use crate::fix::Fix;
use crate::manifest::Need;
use crate::name::PackageName;
use crate::nearest::{WordAt, push_with_nearest};
use crate::range::Range;
use crate::rules::{CharterRules, Rules};

impl Workspace {
    /// Binds it by these releases of its charters: their rules join its own, and needs that have a charter's range get it. On failure
    /// all that doesn't go together.
    pub fn bind(&mut self, mut charters: Vec<LockedCharter>) -> Result<(), Vec<Misfit>> {
        if self.charters.is_empty() {
            return Ok(());
        }
        charters.retain(|charter| self.declared_charter(&charter.name).is_some());
        charters.sort_by(|a, b| a.name.cmp(&b.name));
        let of_charters = charters.iter().filter(|bound| !bound.charter.rules.is_silent());
        let of_charters = of_charters
            .map(|bound| CharterRules { charter: bound.release(), sets: bound.charter.rules.clone() });
        self.rules = Arc::new(Rules { charters: of_charters.collect(), ..(*self.rules).clone() });
        self.bound = charters;
        let misfits: Vec<Misfit> =
            self.give_ranges().into_iter().chain(self.contradictory_providers()).collect();
        if misfits.is_empty() { Ok(()) } else { Err(misfits) }
    }

    /// Whether every charter of it has a release that binds it.
    pub fn is_bound(&self) -> bool {
        self.bound.len() == self.charters.len()
    }

    /// The charter of this name that it takes on.
    pub fn declared_charter(&self, name: &PackageName) -> Option<&DeclaredCharter> {
        self.charters.iter().find(|charter| charter.name == *name)
    }

    /// What its charters allow.
    pub fn charter_bounds(&self) -> Arc<[CharterBounds]> {
        let bounds =
            self.bound.iter().map(|bound| CharterBounds::new(bound, self.declared_charter(&bound.name)));
        bounds.collect()
    }

    /// The range that a charter has for a package, and which charter: the first one by name that has any and doesn't except it.
    pub fn chartered_range(&self, package: &PackageName) -> Option<(&LockedCharter, &Range)> {
        self.bound.iter().find_map(|bound| {
            let declared = self.declared_charter(&bound.name);
            let is_excepted = declared.is_some_and(|declared| declared.exception(package).is_some());
            Some((bound, bound.charter.range_of(package).filter(|_| !is_excepted)?))
        })
    }

    /// The providers to take for capabilities where that is possible: its own choices before those of its charters.
    pub fn preferred_providers(&self) -> BTreeMap<PackageName, PackageName> {
        let of_charters = self.bound.iter().flat_map(|bound| &bound.charter.capabilities);
        let all = of_charters.chain(&self.capabilities);
        all.map(|(capability, provider)| (capability.clone(), provider.clone())).collect()
    }

    /// Gives the needs that have a charter's range that range; those for which there is none don't fit.
    fn give_ranges(&mut self) -> Vec<Misfit> {
        let mut projects = std::mem::take(&mut self.projects);
        let mut misfits = Vec::new();
        for project in &mut projects {
            let mut faults = Vec::new();
            for need in project.manifest.needs.iter_mut().filter(|need| need.is_chartered) {
                match self.chartered_range(&need.package) {
                    Some((_, range)) => need.range = range.clone(),
                    // Until its charters are known, any version will do.
                    None if !self.is_bound() => {}
                    None => self.without_range(need, &mut faults),
                }
            }
            misfits.extend(faults.into_iter().map(|fault| project.misfit(fault)));
        }
        self.projects = projects;
        misfits
    }

    /// That no charter has a range for a need.
    fn without_range(&self, need: &Need, faults: &mut Vec<Fault>) {
        let package = &need.package;
        let excepting = self.charters.iter().find(|charter| charter.exception(package).is_some());
        if let Some(charter) = excepting {
            let message =
                format!("`{package}` uses the charter's range, and is excepted from {}", charter.name);
            let fault = Fault::new("charter.no-range", message, need.span.clone());
            faults.push(fault.advice("write a range of its own, or remove the exception"));
            return;
        }
        let charters: Vec<String> = self.bound.iter().map(|bound| bound.release().to_string()).collect();
        let message =
            format!("`{package}` uses the charter's range, but {} has none for it", charters.join(" or "));
        let fault = Fault::new("charter.no-range", message, need.span.clone());
        let fault = fault.advice("write a range of its own, such as \"2.4 .. 3\"");
        let names = self.bound.iter().flat_map(|bound| bound.charter.ranges.keys()).map(PackageName::as_str);
        push_with_nearest(faults, fault, (package.as_str(), WordAt::Fault), names);
    }

    /// Capabilities for which charters choose different providers, and the workspace none.
    fn contradictory_providers(&self) -> Vec<Misfit> {
        let mut chosen: BTreeMap<&PackageName, (&LockedCharter, &PackageName)> = BTreeMap::new();
        let mut misfits = Vec::new();
        for bound in &self.bound {
            for (capability, provider) in &bound.charter.capabilities {
                let (first, other) = *chosen.entry(capability).or_insert((bound, provider));
                if other == provider || self.capabilities.contains_key(capability) {
                    continue;
                }
                let message = format!(
                    "{} chooses {other} for {capability}, and {} chooses {provider}",
                    first.release(),
                    bound.release()
                );
                let span = self.declared_charter(&bound.name).map_or(0..0, |charter| charter.span.clone());
                let fault = Fault::new("charter.providers", message, span);
                let line = |provider| format!("{capability} = \"{provider}\"");
                let fault = fault.advice(format!("choose one under `[capabilities]`: `{}`", line(other)));
                let fault = [other, provider].into_iter().fold(fault, |fault, provider| {
                    fault.offering([Fix::AddUnder { head: "capabilities".to_owned(), line: line(provider) }])
                });
                misfits.push(Misfit { folder: String::new(), fault });
            }
        }
        misfits
    }
}
