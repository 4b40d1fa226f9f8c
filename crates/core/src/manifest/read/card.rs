//! Reads `[card]`.

use std::collections::BTreeMap;

use toml_edit::{Item, Key, TableLike};

use super::Reader;
use super::fixes::{add_key, remove_key};
use super::needs::Ranges;
use super::values::span;
use crate::card::{
    CardConflict, CardNeed, Component, Provided, Step, StepCheck, StepPer, StepWhen, main_part,
};
use crate::exposes::{Exposed, Exposes, RoleKind};
use crate::facet::Fits;
use crate::fault::Fault;
use crate::inner_path::InnerPath;
use crate::manifest::{CardPart, PartDeclaration};
use crate::name::{ComponentName, RoleName};

pub(super) const CARD_KEYS: [&str; 16] = [
    "summary",
    "description",
    "tags",
    "homepage",
    "repository",
    "upstream",
    "upstream-version",
    "notes",
    "family",
    "provides",
    "conflicts",
    "exposes",
    "components",
    "files",
    "parts",
    "steps",
];
pub(super) const COMPONENT_KEYS: [&str; 4] = ["summary", "default", "needs", "parts"];
pub(super) const PART_KEYS: [&str; 4] = ["part", "for", "from", "files"];
pub(super) const STEP_KEYS: [&str; 6] = ["id", "when", "per", "for", "text", "check"];
pub(super) const CHECK_KEYS: [&str; 2] = ["file", "contains"];
const STEP_TIMES: [(&str, StepWhen); 2] = [("install", StepWhen::Install), ("update", StepWhen::Update)];
const STEP_THINGS: [(&str, StepPer); 3] =
    [("project", StepPer::Project), ("target", StepPer::Target), ("device", StepPer::Device)];

