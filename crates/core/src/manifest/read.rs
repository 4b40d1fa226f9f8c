//! Reading a manifest: from TOML to meaning, with every fault that one look can find.

use std::collections::BTreeMap;
use std::ops::Range as Span;
use std::str::FromStr;

use toml_edit::{Document, Item, Key, TableLike, Value};

use super::{CardPart, Manifest, NamePattern, Need, Project, RegistryDeclaration, syntax};
use crate::fault::Fault;
use crate::name::{PackageName, Purpose, RegistryName};
use crate::nearest::{either, nearest};
use crate::range::Range;

const TOP_KEYS: [&str; 5] = ["project", "registries", "needs", "needs-for", "card"];
const PROJECT_KEYS: [&str; 3] = ["name", "version", "license"];
const REGISTRY_KEYS: [&str; 2] = ["url", "owns"];
const NEED_KEYS: [&str; 3] = ["range", "registry", "prereleases"];
const CARD_KEYS: [&str; 7] =
    ["summary", "description", "homepage", "repository", "notes", "exposes", "files"];

/// Keys that the format reserves and that this version does not act on: told apart from typing errors.
const LATER_KEYS: [&str; 10] =
    ["targets", "families", "facets", "fits", "tasks", "tools", "workspace", "shared", "rules", "replace"];
const LATER_NEED_KEYS: [&str; 9] =
    ["components", "targets", "git", "tag", "branch", "rev", "archive", "path", "without"];

/// Reads a manifest; on failure all faults that were found.
pub fn read(text: &str) -> Result<Manifest, Vec<Fault>> {
    if text.trim().is_empty() {
        let fault = Fault::new("manifest.empty", "the manifest is empty", 0..text.len());
        return Err(vec![fault.mend("delete it and run `bibliotax init`, or begin it with `[project]`")]);
    }
    let document = Document::parse(text).map_err(|error| vec![syntax::fault(text, &error)])?;
    let mut reader = Reader { faults: Vec::new() };
    let manifest = reader.manifest(document.as_table());
    match manifest {
        Some(manifest) if reader.faults.is_empty() => Ok(manifest),
        _ => Err(reader.faults),
    }
}

struct Reader {
    faults: Vec<Fault>,
}

impl Reader {
    fn manifest(&mut self, top: &dyn TableLike) -> Option<Manifest> {
        self.only_known(top, "a manifest", &TOP_KEYS, &LATER_KEYS);
        let project = match top.get("project") {
            Some(item) => self.table(item, "project").and_then(|table| self.project(item, table)),
            None => {
                let fault = Fault::new("manifest.no-project", "the manifest doesn't name its project", 0..0);
                self.faults.push(fault.mend("begin it with `[project]` and `name = \"…\"`"));
                None
            }
        };
        let registries = self.each(top, "registries", Self::registry);
        let mut needs = self.each(top, "needs", |reader, key, item| reader.need(key, item, None));
        for group in self.each(top, "needs-for", Self::needs_for) {
            needs.extend(group);
        }
        self.registries_are_declared(&needs, &registries);
        let card = top.get("card").and_then(|item| self.table(item, "card")).map(|table| self.card(table));
        Some(Manifest { project: project?, registries, needs, card: card.unwrap_or_default() })
    }

    fn project(&mut self, item: &Item, table: &dyn TableLike) -> Option<Project> {
        self.only_known(table, "`[project]`", &PROJECT_KEYS, &[]);
        if table.get("name").is_none() {
            let fault = Fault::new("manifest.no-project", "the project has no name", span(item));
            self.faults.push(fault.mend("write `name = \"…\"` under `[project]`"));
        }
        let version = self.parsed(table, "version");
        let license = self.parsed(table, "license");
        Some(Project { name: self.parsed(table, "name")?, version, license })
    }

    fn registry(&mut self, key: &Key, item: &Item) -> Option<RegistryDeclaration> {
        let name: Option<RegistryName> = self.name(key);
        let (url, owns) = match item.as_table_like() {
            None => (self.text(item, key.get())?, Vec::new()),
            Some(table) => {
                self.only_known(table, "a registry", &REGISTRY_KEYS, &[]);
                let Some(url) = table.get("url") else {
                    let fault = Fault::new(
                        "manifest.no-url",
                        format!("registry `{}` has no `url`", key.get()),
                        span(item),
                    );
                    self.faults.push(fault.mend("write where it is: a folder or a URL"));
                    return None;
                };
                (self.text(url, "url")?, self.texts(table, "owns").unwrap_or_default())
            }
        };
        let owns = owns.into_iter().map(NamePattern).collect();
        Some(RegistryDeclaration { name: name?, url, owns, span: key_span(key) })
    }

