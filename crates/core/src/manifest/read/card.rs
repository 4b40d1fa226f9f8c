//! Reading the `[card]` part.

use std::collections::BTreeMap;

use toml_edit::{Item, Key, TableLike};

use super::Reader;
use super::values::span;
use crate::card::{CardConflict, CardNeed, Component, MAIN, Provided};
use crate::facet::Fits;
use crate::fault::Fault;
use crate::inner_path::InnerPath;
use crate::manifest::{CardPart, PartDeclaration};
use crate::name::ComponentName;

const CARD_KEYS: [&str; 12] = [
    "summary",
    "description",
    "homepage",
    "repository",
    "notes",
    "family",
    "provides",
    "conflicts",
    "exposes",
    "components",
    "files",
    "parts",
];
const LATER_CARD_KEYS: [&str; 1] = ["steps"];
const COMPONENT_KEYS: [&str; 4] = ["summary", "default", "needs", "parts"];
const PART_KEYS: [&str; 4] = ["part", "for", "from", "files"];

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
            components: self.each(table, "components", Self::component).into_iter().collect(),
            files: self.texts(table, "files"),
            parts: self.parts(table),
        }
    }

    fn component(&mut self, key: &Key, item: &Item) -> Option<(ComponentName, Component)> {
        let table = self.table(item, key.get())?;
        self.only_known(table, "a component", &COMPONENT_KEYS, &[]);
        let needs = self.each(table, "needs", |reader, key, item| {
            let need = reader.need(key, item, None, &BTreeMap::new())?;
            if need.targets.is_some() || need.registry.is_some() || !need.without.is_empty() {
                let message =
                    format!("a component's need of `{}` is for whoever takes the component", need.package);
                let fault = Fault::new("manifest.component-need", message, need.span.clone());
                reader
                    .faults
                    .push(fault.mend("only the project itself can say `targets`, `registry`, `without`"));
            }
            Some(CardNeed::from(&need))
        });
        let component = Component {
            summary: table.get("summary").and_then(|item| self.text(item, "summary")),
            default: table.get("default").is_some_and(|item| self.flag(item, "default")),
            needs,
            parts: self.parsed_list(table, "parts"),
        };
        Some((self.name(key)?, component))
    }

    fn parts(&mut self, table: &dyn TableLike) -> Vec<PartDeclaration> {
        let Some(item) = table.get("parts") else { return Vec::new() };
        let mut parts = Vec::new();
        match (item.as_array_of_tables(), item.as_array()) {
            (Some(tables), _) => parts.extend(tables.iter().filter_map(|table| self.part(item, table))),
            (None, Some(array)) if array.iter().all(|value| value.as_inline_table().is_some()) => {
                let tables = array.iter().filter_map(|value| value.as_inline_table());
                parts.extend(tables.filter_map(|table| self.part(item, table)));
            }
            _ => self.wrong_kind(item, "parts", "a list of tables: `[[card.parts]]`"),
        }
        parts
    }

    fn part(&mut self, item: &Item, table: &dyn TableLike) -> Option<PartDeclaration> {
        self.only_known(table, "a part", &PART_KEYS, &[]);
        let part = match table.get("part") {
            Some(_) => self.parsed(table, "part")?,
            None => MAIN.parse().ok()?,
        };
        let only_for = table.get("for").and_then(|item| self.table(item, "for"));
        let only_for = only_for.map_or_else(Fits::new, |table| self.fits(table));
        let Some(from) = table.get("from") else {
            let fault = Fault::new("manifest.part", format!("the part `{part}` has no `from`"), span(item));
            self.faults.push(fault.mend("say which folder of the project it is made from"));
            return None;
        };
        let written = self.text(from, "from")?;
        let Ok(from) = InnerPath::new(written.trim_start_matches("./").trim_end_matches('/')) else {
            let message = format!("`{written}` is no folder inside the project");
            self.faults.push(Fault::new("manifest.part", message, span(from)));
            return None;
        };
        Some(PartDeclaration { part, only_for, from, files: self.texts(table, "files") })
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
