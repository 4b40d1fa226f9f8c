//! Reads needs.

use std::collections::{BTreeMap, BTreeSet};

use toml_edit::{Item, Key, TableLike};

use super::Reader;
use super::fixes::{add_any_range, remove_key};
use super::sources::SOURCE_KEYS;
use super::values::{key_span, span};
use crate::facet::Target;
use crate::fault::Fault;
use crate::fix::Fix;
use crate::location::Location;
use crate::manifest::{AS_CHARTER, AS_FAMILY, AS_SHARED, Need, RegistryDeclaration};
use crate::name::{Family, PackageName, Purpose};
use crate::nearest::{WordAt, push_with_nearest};
use crate::range::Range;

pub(super) const NEED_KEYS: [&str; 10] = [
    "range",
    "family",
    "from",
    "prereleases",
    "without",
    "targets",
    "components",
    "bare",
    "parts",
    "programs",
];

/// The ranges that a need may take as its own.
#[derive(Clone, Copy)]
pub(super) struct Ranges<'m> {
    /// Those that families are kept in.
    pub families: &'m BTreeMap<Family, Range>,
    /// Those of the workspace.
    pub shared: &'m BTreeMap<PackageName, Range>,
}

/// A range, and whose it is beside the need's own.
struct Stated {
    range: Range,
    family: Option<Family>,
    is_shared: bool,
    is_chartered: bool,
}

impl From<Range> for Stated {
    fn from(range: Range) -> Self {
        Self { range, family: None, is_shared: false, is_chartered: false }
    }
}