    fn needs_for(&mut self, key: &Key, item: &Item) -> Option<Vec<Need>> {
        let purpose: Purpose = self.name(key)?;
        if purpose.as_str() == "run" {
            let fault = Fault::new("manifest.purpose", "`run` is what `[needs]` is for", key_span(key));
            self.faults.push(fault.mend("write these needs under `[needs]`"));
        }
        let table = self.table(item, key.get())?;
        Some(self.entries(table, |reader, key, item| reader.need(key, item, Some(purpose.clone()))))
    }

    fn need(&mut self, key: &Key, item: &Item, purpose: Option<Purpose>) -> Option<Need> {
        let package: Option<PackageName> = self.name(key);
        let mut need = (None, None, false);
        match item.as_table_like() {
            None => need.0 = self.range(item, key.get()),
            Some(table) => {
                self.only_known(table, "a need", &NEED_KEYS, &LATER_NEED_KEYS);
                match table.get("range") {
                    Some(range) => need.0 = self.range(range, key.get()),
                    None if self.faults.is_empty() => {
                        let fault = Fault::new(
                            "manifest.no-range",
                            format!("`{}` has no `range`", key.get()),
                            span(item),
                        );
                        self.faults.push(fault.mend("write `range = \"any\"`, or the versions that will do"));
                    }
                    None => {}
                }
                need.1 = self.parsed(table, "registry");
                need.2 = table.get("prereleases").is_some_and(|item| self.flag(item, "prereleases"));
            }
        }
        let (range, registry, prereleases) = need;
        Some(Need { package: package?, range: range?, registry, prereleases, purpose, span: key_span(key) })
    }

    fn range(&mut self, item: &Item, key: &str) -> Option<Range> {
        if let Some(number) =
            item.as_integer().map(|n| n.to_string()).or_else(|| item.as_float().map(|n| n.to_string()))
        {
            let message = format!("the range of `{key}` stands in quotes");
            let fault =
                Fault::new("manifest.unquoted-value", message, span(item)).label("a number, not a text");
            self.faults.push(fault.mend(format!("write `\"{number}\"`")));
            return None;
        }
        self.parse(item, key)
    }

    fn card(&mut self, table: &dyn TableLike) -> CardPart {
        self.only_known(
            table,
            "`[card]`",
            &CARD_KEYS,
            &["needs", "steps", "provides", "conflicts", "components"],
        );
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
            exposes,
            files: self.texts(table, "files"),
        }
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

    fn registries_are_declared(&mut self, needs: &[Need], registries: &[RegistryDeclaration]) {
        for need in needs {
            let Some(name) = &need.registry else { continue };
            if !registries.iter().any(|registry| registry.name == *name) {
                let known = registries.iter().map(|registry| registry.name.as_str());
                let message =
                    format!("`{}` names the registry `{name}`, and none is declared so", need.package);
                let fault = Fault::new("manifest.unknown-registry", message, need.span.clone());
                self.faults.push(with_nearest(fault, name.as_str(), known));
            }
        }
    }

    // What follows reads values of one shape each.

    fn each<T>(
        &mut self,
        top: &dyn TableLike,
        key: &str,
        read: impl FnMut(&mut Self, &Key, &Item) -> Option<T>,
    ) -> Vec<T> {
        let table = top.get(key).and_then(|item| self.table(item, key));
        table.map(|table| self.entries(table, read)).unwrap_or_default()
    }

