//! What a library could promise, level by level.

use bibliotax_core::facet::{Facets, Fit as Suits, FitValue, Target};
use bibliotax_core::name::FacetName;
use serde_json::{Value, json};

use super::Row;
use crate::show::table;
use crate::ui::{Ui, style, styled};

/// A ladder that the project promises a level of: what stands in the way of each.
pub struct Ladder {
    facet: FacetName,
    promised: String,
    /// Each level, the lowest first, with the packages that ask for more.
    levels: Vec<(String, Vec<String>)>,
}

impl Ladder {
    /// The lowest level that all packages work at.
    fn lowest(&self) -> Option<&str> {
        let works = |(_, asking): &&(String, Vec<String>)| asking.is_empty();
        self.levels.iter().find(works).map(|(level, _)| level.as_str())
    }

    /// What a library could promise, level by level.
    pub fn show(&self, ui: &Ui) {
        ui.answer(format!("\n{}, level by level", styled(style::STRONG, &self.facet)));
        let row = |(level, asking): &(String, Vec<String>)| {
            let promised = if *level == self.promised { "promised" } else { "" };
            let works = if asking.is_empty() {
                "all works".to_owned()
            } else {
                format!("{} asks for more", asking.join(", "))
            };
            vec![format!(" {level}"), promised.to_owned(), works]
        };
        ui.answer(table(ui, self.levels.iter().map(row)));
        ui.answer(match self.lowest() {
            Some(level) if level == self.promised => "the promise is the lowest level that works".to_owned(),
            Some(level) => format!("{level} is the lowest level that works"),
            None => "no level works for all".to_owned(),
        });
    }

    /// The same as data.
    pub fn as_json(&self) -> Value {
        let level =
            |(level, asking): &(String, Vec<String>)| json!({ "level": level, "asking-for-more": asking });
        json!({ "facet": self.facet, "promised": self.promised, "lowest": self.lowest(),
            "levels": self.levels.iter().map(level).collect::<Vec<_>>() })
    }
}

/// The ladders that a promise among the places is about.
pub fn ladders(rows: &[Row], places: &[Target], facets: &Facets) -> Vec<Ladder> {
    let promise = places.iter().find(|place| place.is_promise);
    let promised = promise.into_iter().flat_map(|promise| &promise.values);
    let ladders = promised.filter(|(facet, _)| !facets.levels(facet).is_empty());
    let ladder = |(facet, value): (&FacetName, &FitValue)| {
        let asking = |level: &String| {
            let values = [(facet.clone(), FitValue::One(level.clone()))].into_iter().collect();
            let place = Target { name: String::new(), values, is_promise: true };
            let fails = |row: &&Row| {
                matches!(facets.fit_release(&row.release.entry, &row.components, &place), Suits::No(_))
            };
            let title = |row: &Row| format!("{} {}", row.name, row.release.entry.version);
            (level.clone(), rows.iter().filter(fails).map(title).collect())
        };
        let promised = facets.plain(facet, value).to_string();
        Ladder { facet: facet.clone(), promised, levels: facets.levels(facet).iter().map(asking).collect() }
    };
    ladders.map(ladder).collect()
}
