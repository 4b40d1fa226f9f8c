//! Reads `[rules]`.

use std::collections::BTreeMap;
use std::ops::Range as Span;

use jiff::civil::Date;
use toml_edit::{Item, Key, TableLike, Value};

use super::fixes::{add_key, remove_element, remove_key};
use super::values::{key_span, span};
use super::{Reader, user_in_url};
use crate::advisory::Severity;
use crate::fault::Fault;
use crate::license::License;
use crate::name::{NamePattern, PackageName, Purpose};
use crate::range::Range;
use crate::rules::{
    AcceptedLicense, AdvisoryLevels, Barred, Feed, Feeds, Justification, LicenseList, LicenseRules,
    LicenseVerdict, NO_LICENSE, Rule, RuleSet, RuleSets, Rules, SourcePattern, Stance, UndeclaredRules,
    VexStatus, Waiver,
};
use crate::source::names_user;

/// The keys of a set of rules.
pub(super) const SET_KEYS: [&str; 12] = [
    "licenses",
    "barred",
    "min-age",
    "min-age-waived-for-advisories",
    "max-age",
    "sources",
    "withdrawn",
    "deprecated",
    "undeclared",
    "moving",
    "stand-ins",
    "advisories",
];
/// The keys of a charter's rules beside those of a set: nothing that loosens them, and no places, which differ between workspaces.
pub(super) const CHARTER_KEYS: [&str; 2] = ["for", "packages"];
/// The keys of `[rules]` beside those of a set.
pub(super) const ROOT_KEYS: [&str; 4] = ["for", "packages", "accepted", "waivers"];
pub(super) const LICENSES_KEYS: [&str; 4] = ["accept", "ask", "refuse", "otherwise"];
pub(super) const BARRED_KEYS: [&str; 2] = ["range", "reason"];
pub(super) const ACCEPTED_KEYS: [&str; 2] = ["license", "range"];
pub(super) const WAIVER_KEYS: [&str; 8] =
    ["rule", "package", "range", "advisory", "status", "justification", "reason", "until"];
/// The keys of `advisories` in any set.
pub(super) const LEVEL_KEYS: [&str; 2] = ["refuse", "warn"];
/// Those that it has in `[rules]` beside them.
pub(super) const FEED_KEYS: [&str; 3] = ["feeds", "max-feed-age", "sealed"];

/// What sealed installs do about advisories: whether they refuse what is affected.
const SEALED_WORDS: [(&str, bool); 2] = [("accept", false), ("refuse", true)];

