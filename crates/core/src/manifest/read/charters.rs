//! Reads `[charters]`, which a workspace takes on, and `[charter]`, which a project publishes.

use toml_edit::{Item, Key};

use super::Reader;
use super::fixes::{add_any_range, add_key};
use super::rules::{self, SET_KEYS};
use super::values::{key_span, span};
use crate::charter::{Charter, DeclaredCharter, Exception};
use crate::fault::Fault;
use crate::manifest::Need;
use crate::name::PackageName;

/// The keys of a charter that a workspace takes on.
pub(super) const DECLARED_KEYS: [&str; 3] = ["range", "prereleases", "except"];
/// The keys of an exception from a charter's ranges.
pub(super) const EXCEPTION_KEYS: [&str; 2] = ["package", "reason"];
/// The keys of `[charter]`.
pub(super) const CHARTER_KEYS: [&str; 4] = ["ranges", "families", "capabilities", "rules"];

impl Reader<'_> {
    /// One line of `[charters]`.
    pub(super) fn declared_charter(&mut self, key: &Key, item: &Item) -> Option<DeclaredCharter> {
        let name: Option<PackageName> = self.name(key);
        let span = key_span(key);
        let Some(table) = item.as_table_like() else {
            let range = self.range(item, key.get())?;
            return Some(DeclaredCharter {
                name: name?,
                range,
                prereleases: false,
                except: Vec::new(),
                span,
            });
        };
        self.only_known(table, "a charter", &DECLARED_KEYS);
        let except = self.each_table(
            table,
            "except",
            "`except = [{ package = \"…\", reason = \"…\" }]`",
            |reader, table, at| {
                reader.only_known(table, "an exception", &EXCEPTION_KEYS);
                let Some(package) = table.get("package") else {
                    let fix = add_key("package", at.clone());
                    let fault = Fault::new("manifest.exception", "the exception names no package", at);
                    reader.faults.push(fault.advice("add `package = \"…\"`").offering([fix]));
                    return None;
                };
                let package = reader.parse(package, "package");
                let reason = reader.reason(table, at.clone(), "why the package is excepted");
                Some(Exception { package: package?, reason: reason?, span: at })
            },
        );
        let prereleases = table.get("prereleases").is_some_and(|item| self.flag(item, "prereleases"));
        let Some(range) = table.get("range") else {
            let message = format!("`{}` has no `range`", key.get());
            let fault = Fault::new("manifest.no-range", message, self::span(item));
            let fault = fault.advice("write `range = \"any\"`, or a range such as \"2026.2\"");
            self.faults.push(fault.offering([add_any_range(item)]));
            return None;
        };
        let range = self.range(range, "range")?;
        Some(DeclaredCharter { name: name?, range, prereleases, except, span })
    }

    /// The `[charter]` part.
    pub(super) fn charter(&mut self, item: &Item) -> Option<Charter> {
        let table = self.table(item, "charter")?;
        self.only_known(table, "`[charter]`", &CHARTER_KEYS);
        let ranges = self.each(table, "ranges", |reader, key, item| {
            Some((reader.name(key)?, reader.range(item, key.get())?))
        });
        let families = self.each(table, "families", |reader, key, item| {
            Some((reader.name(key)?, reader.range(item, key.get())?))
        });
        let capabilities = self.each(table, "capabilities", |reader, key, item| {
            Some((reader.name(key)?, reader.parse(item, key.get())?))
        });
        let stated = table.get("rules").and_then(|item| self.table(item, "rules"));
        let rules = stated.map(|stated| {
            self.only_known(stated, "`[charter.rules]`", &[&SET_KEYS[..], &rules::CHARTER_KEYS].concat());
            self.rule_sets(stated, &[])
        });
        let charter = Charter {
            ranges: ranges.into_iter().collect(),
            families: families.into_iter().collect(),
            capabilities: capabilities.into_iter().collect(),
            rules: rules.unwrap_or_default(),
        };
        if charter.is_empty() && self.faults.is_empty() {
            let fault = Fault::new("manifest.empty-charter", "the charter states nothing", span(item));
            self.faults.push(
                fault.advice("write ranges under `[charter.ranges]`, or rules under `[charter.rules]`"),
            );
        }
        Some(charter)
    }

    /// What publishes a charter brings no packages, so it needs none.
    pub(super) fn charter_needs_nothing(&mut self, needs: &[Need]) {
        for need in needs.iter().filter(|need| need.purpose.is_none()) {
            let message = format!("a charter brings no packages, so it can't need {}", need.package);
            let fault = Fault::new("manifest.charter-needs", message, need.span.clone());
            self.faults.push(fault.advice(
                "write its range under `[charter.ranges]`; to try the charter, need packages under `[needs-for.test]`",
            ));
        }
    }

    /// Every word `charter` stands for a range that a charter of the workspace may have.
    pub(super) fn charters_are_declared(&mut self, needs: &[Need], has_charters: bool) {
        for need in needs.iter().filter(|need| need.is_chartered && !has_charters) {
            let message =
                format!("`{}` uses a charter's range, but the manifest takes on no charter", need.package);
            let fault = Fault::new("manifest.no-charter", message, need.span.clone());
            self.faults.push(
                fault.advice("write `\"NAME\" = \"RANGE\"` under `[charters]` of the workspace's root"),
            );
        }
    }
}
