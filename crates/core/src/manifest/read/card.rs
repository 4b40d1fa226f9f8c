//! Reading the `[card]` part.

use std::collections::BTreeMap;

use toml_edit::{Item, Key, TableLike};

use super::Reader;
use crate::card::{CardConflict, Provided};
use crate::manifest::CardPart;

const CARD_KEYS: [&str; 10] = [
    "summary",
    "description",
    "homepage",
    "repository",
    "notes",
    "family",
    "provides",
    "conflicts",
    "exposes",
    "files",
];
const LATER_CARD_KEYS: [&str; 3] = ["needs", "steps", "components"];

impl Reader {
    pub(super) fn card(&mut self, table: &dyn TableLike) -> CardPart {
        self.only_known(table, "`[card]`", &CARD_KEYS, &LATER_CARD_KEYS);
        let mut text = |key| table.get(key).and_then(|item| self.text(item, key));
        let [summary, description, homepage, repository, notes] =
            ["summary", "description", "homepage", "repository", "notes"].map(&mut text);
        let exposes = table.get("exposes").and_then(|item| self.table(item, "exposes"));
        let exposes = exposes.map(|roles| self.exposes(roles)).unwrap_or_default();
        CardPart {
            summary,
            description,
            homepage,
            repository,
            notes,
            family: self.parsed(table, "family"),
            provides: self.provides(table),
            conflicts: self.each(table, "conflicts", |reader, key, item| {
                Some(CardConflict { name: reader.name(key)?, range: reader.range(item, key.get())? })
            }),
            exposes,
            files: self.texts(table, "files"),
        }
    }

    /// Capabilities: a list of names or, with versions of their own, a table.
    fn provides(&mut self, table: &dyn TableLike) -> Vec<Provided> {
        if table.get("provides").is_some_and(Item::is_array) {
            let names = self.parsed_list(table, "provides").into_iter();
            return names.map(|name| Provided { name, version: None }).collect();
        }
        self.each(table, "provides", |reader, key, item| {
            Some(Provided { name: reader.name(key)?, version: Some(reader.parse(item, key.get())?) })
        })
    }

    fn exposes(&mut self, roles: &dyn TableLike) -> BTreeMap<String, Vec<String>> {
        let paths = |reader: &mut Self, key: &Key, item: &Item| {
            let paths = match item.as_str() {
                Some(path) => Some(vec![path.to_owned()]),
                None => reader.texts(roles, key.get()),
            };
            Some((key.get().to_owned(), paths?))
        };
        self.entries(roles, paths).into_iter().collect()
    }
}