impl Reader<'_> {
    pub(super) fn rules(&mut self, table: &dyn TableLike) -> Rules {
        self.only_known(table, "`[rules]`", &[&SET_KEYS[..], &ROOT_KEYS].concat());
        let accepted = self.each(table, "accepted", Self::accepted_licenses);
        let feeds = table.get("advisories").and_then(|item| self.table(item, "advisories"));
        let feeds = feeds.map(|table| self.feeds(table)).unwrap_or_default();
        Rules {
            feeds,
            own: self.rule_sets(table, &FEED_KEYS),
            charters: Vec::new(),
            accepted: accepted.into_iter().collect(),
            waivers: self.waivers(table),
        }
    }

    /// The sets of rules of a table, whose `advisories` may have these keys beside the levels.
    pub(super) fn rule_sets(&mut self, table: &dyn TableLike, beside_levels: &[&str]) -> RuleSets {
        let purposes = self.each(table, "for", |reader, key, item| {
            let purpose: Purpose = reader.name(key)?;
            Some((purpose, reader.rule_set_of(key, item, "`[rules.for]`")?))
        });
        let packages = self.each(table, "packages", |reader, key, item| {
            Some((NamePattern::new(key.get()), reader.rule_set_of(key, item, "`[rules.packages]`")?))
        });
        RuleSets {
            general: self.rule_set(table, beside_levels),
            purposes: purposes.into_iter().collect(),
            packages: RuleSets::sorted(packages),
        }
    }

    fn rule_set_of(&mut self, key: &Key, item: &Item, what: &str) -> Option<RuleSet> {
        let table = self.table(item, key.get())?;
        self.only_known(table, what, &SET_KEYS);
        Some(self.rule_set(table, &[]))
    }

    /// The rules of a table, whose `advisories` may have these keys beside the levels.
    fn rule_set(&mut self, table: &dyn TableLike, beside_levels: &[&str]) -> RuleSet {
        RuleSet {
            licenses: table.get("licenses").and_then(|item| self.license_rules(item)),
            barred: table.contains_key("barred").then(|| self.barred(table)),
            min_age: self.parsed(table, "min-age"),
            max_age: self.parsed(table, "max-age"),
            sources: self.allowed_sources(table),
            withdrawn: self.stance(table, "withdrawn"),
            deprecated: self.stance(table, "deprecated"),
            undeclared: table.get("undeclared").map(|item| self.undeclared(item)),
            moving: self.stance(table, "moving"),
            stand_ins: self.stance(table, "stand-ins"),
            advisories: self.levels(table, beside_levels),
            min_age_waived: table
                .get("min-age-waived-for-advisories")
                .map(|item| self.flag(item, "min-age-waived-for-advisories")),
        }
    }

    fn stance(&mut self, table: &dyn TableLike, key: &str) -> Option<Stance> {
        self.stance_of(table.get(key)?, key)
    }

    fn stance_of(&mut self, item: &Item, key: &str) -> Option<Stance> {
        self.one_of(item, key, "manifest.rule", &format!("value of the rule `{key}`"), &Stance::WORDS)
    }

    fn undeclared(&mut self, item: &Item) -> UndeclaredRules {
        let Some(table) = item.as_table_like() else {
            let others = self.stance_of(item, "undeclared");
            return UndeclaredRules { others, ..UndeclaredRules::default() };
        };
        let facets = self.entries(table, |reader, key, item| {
            Some((reader.name(key)?, reader.stance_of(item, "undeclared")?))
        });
        UndeclaredRules { facets: facets.into_iter().collect(), ..UndeclaredRules::default() }
    }

    fn license_rules(&mut self, item: &Item) -> Option<LicenseRules> {
        let table = self.table(item, "licenses")?;
        self.only_known(table, "`licenses`", &LICENSES_KEYS);
        let [accept, ask, refuse] = ["accept", "ask", "refuse"].map(|key| self.license_list(table, key));
        let what = "verdict on licences";
        let otherwise = table
            .get("otherwise")
            .and_then(|item| self.one_of(item, "otherwise", "manifest.rule", what, &LicenseVerdict::WORDS));
        let rules = LicenseRules { accept, ask, refuse, otherwise: otherwise.unwrap_or_default() };
        if rules.refuse_all() {
            let fault = Fault::new("rules.refuses-all", "the rules refuse every licence", span(item));
            self.faults.push(fault.advice("list the licences that are allowed: `accept = [\"MIT\", …]`"));
        }
        let pairs = [
            ("accept", &rules.accept, "refuse", &rules.refuse),
            ("accept", &rules.accept, "ask", &rules.ask),
            ("ask", &rules.ask, "refuse", &rules.refuse),
        ];
        for (one, list, other, other_list) in pairs {
            if let Some(license) = list.shared_with(other_list) {
                let message = format!("`{license}` is in both `{one}` and `{other}`");
                let at = table.get(other).map_or_else(|| span(item), span);
                let fault = Fault::new("rules.contradiction", message, at).advice("keep it in one of them");
                let fixes = [one, other].into_iter().filter_map(|key| remove_element(table, key, license));
                self.faults.push(fault.offering(fixes));
            }
        }
        Some(rules)
    }

    fn license_list(&mut self, table: &dyn TableLike, key: &str) -> LicenseList {
        let mut list = LicenseList::default();
        let Some(item) = table.get(key) else { return list };
        let Some(array) = item.as_array() else {
            self.wrong_kind(item, key, "a list of licences, such as `[\"MIT\"]`");
            return list;
        };
        let items: Vec<Item> = array.iter().cloned().map(Item::Value).collect();
        for item in &items {
            if item.as_str() == Some(NO_LICENSE) {
                list.add(None);
            } else if let Some(license) = self.parse::<License>(item, key) {
                list.add(Some(&license));
            }
        }
        list
    }

    fn barred(&mut self, table: &dyn TableLike) -> BTreeMap<PackageName, Vec<Barred>> {
        let barred = self.each(table, "barred", |reader, key, item| {
            let package: PackageName = reader.name(key)?;
            let one = |reader: &mut Self, table: &dyn TableLike, at| {
                reader.only_known(table, "a barred package", &BARRED_KEYS);
                let range = table.get("range").and_then(|item| reader.range(item, "range"));
                let reason = reader.reason(table, at, "why it is barred")?;
                Some(Barred { range: range.unwrap_or_else(Range::any), reason })
            };
            Some((package, reader.one_or_several(key, item, one)))
        });
        barred.into_iter().collect()
    }

    fn accepted_licenses(&mut self, key: &Key, item: &Item) -> Option<(PackageName, Vec<AcceptedLicense>)> {
        let package: PackageName = self.name(key)?;
        let one = |reader: &mut Self, table: &dyn TableLike, at: Span<usize>| {
            reader.only_known(table, "an accepted licence", &ACCEPTED_KEYS);
            let range = table.get("range").and_then(|item| reader.range(item, "range"));
            if !table.contains_key("license") {
                let fault =
                    Fault::new("rules.no-license", "this doesn't say which licence was accepted", at.clone());
                let fault = fault.advice("write `license = \"…\"` as the package declares it");
                reader.faults.push(fault.offering([add_key("license", at.clone())]));
            }
            let license = match table.get("license")? {
                item if item.as_str() == Some(NO_LICENSE) => None,
                item => Some(reader.parse(item, "license")?),
            };
            Some(AcceptedLicense { license, range: range.unwrap_or_else(Range::any), span: at })
        };
        Some((package, self.one_or_several(key, item, one)))
    }

    /// A table, or a list of tables.
    fn one_or_several<T>(
        &mut self,
        key: &Key,
        item: &Item,
        mut read: impl FnMut(&mut Self, &dyn TableLike, Span<usize>) -> Option<T>,
    ) -> Vec<T> {
        if let Some(table) = item.as_table_like() {
            return read(self, table, key_span(key)).into_iter().collect();
        }
        let tables = tables_of(item);
        if tables.is_none() {
            self.wrong_kind(item, key.get(), "a table, or a list of tables");
        }
        tables.into_iter().flatten().filter_map(|(table, at)| read(self, table, at)).collect()
    }

    fn allowed_sources(&mut self, table: &dyn TableLike) -> Option<Vec<SourcePattern>> {
        let sources = self.texts(table, "sources")?;
        if sources.is_empty() {
            let at = table.get("sources").map_or(0..0, span);
            let fault = Fault::new("rules.refuses-all", "the rules allow no source at all", at);
            self.faults
                .push(fault.advice("list the registries that are allowed: `sources = [\"seedhouse\"]`"));
        }
        Some(sources.into_iter().map(SourcePattern::new).collect())
    }

    fn levels(&mut self, table: &dyn TableLike, beside: &[&str]) -> Option<AdvisoryLevels> {
        let table = self.table(table.get("advisories")?, "advisories")?;
        self.only_known(table, "`advisories`", &[&LEVEL_KEYS[..], beside].concat());
        let [refuse, warn] = LEVEL_KEYS.map(|key| self.severity(table, key));
        Some(AdvisoryLevels { refuse, warn })
    }

    fn severity(&mut self, table: &dyn TableLike, key: &str) -> Option<Severity> {
        self.one_of(table.get(key)?, key, "manifest.rule", "severity", &Severity::WORDS)
    }

    /// Where advisories come from.
    fn feeds(&mut self, table: &dyn TableLike) -> Feeds {
        let places = match table.get("feeds").map(|item| (item, item.as_array())) {
            None => Vec::new(),
            Some((item, None)) => {
                self.wrong_kind(item, "feeds", "a list of folders, files and URLs");
                Vec::new()
            }
            Some((_, Some(array))) => {
                let items: Vec<Item> = array.iter().cloned().map(Item::Value).collect();
                items.iter().filter_map(|item| self.feed(item)).collect()
            }
        };
        let what = "value of `sealed`";
        let sealed = table
            .get("sealed")
            .and_then(|item| self.one_of(item, "sealed", "manifest.rule", what, &SEALED_WORDS));
        Feeds { places, max_age: self.parsed(table, "max-feed-age"), are_sealed: sealed.unwrap_or_default() }
    }

    fn feed(&mut self, item: &Item) -> Option<Feed> {
        let place = self.text(item, "feeds")?;
        if names_user(&place) {
            self.faults.push(user_in_url(&place, span(item)));
        }
        Some(Feed { place, span: span(item) })
    }

    fn waivers(&mut self, table: &dyn TableLike) -> Vec<Waiver> {
        self.each_table(table, "waivers", "`[[rules.waivers]]`", Self::waiver)
    }

    /// What each table of a list says; `form` is how people write one.
    pub(super) fn each_table<T>(
        &mut self,
        table: &dyn TableLike,
        key: &str,
        form: &str,
        mut read: impl FnMut(&mut Self, &dyn TableLike, Span<usize>) -> Option<T>,
    ) -> Vec<T> {
        let Some(item) = table.get(key) else { return Vec::new() };
        let Some(tables) = tables_of(item) else {
            self.wrong_kind(item, key, &format!("a list of tables: {form}"));
            return Vec::new();
        };
        tables.into_iter().filter_map(|(table, at)| read(self, table, at)).collect()
    }

    fn waiver(&mut self, table: &dyn TableLike, at: Span<usize>) -> Option<Waiver> {
        self.only_known(table, "a waiver", &WAIVER_KEYS);
        let rule = self
            .needed(table, "rule", &at, "which rule it is about")
            .and_then(|item| self.one_of(item, "rule", "manifest.rule", "rule", &Rule::WORDS));
        let package = self.needed(table, "package", &at, "which package it is about");
        let package = package.and_then(|item| self.parse(item, "package"));
        let range = table.get("range").and_then(|item| self.range(item, "range"));
        let reason = self.reason(table, at.clone(), "why the package is excepted");
        let until = self.needed(table, "until", &at, "until when it holds").and_then(|item| self.date(item));
        let (advisory, status, justification) = self.vex(table, rule?, &at)?;
        Some(Waiver {
            rule: rule?,
            package: package?,
            range,
            advisory,
            status,
            justification,
            reason: reason?,
            until: until?,
            span: at,
        })
    }

    /// What a waiver says of an advisory, which only one of that rule does: each names its advisory and its status, and why a
    /// product isn't affected.
    fn vex(
        &mut self,
        table: &dyn TableLike,
        rule: Rule,
        at: &Span<usize>,
    ) -> Option<(Option<String>, Option<VexStatus>, Option<Justification>)> {
        if rule != Rule::Advisories {
            for key in
                ["advisory", "status", "justification"].into_iter().filter(|key| table.contains_key(key))
            {
                let message = format!("`{key}` is for waivers of the rule `advisories`");
                let fault = Fault::new("rules.waiver", message, at.clone()).advice("remove it");
                self.faults.push(fault.offering(remove_key(table, key)));
            }
            return Some((None, None, None));
        }
        let advisory = self.needed(table, "advisory", at, "which advisory it is about");
        let advisory = advisory.and_then(|item| self.text(item, "advisory"))?;
        let status = self.needed(table, "status", at, "whether the product is affected")?;
        let what = "status of a product";
        let status = self.one_of(status, "status", "manifest.rule", what, &VexStatus::WORDS)?;
        if status != VexStatus::NotAffected {
            return Some((Some(advisory), Some(status), None));
        }
        let justification = self.needed(table, "justification", at, "why the product isn't affected")?;
        let what = "justification";
        let justification =
            self.one_of(justification, "justification", "manifest.rule", what, &Justification::WORDS)?;
        Some((Some(advisory), Some(status), Some(justification)))
    }

    /// A key that a waiver can't do without.
    fn needed<'t>(
        &mut self,
        table: &'t dyn TableLike,
        key: &str,
        at: &Span<usize>,
        what: &str,
    ) -> Option<&'t Item> {
        let item = table.get(key);
        if item.is_none() {
            let fault = Fault::new("rules.waiver", format!("the waiver doesn't say {what}"), at.clone());
            let fault = fault.advice(format!("add `{key} = \"…\"`"));
            self.faults.push(fault.offering([add_key(key, at.clone())]));
        }
        item
    }

    /// The reason of something, which may not be empty.
    pub(super) fn reason(&mut self, table: &dyn TableLike, at: Span<usize>, what: &str) -> Option<String> {
        let reason = match table.get("reason") {
            Some(item) => self.text(item, "reason")?,
            None => String::new(),
        };
        if reason.trim().is_empty() {
            let written = table.get("reason").map(span);
            let fix = written.is_none().then(|| add_key("reason", at.clone()));
            let fault = Fault::new("rules.no-reason", format!("nothing says {what}"), written.unwrap_or(at))
                .advice("add `reason = \"…\"`, for whoever reads this in a year");
            self.faults.push(fault.offering(fix));
            return None;
        }
        Some(reason)
    }

    /// A day, as TOML writes it or as a text.
    fn date(&mut self, item: &Item) -> Option<Date> {
        let text = match item {
            Item::Value(Value::Datetime(date)) => date.value().to_string(),
            item => self.text(item, "until")?,
        };
        let date = text.parse().ok();
        if date.is_none() {
            let fault = Fault::new("rules.date", format!("`{text}` isn't a date"), span(item));
            self.faults.push(fault.advice("write year, month and day: `2027-01-31`"));
        }
        date
    }
}

/// The tables of a list with their places; `None` of anything else.
fn tables_of(item: &Item) -> Option<Vec<(&dyn TableLike, Span<usize>)>> {
    if let Some(tables) = item.as_array_of_tables() {
        let tables = tables.iter().map(|table| (table as &dyn TableLike, table.span().unwrap_or(0..0)));
        return Some(tables.collect());
    }
    let tables = item.as_array()?.iter().map(|value| {
        let table = value.as_inline_table()?;
        Some((table as &dyn TableLike, table.span().unwrap_or(0..0)))
    });
    tables.collect()
}
