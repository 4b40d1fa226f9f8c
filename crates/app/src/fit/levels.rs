//! What a library could promise, level by level: what its needs allow, and who could still use it.

use bibliotax_core::facet::{Facets, Fit, FitValue, Fits, Target};
use bibliotax_core::fitting;
use bibliotax_core::history::Release;
use bibliotax_core::name::FacetName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_registry::catalogue::registries::Registries;

use super::Row;

/// A ladder that the project promises a level of.
pub struct Ladder {
    /// The facet.
    pub facet: FacetName,
    /// The level that is promised.
    pub promised: String,
    /// Each level, the lowest first.
    pub levels: Vec<Level>,
    /// The newest release of each need that works at each level, as far as there is one.
    pub newest: Vec<(String, Vec<Option<String>>)>,
    /// Whether any target is known that uses the library.
    pub is_used: bool,
}

/// What promising a level would come to.
pub struct Level {
    /// The level.
    pub name: String,
    /// The packages that ask for more.
    pub asking: Vec<String>,
    /// The targets that could use the library.
    pub usable_on: Vec<String>,
    /// The targets that couldn't.
    pub broken_on: Vec<String>,
}

impl Ladder {
    /// The lowest level that all packages work at.
    pub fn lowest(&self) -> Option<&str> {
        self.levels.iter().find(|level| level.asking.is_empty()).map(|level| level.name.as_str())
    }

    /// The highest level that all targets have.
    pub fn shared(&self) -> Option<&str> {
        let all = |level: &&Level| level.broken_on.is_empty();
        self.levels.iter().rfind(all).map(|level| level.name.as_str()).filter(|_| self.is_used)
    }

    /// The next level above the promised one that some target doesn't have.
    pub fn first_broken(&self) -> Option<&Level> {
        let mut raised = self.levels.iter().skip_while(|level| level.name != self.promised).skip(1);
        raised.find(|level| !level.broken_on.is_empty())
    }
}

/// What ladders are worked out from.
pub struct Ladders<'a> {
    /// The releases.
    pub rows: &'a [Row],
    /// What they have to fit.
    pub places: &'a [Target],
    /// The targets of those that use the library.
    pub users: &'a [Target],
    /// What facets there are.
    pub facets: &'a Facets,
    /// Where other releases are looked up.
    pub registries: &'a Registries,
}

impl Ladders<'_> {
    /// The ladders that a promise among the places is about.
    pub fn all(&self) -> Vec<Ladder> {
        let promise = self.places.iter().find(|place| place.is_promise);
        let promised = promise.into_iter().flat_map(|promise| &promise.values);
        let ladders = promised.filter(|(facet, _)| !self.facets.levels(facet).is_empty());
        ladders.map(|(facet, value)| self.ladder(facet, value)).collect()
    }

    fn ladder(&self, facet: &FacetName, value: &FitValue) -> Ladder {
        let names = self.facets.levels(facet);
        let users: Vec<&Target> =
            self.users.iter().chain(self.places.iter().filter(|place| !place.is_promise)).collect();
        let users: Vec<&Target> =
            users.into_iter().filter(|target| target.values.contains_key(facet)).collect();
        Ladder {
            facet: facet.clone(),
            promised: self.facets.plain(facet, value).to_string(),
            levels: names.iter().map(|level| self.level(facet, level, &users)).collect(),
            newest: self
                .rows
                .iter()
                .map(|row| (row.name.to_string(), self.newest(row, facet, names)))
                .collect(),
            is_used: !users.is_empty(),
        }
    }

    fn level(&self, facet: &FacetName, level: &str, users: &[&Target]) -> Level {
        let place = at_level(facet, level);
        let fails = |row: &&Row| {
            let fit = self.facets.fit_release(&row.release.entry, &row.components, &place);
            matches!(fit, Fit::No(_))
        };
        let asking = self.rows.iter().filter(fails);
        let can_use = |target: &&&Target| self.facets.holds(&place.values, target);
        let (usable, broken): (Vec<&Target>, Vec<&Target>) =
            users.iter().copied().partition(|target| can_use(&target));
        let names = |targets: Vec<&Target>| targets.into_iter().map(|target| target.name.clone()).collect();
        Level {
            name: level.to_owned(),
            asking: asking.map(|row| format!("{} {}", row.name, row.release.entry.version)).collect(),
            usable_on: names(usable),
            broken_on: names(broken),
        }
    }

    fn newest(&self, row: &Row, facet: &FacetName, levels: &[String]) -> Vec<Option<String>> {
        let listing = self.registries.listing(&row.name).ok().flatten();
        let releases: &[Release] = listing.as_ref().map_or(&[], |listing| listing.history.releases());
        let newest = |level: &String| {
            let newest = fitting::newest_fitting(releases, &[at_level(facet, level)], self.facets)?;
            Some(newest.entry.version.to_string())
        };
        levels.iter().map(newest).collect()
    }
}

/// A promise of just this level.
fn at_level(facet: &FacetName, level: &str) -> Target {
    let values: Fits = [(facet.clone(), FitValue::One(level.to_owned()))].into_iter().collect();
    Target { name: String::new(), values, is_promise: true }
}