    fn entries<T>(
        &mut self,
        table: &dyn TableLike,
        mut read: impl FnMut(&mut Self, &Key, &Item) -> Option<T>,
    ) -> Vec<T> {
        let keys: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).collect();
        let pairs = keys.iter().filter_map(|key| table.get_key_value(key));
        pairs.filter_map(|(key, item)| read(self, key, item)).collect()
    }

    fn only_known(&mut self, table: &dyn TableLike, what: &str, known: &[&str], later: &[&str]) {
        for (name, _) in table.iter().filter(|(name, _)| !known.contains(name)) {
            let at = table.get_key_value(name).map_or(0..0, |(key, _)| key_span(key));
            if later.contains(&name) {
                let message = format!("this version of bibliotax can't act on `{name}` yet");
                self.faults
                    .push(Fault::new("manifest.later", message, at).mend("take it out until a version can"));
                continue;
            }
            let fault = Fault::new("manifest.unknown-key", format!("{what} has no key `{name}`"), at);
            self.faults.push(with_nearest(fault, name, known.iter().copied()));
        }
    }

    fn table<'a>(&mut self, item: &'a Item, key: &str) -> Option<&'a dyn TableLike> {
        let table = item.as_table_like();
        if table.is_none() {
            self.wrong_kind(item, key, "a table");
        }
        table
    }

    fn text(&mut self, item: &Item, key: &str) -> Option<String> {
        let text = item.as_str().map(str::to_owned);
        if text.is_none() {
            self.wrong_kind(item, key, "a text in quotes");
        }
        text
    }

    fn flag(&mut self, item: &Item, key: &str) -> bool {
        if item.as_bool().is_none() {
            self.wrong_kind(item, key, "`true` or `false`");
        }
        item.as_bool().unwrap_or_default()
    }

    fn texts(&mut self, table: &dyn TableLike, key: &str) -> Option<Vec<String>> {
        let item = table.get(key)?;
        let texts = item
            .as_array()
            .and_then(|array| array.iter().map(|value| value.as_str().map(str::to_owned)).collect());
        if texts.is_none() {
            self.wrong_kind(item, key, "a list of texts, such as `[\"…\"]`");
        }
        texts
    }

    fn wrong_kind(&mut self, item: &Item, key: &str, expected: &str) {
        let message = format!("`{key}` has to be {expected}");
        self.faults
            .push(Fault::new("manifest.wrong-kind", message, span(item)).label(format!("is {}", kind(item))));
    }

    fn parsed<T: FromStr<Err = Fault>>(&mut self, table: &dyn TableLike, key: &str) -> Option<T> {
        table.get(key).and_then(|item| self.parse(item, key))
    }

    fn parse<T: FromStr<Err = Fault>>(&mut self, item: &Item, key: &str) -> Option<T> {
        let text = self.text(item, key)?;
        text.parse().map_err(|fault| self.faults.push(placed(fault, &span(item), text.len()))).ok()
    }

    fn name<T: FromStr<Err = Fault>>(&mut self, key: &Key) -> Option<T> {
        key.get()
            .parse()
            .map_err(|fault| self.faults.push(placed(fault, &key_span(key), key.get().len())))
            .ok()
    }
}

/// A fault inside a value, at its place in the manifest.
///
/// A value without escapes stands in one quote on each side; of any other the whole is pointed at.
fn placed(fault: Fault, value: &Span<usize>, width: usize) -> Fault {
    match value.len().checked_sub(width) {
        Some(0) => fault.shifted(value.start),
        Some(2) => fault.shifted(value.start + 1),
        _ => Fault { span: value.clone(), ..fault },
    }
}

fn with_nearest<'a>(fault: Fault, word: &str, known: impl Iterator<Item = &'a str> + Clone) -> Fault {
    let near = nearest(word, known.clone(), 2);
    if !near.is_empty() {
        return fault.mend(format!("perhaps {} was meant", either(&near)));
    }
    let all: Vec<&str> = known.collect();
    if all.is_empty() { fault } else { fault.mend(format!("possible here: {}", either(&all))) }
}

fn kind(item: &Item) -> &'static str {
    match item {
        Item::Value(Value::String(_)) => "a text",
        Item::Value(Value::Integer(_) | Value::Float(_)) => "a number",
        Item::Value(Value::Boolean(_)) => "`true` or `false`",
        Item::Value(Value::Datetime(_)) => "a date",
        Item::Value(Value::Array(_)) | Item::ArrayOfTables(_) => "a list",
        _ => "a table",
    }
}

fn span(item: &Item) -> Span<usize> {
    item.span().unwrap_or(0..0)
}

fn key_span(key: &Key) -> Span<usize> {
    key.span().unwrap_or(0..0)
}