impl Reader<'_> {
    pub(super) fn card(&mut self, table: &dyn TableLike) -> CardPart {
        self.only_known(table, "`[card]`", &CARD_KEYS);
        let files = self.texts(table, "files");
        CardPart { files, parts: self.tables(table, "parts", Self::part), ..self.card_part(table) }
    }

    /// What every card may say, written by a person or a registry.
    pub(super) fn card_part(&mut self, table: &dyn TableLike) -> CardPart {
        let mut text = |key| table.get(key).and_then(|item| self.text(item, key));
        let [summary, description, homepage, repository, notes] =
            ["summary", "description", "homepage", "repository", "notes"].map(&mut text);
        let exposes = table.get("exposes").and_then(|item| self.table(item, "exposes"));
        let exposes = exposes.map(|roles| self.exposes(roles)).unwrap_or_default();
        CardPart {
            summary,
            description,
            tags: self.parsed_list(table, "tags"),
            homepage,
            repository,
            upstream: self.parsed_list(table, "upstream"),
            upstream_version: self.parsed(table, "upstream-version"),
            notes,
            family: self.parsed(table, "family"),
            provides: self.provides(table),
            conflicts: self.each(table, "conflicts", |reader, key, item| {
                Some(CardConflict { name: reader.name(key)?, range: reader.range(item, key.get())? })
            }),
            exposes,
            components: self.each(table, "components", Self::component).into_iter().collect(),
            files: None,
            parts: Vec::new(),
            steps: self.tables(table, "steps", Self::step),
        }
    }

    fn component(&mut self, key: &Key, item: &Item) -> Option<(ComponentName, Component)> {
        let table = self.table(item, key.get())?;
        self.only_known(table, "a component", &COMPONENT_KEYS);
        let needs = table.get("needs").and_then(|item| self.table(item, "needs"));
        let needs = needs.map(|needs| self.card_needs(needs, "a component's")).unwrap_or_default();
        let component = Component {
            summary: table.get("summary").and_then(|item| self.text(item, "summary")),
            default: table.get("default").is_some_and(|item| self.flag(item, "default")),
            needs,
            parts: self.parsed_list(table, "parts"),
        };
        Some((self.name(key)?, component))
    }

    /// A need as a card has it, without what only a project can say.
    pub(super) fn card_need(&mut self, key: &Key, item: &Item, whose: &str) -> Option<CardNeed> {
        let none = Ranges { families: &BTreeMap::new(), shared: &BTreeMap::new() };
        let need = self.need(key, item, None, none)?;
        if need.targets.is_some()
            || need.registry.is_some()
            || need.source.is_some()
            || !need.without.is_empty()
        {
            let message = format!("{whose} need of `{}` applies to all users of it", need.package);
            let fault = Fault::new("manifest.component-need", message, need.span.clone());
            let fault =
                fault.advice("only a project's own needs can have `targets`, `from`, `without`, or a source");
            let words = ["targets", "from", "without", "path", "git", "archive"];
            let fixes =
                item.as_table_like().into_iter().flat_map(|table| words.map(|word| remove_key(table, word)));
            self.faults.push(fault.offering(fixes.flatten()));
        }
        Some(CardNeed::from(&need))
    }

    fn step(&mut self, item: &Item, table: &dyn TableLike) -> Option<Step> {
        self.only_known(table, "a step", &STEP_KEYS);
        for key in ["id", "text"].into_iter().filter(|key| table.get(key).is_none()) {
            let fault = Fault::new("manifest.step", format!("a step has no `{key}`"), span(item));
            self.faults
                .push(fault.advice(format!("write `{key} = \"…\"`")).offering([add_key(key, span(item))]));
        }
        let when = table.get("when");
        let when =
            when.and_then(|item| self.one_of(item, "when", "manifest.step", "time of a step", &STEP_TIMES));
        let per = table.get("per");
        let per = per.and_then(|item| {
            self.one_of(item, "per", "manifest.step", "thing to do a step for", &STEP_THINGS)
        });
        Some(Step {
            id: self.parsed(table, "id")?,
            when: when.unwrap_or_default(),
            per: per.unwrap_or_default(),
            only_for: self.only_for(table),
            text: table.get("text").and_then(|item| self.text(item, "text"))?,
            check: table.get("check").and_then(|item| self.check(item)),
        })
    }

    /// The targets that something is for.
    pub(super) fn only_for(&mut self, table: &dyn TableLike) -> Fits {
        let said = table.get("for").and_then(|item| self.table(item, "for"));
        said.map(|said| self.fits(said)).unwrap_or_default()
    }

    fn check(&mut self, item: &Item) -> Option<StepCheck> {
        let table = self.table(item, "check")?;
        self.only_known(table, "a check", &CHECK_KEYS);
        let Some(file) = table.get("file") else {
            let fault = Fault::new("manifest.step", "a check has no `file`", span(item));
            self.faults.push(fault.advice("name the file of the project that shows that the step was done"));
            return None;
        };
        let contains = table.get("contains").and_then(|item| self.text(item, "contains"));
        Some(StepCheck { file: self.inner_path(file, "file", "manifest.step")?, contains })
    }

    /// A path inside the project.
    pub(super) fn inner_path(&mut self, item: &Item, key: &str, code: &'static str) -> Option<InnerPath> {
        let written = self.text(item, key)?;
        let path = InnerPath::new(&written);
        if path.is_err() {
            let message = format!("`{written}` isn't a path inside the project");
            self.faults.push(Fault::new(code, message, span(item)));
        }
        path.ok()
    }

    fn part(&mut self, item: &Item, table: &dyn TableLike) -> Option<PartDeclaration> {
        self.only_known(table, "a part", &PART_KEYS);
        let part = match table.get("part") {
            Some(_) => self.parsed(table, "part")?,
            None => main_part(),
        };
        let only_for = self.only_for(table);
        let Some(from) = table.get("from") else {
            let fault = Fault::new("manifest.part", format!("the part `{part}` has no `from`"), span(item));
            self.faults.push(fault.advice("name the folder of the project that it is made from"));
            return None;
        };
        let from = self.inner_path(from, "from", "manifest.part")?;
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

    fn exposes(&mut self, roles: &dyn TableLike) -> Exposes {
        let role = |reader: &mut Self, key: &Key, item: &Item| {
            let role: RoleName = reader.name(key)?;
            let kind = RoleKind::of(&role);
            let exposed = reader.each_text(item, key.get(), |text| Exposed::parse(text, kind));
            Some((role, exposed))
        };
        self.entries(roles, role).into_iter().collect()
    }
}
