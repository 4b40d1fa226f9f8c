//! Reading needs.

use std::collections::BTreeMap;

use toml_edit::{Item, Key, TableLike};

use super::Reader;
use super::values::{key_span, span, with_nearest};
use crate::facet::Target;
use crate::fault::Fault;
use crate::manifest::{AS_FAMILY, Need, RegistryDeclaration};
use crate::name::{Family, PackageName, Purpose};
use crate::range::Range;

const NEED_KEYS: [&str; 9] =
    ["range", "family", "registry", "prereleases", "without", "targets", "components", "bare", "parts"];
const LATER_NEED_KEYS: [&str; 6] = ["git", "tag", "branch", "rev", "archive", "path"];

/// The ranges of families that a manifest declares.
type Families = BTreeMap<Family, Range>;

impl Reader {
    pub(super) fn needs_for(&mut self, key: &Key, item: &Item, families: &Families) -> Option<Vec<Need>> {
        let purpose: Purpose = self.name(key)?;
        if purpose.as_str() == "run" {
            let fault = Fault::new("manifest.purpose", "`run` is what `[needs]` is for", key_span(key));
            self.faults.push(fault.mend("write these needs under `[needs]`"));
        }
        let table = self.table(item, key.get())?;
        Some(self.entries(table, |reader, key, item| reader.need(key, item, Some(&purpose), families)))
    }

    pub(super) fn need(
        &mut self,
        key: &Key,
        item: &Item,
        purpose: Option<&Purpose>,
        families: &Families,
    ) -> Option<Need> {
        let package: Option<PackageName> = self.name(key);
        let (range, family) = match item.as_table_like() {
            None => self.range_or_family(item, key, package.as_ref(), families)?,
            Some(table) => {
                self.only_known(table, "a need", &NEED_KEYS, &LATER_NEED_KEYS);
                self.stated_range(table, item, key, package.as_ref(), families)?
            }
        };
        let mut need = Need {
            package: package?,
            range,
            registry: None,
            prereleases: false,
            family,
            without: Vec::new(),
            targets: None,
            components: Vec::new(),
            bare: false,
            parts: Vec::new(),
            purpose: purpose.cloned(),
            span: key_span(key),
        };
        if let Some(table) = item.as_table_like() {
            need.registry = self.parsed(table, "registry");
            need.prereleases = table.get("prereleases").is_some_and(|item| self.flag(item, "prereleases"));
            need.without = self.parsed_list(table, "without");
            need.targets = self.texts(table, "targets");
            need.components = self.parsed_list(table, "components");
            need.bare = table.get("bare").is_some_and(|item| self.flag(item, "bare"));
            need.parts = self.parsed_list(table, "parts");
        }
        Some(need)
    }

    /// The range that a need's table states, by itself or by a family.
    fn stated_range(
        &mut self,
        table: &dyn TableLike,
        item: &Item,
        key: &Key,
        package: Option<&PackageName>,
        families: &Families,
    ) -> Option<(Range, Option<Family>)> {
        match (table.get("range"), table.get("family")) {
            (Some(range), None) => self.range_or_family(range, key, package, families),
            (None, Some(family)) => {
                let name: Family = self.parse(family, "family")?;
                self.family_range(name, key.get(), span(family), families)
            }
            (Some(_), Some(family)) => {
                let message = format!("`{}` has a range and a family, which has one, too", key.get());
                let fault = Fault::new("manifest.two-ranges", message, span(family));
                self.faults.push(fault.mend("leave out one of them"));
                None
            }
            (None, None) => {
                if self.faults.is_empty() {
                    let message = format!("`{}` has no `range`", key.get());
                    let fault = Fault::new("manifest.no-range", message, span(item));
                    self.faults.push(fault.mend("write `range = \"any\"`, or the versions that will do"));
                }
                None
            }
        }
    }

    /// A range or, where `"family"` stands for it, that of the family that the package's scope names.
    fn range_or_family(
        &mut self,
        item: &Item,
        key: &Key,
        package: Option<&PackageName>,
        families: &Families,
    ) -> Option<(Range, Option<Family>)> {
        if item.as_str() != Some(AS_FAMILY) {
            return self.range(item, key.get()).map(|range| (range, None));
        }
        let Some(scope) = package?.scope() else {
            let message = format!("`{}` has no scope that could name its family", key.get());
            let fault = Fault::new("manifest.no-family", message, span(item));
            self.faults.push(fault.mend("write `{ family = \"…\" }`"));
            return None;
        };
        // A scope has the form of every name of one segment.
        self.family_range(scope.parse().ok()?, key.get(), span(item), families)
    }

    fn family_range(
        &mut self,
        family: Family,
        key: &str,
        at: std::ops::Range<usize>,
        families: &Families,
    ) -> Option<(Range, Option<Family>)> {
        if let Some(range) = families.get(&family) {
            return Some((range.clone(), Some(family)));
        }
        let message = format!("`{key}` has the range of its family, and `[families]` has no `{family}`");
        let fault = Fault::new("manifest.no-family", message, at);
        let fault = fault
            .mend(format!("write `{family} = \"any\"` under `[families]`, or the versions that will do"));
        self.faults.push(fault);
        None
    }

    /// Every target that a need names is declared.
    pub(super) fn targets_are_declared(&mut self, needs: &[Need], targets: &[Target]) {
        for need in needs {
            for name in need.targets.iter().flatten() {
                let message =
                    format!("`{}` is for the target `{name}`, and none is declared so", need.package);
                self.target_is_declared(name, targets, message, need.span.clone());
            }
        }
    }

    /// A fault at `at` unless a target is declared.
    pub(super) fn target_is_declared(
        &mut self,
        name: &str,
        targets: &[Target],
        message: String,
        at: std::ops::Range<usize>,
    ) {
        let names = targets.iter().map(|target| target.name.as_str());
        if !names.clone().any(|declared| declared == name) {
            self.faults.push(with_nearest(Fault::new("manifest.unknown-target", message, at), name, names));
        }
    }

    pub(super) fn range(&mut self, item: &Item, key: &str) -> Option<Range> {
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

    pub(super) fn registries_are_declared(&mut self, needs: &[Need], registries: &[RegistryDeclaration]) {
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
}
