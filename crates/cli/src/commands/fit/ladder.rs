//! What a library could promise, level by level: what its needs allow, and who could still use it.

use bibliotax_core::facet::{Facets, Fit as Suits, FitValue, Fits, Target};
use bibliotax_core::history::Release;
use bibliotax_core::name::FacetName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_registry::catalogue::registries::Registries;
use serde_json::{Value, json};

use super::Row;
use crate::show::table;
use crate::ui::{Ui, style, styled};
use bibliotax_core::fitting;

/// A ladder that the project promises a level of.
pub struct Ladder {
    facet: FacetName,
    promised: String,
    /// Each level, the lowest first.
    levels: Vec<Level>,
    /// The newest release of each need that works at each level, as far as there is one.
    newest: Vec<(String, Vec<Option<String>>)>,
    /// Whether any target is known that uses the library.
    is_used: bool,
}

/// What promising a level would come to.
struct Level {
    name: String,
    /// The packages that ask for more.
    asking: Vec<String>,
    /// The targets that could use the library.
    usable_on: Vec<String>,
    /// The targets that couldn't.
    broken_on: Vec<String>,
}

impl Ladder {
    /// The lowest level that all packages work at.
    fn lowest(&self) -> Option<&str> {
        self.levels.iter().find(|level| level.asking.is_empty()).map(|level| level.name.as_str())
    }

    /// The highest level that all targets have.
    fn shared(&self) -> Option<&str> {
        let all = |level: &&Level| level.broken_on.is_empty();
        self.levels.iter().rfind(all).map(|level| level.name.as_str()).filter(|_| self.is_used)
    }

    /// What a library could promise, level by level.
    pub fn show(&self, ui: &Ui) {
        ui.answer(format!("\n{}, level by level", styled(style::STRONG, &self.facet)));
        ui.answer(table(ui, self.levels.iter().map(|level| self.row(level))));
        let differs = self.newest.iter().filter(|(_, at)| at.windows(2).any(|pair| pair[0] != pair[1]));
        let differing: Vec<_> = differs.collect();
        if !differing.is_empty() {
            ui.answer(format!("{} that works, level by level", styled(style::STRONG, "newest")));
            let head = self.levels.iter().map(|level| level.name.clone());
            let head: Vec<String> = [String::new()].into_iter().chain(head).collect();
            let row = |(name, at): &&(String, Vec<Option<String>>)| {
                let versions = at.iter().map(|version| version.clone().unwrap_or_else(|| "none".to_owned()));
                [format!(" {name}")].into_iter().chain(versions).collect()
            };
            ui.answer(table(ui, [head].into_iter().chain(differing.iter().map(row))));
        }
        self.conclusions().iter().for_each(|text| ui.answer(text));
    }

    fn row(&self, level: &Level) -> Vec<String> {
        let promised = if level.name == self.promised { "promised" } else { "" };
        let works = if level.asking.is_empty() {
            "all needs work".to_owned()
        } else {
            format!("not: {}", level.asking.join(", "))
        };
        let users = match (self.is_used, level.usable_on.as_slice(), level.broken_on.is_empty()) {
            (false, ..) => String::new(),
            (true, [], _) => "no target can use it".to_owned(),
            (true, _, true) => "all targets can use it".to_owned(),
            (true, some, false) => format!("only {} can use it", some.join(", ")),
        };
        vec![format!(" {}", level.name), promised.to_owned(), works, users]
    }

    fn conclusions(&self) -> Vec<String> {
        let mut told = vec![match self.lowest() {
            Some(level) if level == self.promised => "the promise is the lowest level that works".to_owned(),
            Some(level) => format!("{level} is the lowest level that works"),
            None => "no level works for all".to_owned(),
        }];
        told.extend(self.shared().map(|level| format!("{level} is the highest level that all targets have")));
        let raised = self.levels.iter().skip_while(|level| level.name != self.promised).skip(1);
        if let Some(level) = raised.into_iter().find(|level| !level.broken_on.is_empty()) {
            told.push(format!("raised to {}, it breaks {}", level.name, level.broken_on.join(", ")));
        }
        told
    }

    /// The same as data.
    pub fn as_json(&self) -> Value {
        let level = |level: &Level| {
            json!({ "level": level.name, "asking-for-more": level.asking, "usable-on": level.usable_on,
                "broken-on": level.broken_on })
        };
        let newest = self.newest.iter().map(|(name, at)| {
            let levels = self.levels.iter().map(|level| level.name.clone());
            (
                name.clone(),
                levels.zip(at.iter().map(|version| json!(version))).collect::<serde_json::Map<_, _>>(),
            )
        });
        json!({ "facet": self.facet, "promised": self.promised, "lowest": self.lowest(), "shared": self.shared(),
            "levels": self.levels.iter().map(level).collect::<Vec<_>>(),
            "newest": newest.map(|(name, at)| (name, Value::Object(at))).collect::<serde_json::Map<_, _>>() })
    }
}

/// What ladders are worked out from.
pub struct Ladders<'a> {
    pub rows: &'a [Row],
    pub places: &'a [Target],
    /// The targets of those that use the library.
    pub users: &'a [Target],
    pub facets: &'a Facets,
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
            matches!(fit, Suits::No(_))
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