impl Reader<'_> {
    pub(super) fn needs_for(&mut self, key: &Key, item: &Item, ranges: Ranges<'_>) -> Option<Vec<Need>> {
        let purpose: Purpose = self.name(key)?;
        if purpose.as_str() == "run" {
            let fault = Fault::new("manifest.purpose", "needs to run stand under `[needs]`", key_span(key));
            self.faults.push(fault.advice("write these needs under `[needs]`"));
        }
        let table = self.table(item, key.get())?;
        Some(self.entries(table, |reader, key, item| reader.need(key, item, Some(&purpose), ranges)))
    }

    pub(super) fn need(
        &mut self,
        key: &Key,
        item: &Item,
        purpose: Option<&Purpose>,
        ranges: Ranges<'_>,
    ) -> Option<Need> {
        let package: Option<PackageName> = self.name(key);
        let Stated { range, family, is_shared, is_chartered } = match item.as_table_like() {
            None => self.range_or_word(item, key, package.as_ref(), ranges)?,
            Some(table) => {
                self.only_known(table, "a need", &[&NEED_KEYS[..], &SOURCE_KEYS].concat());
                self.stated_range(table, item, key, package.as_ref(), ranges)?
            }
        };
        let mut need = Need {
            package: package?,
            range,
            registry: None,
            prereleases: false,
            family,
            is_shared,
            is_chartered,
            source: None,
            without: Vec::new(),
            targets: None,
            components: Vec::new(),
            bare: false,
            parts: Vec::new(),
            programs_first: false,
            purpose: purpose.cloned(),
            span: key_span(key),
        };
        if let Some(table) = item.as_table_like() {
            need.registry = self.parsed(table, "from");
            need.source = self.declared_source(table, key);
            need.prereleases = table.get("prereleases").is_some_and(|item| self.flag(item, "prereleases"));
            need.without = self.parsed_list(table, "without");
            need.targets = self.texts(table, "targets");
            need.components = self.parsed_list(table, "components");
            need.bare = table.get("bare").is_some_and(|item| self.flag(item, "bare"));
            need.parts = self.parsed_list(table, "parts");
            need.programs_first = table.get("programs").is_some_and(|item| self.programs_first(item));
        }
        Some(need)
    }

    /// Whether a package's programs are found before the system's.
    fn programs_first(&mut self, item: &Item) -> bool {
        if !matches!(item.as_str(), Some("first" | "last")) {
            self.wrong_kind(item, "programs", "`\"first\"` (before the system's programs) or `\"last\"`");
        }
        item.as_str() == Some("first")
    }

    /// The range that a need's table states, by itself or by a family.
    fn stated_range(
        &mut self,
        table: &dyn TableLike,
        item: &Item,
        key: &Key,
        package: Option<&PackageName>,
        ranges: Ranges<'_>,
    ) -> Option<Stated> {
        match (table.get("range"), table.get("family")) {
            (Some(range), None) => self.range_or_word(range, key, package, ranges),
            (None, Some(family)) => {
                let name: Family = self.parse(family, "family")?;
                self.family_range(name, key.get(), span(family), ranges)
            }
            (Some(_), Some(family)) => {
                let message =
                    format!("`{}` has a range and a family, but the family already has a range", key.get());
                let fault =
                    Fault::new("manifest.two-ranges", message, span(family)).advice("remove one of them");
                let fixes = ["range", "family"].into_iter().filter_map(|word| remove_key(table, word));
                self.faults.push(fault.offering(fixes));
                None
            }
            // What is in a folder is used as it is there; so are a commit and an archive.
            (None, None) if ["path", "git", "archive"].iter().any(|word| table.contains_key(word)) => {
                Some(Range::any().into())
            }
            (None, None) => {
                if self.faults.is_empty() {
                    let message = format!("`{}` has no `range`", key.get());
                    let fault = Fault::new("manifest.no-range", message, span(item))
                        .advice("write `range = \"any\"`, or a range such as \"2.4 .. 3\"");
                    self.faults.push(fault.offering([add_any_range(item)]));
                }
                None
            }
        }
    }

    /// A range or, where a word stands for it, that of the workspace, or of the family that the package's scope names.
    fn range_or_word(
        &mut self,
        item: &Item,
        key: &Key,
        package: Option<&PackageName>,
        ranges: Ranges<'_>,
    ) -> Option<Stated> {
        match item.as_str() {
            Some(AS_FAMILY) => {}
            // A charter's release says which range that is, once one is chosen.
            Some(AS_CHARTER) => return Some(Stated { is_chartered: true, ..Range::any().into() }),
            Some(AS_SHARED) => return self.shared_range(item, key, package?, ranges),
            _ => return self.range(item, key.get()).map(Stated::from),
        }
        let Some(scope) = package?.scope() else {
            let message = format!("`{}` has no scope, so its family needs a name", key.get());
            let fault = Fault::new("manifest.no-family", message, span(item));
            self.faults.push(fault.advice("write `{ family = \"…\" }`"));
            return None;
        };
        // A scope has the form of every name of one segment.
        self.family_range(scope.parse().ok()?, key.get(), span(item), ranges)
    }

    fn shared_range(
        &mut self,
        item: &Item,
        key: &Key,
        package: &PackageName,
        ranges: Ranges<'_>,
    ) -> Option<Stated> {
        if let Some(range) = ranges.shared.get(package) {
            return Some(Stated { is_shared: true, ..range.clone().into() });
        }
        let message = format!("`{package}` uses the workspace's range, but `[shared]` has none for it");
        let names = ranges.shared.keys().map(PackageName::as_str);
        let line = format!("write `{} = \"…\"` under `[shared]` of the workspace's root", key.get());
        let fault = Fault::new("manifest.no-shared", message, span(item)).advice(line);
        // Below a root, that is another file.
        let fix = self.root.is_none().then(|| Fix::AddUnder {
            head: "shared".to_owned(),
            line: format!("{} = \"any\"", key.display_repr()),
        });
        let fault = fault.offering(fix);
        let word = (package.as_str(), WordAt::Place(key_span(key)));
        push_with_nearest(&mut self.faults, fault, word, names.filter(|name| *name != key.get()));
        None
    }

    /// The folder of a project, from the manifest's own.
    pub(super) fn folder_path(&mut self, item: &Item) -> Option<String> {
        let path = self.text(item, "path")?;
        let is_relative = matches!(Location::of(&path), Location::Relative(_));
        if !path.trim().is_empty() && is_relative {
            return Some(path);
        }
        let message = format!("`{path}` is an absolute path, which other machines don't have");
        let fault = Fault::new("manifest.path", message, span(item));
        self.faults.push(
            fault.advice("write a path relative to this manifest's folder: `path = \"../valve-core\"`"),
        );
        None
    }

    fn family_range(
        &mut self,
        family: Family,
        key: &str,
        at: std::ops::Range<usize>,
        ranges: Ranges<'_>,
    ) -> Option<Stated> {
        if let Some(range) = ranges.families.get(&family) {
            return Some(Stated { family: Some(family), ..range.clone().into() });
        }
        let message = format!("`{key}` uses the range of its family, but `[families]` has no `{family}`");
        let fault = Fault::new("manifest.no-family", message, at);
        let line = format!("{family} = \"any\"");
        let advice = format!("write `{line}` under `[families]`, or a range such as \"2.4 .. 3\"");
        let fix = Fix::AddUnder { head: "families".to_owned(), line };
        self.faults.push(fault.advice(advice).offering([fix]));
        None
    }

    /// Every target that a need names is declared.
    pub(super) fn targets_are_declared(&mut self, needs: &[Need], targets: &[Target]) {
        let named = needs.iter().flat_map(|need| need.targets.iter().flatten().map(move |name| (need, name)));
        let asked = named.map(|(need, name)| {
            let message = format!("`{}` is for the target `{name}`, which isn't declared", need.package);
            ((name.as_str(), WordAt::BehindFault), message, need.span.clone())
        });
        self.targets_are_known(asked, targets);
    }

    /// A fault for each of these targets that isn't declared: its name, what is wrong then, and where.
    pub(super) fn targets_are_known<'n>(
        &mut self,
        asked: impl Iterator<Item = ((&'n str, WordAt), String, std::ops::Range<usize>)>,
        targets: &[Target],
    ) {
        let of_root = self.root.map_or(&[][..], |root| &root.targets);
        let known: BTreeSet<&str> =
            targets.iter().chain(of_root).map(|target| target.name.as_str()).collect();
        for (word, message, at) in asked.filter(|((name, _), ..)| !known.contains(name)) {
            let fault = Fault::new("manifest.unknown-target", message, at);
            push_with_nearest(&mut self.faults, fault, word, known.iter().copied());
        }
    }

    pub(super) fn range(&mut self, item: &Item, key: &str) -> Option<Range> {
        if let Some(number) =
            item.as_integer().map(|n| n.to_string()).or_else(|| item.as_float().map(|n| n.to_string()))
        {
            let message = format!("the range of `{key}` needs quotes");
            let fault =
                Fault::new("manifest.unquoted-value", message, span(item)).label("a number, not a text");
            let quoted = format!("\"{number}\"");
            self.faults.push(fault.advice(format!("write `{quoted}`")).fix(span(item), quoted));
            return None;
        }
        self.parse(item, key)
    }

    pub(super) fn registries_are_declared(&mut self, needs: &[Need], registries: &[RegistryDeclaration]) {
        let of_root = self.root.map_or(&[][..], |root| &root.registries);
        let known: BTreeSet<&str> =
            registries.iter().chain(of_root).map(|registry| registry.name.as_str()).collect();
        for need in needs {
            let Some(name) = need.registry.as_ref().filter(|name| !known.contains(name.as_str())) else {
                continue;
            };
            let message = format!("`{}` names the registry `{name}`, which isn't declared", need.package);
            let fault = Fault::new("manifest.unknown-registry", message, need.span.clone());
            push_with_nearest(
                &mut self.faults,
                fault,
                (name.as_str(), WordAt::BehindFault),
                known.iter().copied(),
            );
        }
    }
}
