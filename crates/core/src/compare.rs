//! The difference of two locks, in the terms that a reviewer uses.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

use schemars::JsonSchema;
use serde::Serialize;

use crate::charter::{Charter, LockedCharter};
use crate::lock::{Lock, LockedPackage};
use crate::name::PackageName;
use crate::range::Range;

/// What became of one package.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// It is new.
    Added,
    /// It is there no more.
    Gone,
    /// A newer release took the old one's place.
    Raised,
    /// An older release took the newer one's place.
    Lowered,
    /// The same version: from elsewhere, with other contents, taken for or without something else.
    Changed,
}

/// What of a package differs beside its version.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Aspect {
    /// Where it comes from, or whether that stands in for it.
    Source,
    /// Its licence.
    License,
    /// Its archives, at the same version.
    Contents,
    /// The components that are taken.
    Components,
    /// What it wants done by hand.
    Steps,
    /// What it exposes to builds.
    Exposes,
    /// What it needs here.
    Needs,
    /// What else its card says, at the same version.
    Card,
}

/// One package that differs between two locks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change<'a> {
    /// What became of it.
    pub kind: Kind,
    /// The package before, unless it is new.
    pub old: Option<&'a LockedPackage>,
    /// The package after, unless it is gone.
    pub new: Option<&'a LockedPackage>,
}

impl<'a> Change<'a> {
    /// The package as it is now or, where it is gone, as it was.
    pub fn package(&self) -> &'a LockedPackage {
        // Every change has a side: `between` makes no other.
        self.new.or(self.old).unwrap_or_else(|| unreachable!("a change has a side"))
    }

    /// What differs beside the version, where the package is on both sides.
    pub fn aspects(&self) -> Vec<Aspect> {
        let (Some(old), Some(new)) = (self.old, self.new) else { return Vec::new() };
        let differs = [
            (Aspect::Source, old.source != new.source || old.stood_in != new.stood_in),
            (Aspect::License, old.license != new.license),
            (Aspect::Contents, old.version == new.version && old.files != new.files),
            (Aspect::Components, old.components != new.components),
            (Aspect::Steps, old.steps != new.steps),
            (Aspect::Exposes, old.exposes != new.exposes),
            (Aspect::Needs, old.version == new.version && old.needs != new.needs),
            (Aspect::Card, old.version == new.version && old.card != new.card && old.files == new.files),
        ];
        differs.into_iter().filter(|(_, differs)| *differs).map(|(aspect, _)| aspect).collect()
    }

    fn between(old: Option<&'a LockedPackage>, new: Option<&'a LockedPackage>) -> Option<Self> {
        let kind = match (old, new) {
            (None, None) => return None,
            (None, Some(_)) => Kind::Added,
            (Some(_), None) => Kind::Gone,
            (Some(a), Some(b)) => match b.version.cmp(&a.version) {
                Ordering::Greater => Kind::Raised,
                Ordering::Less => Kind::Lowered,
                Ordering::Equal if is_same(a, b) => return None,
                Ordering::Equal => Kind::Changed,
            },
        };
        Some(Self { kind, old, new })
    }
}

fn is_same(a: &LockedPackage, b: &LockedPackage) -> bool {
    a.source == b.source
        && a.stood_in == b.stood_in
        && a.card == b.card
        && a.license == b.license
        && a.files == b.files
        && a.needs == b.needs
        && a.provides == b.provides
        && a.left_out == b.left_out
        && a.components == b.components
        && a.steps == b.steps
        && a.exposes == b.exposes
}

/// A charter that differs between two locks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CharterChange<'a> {
    /// The charter before, unless it is new.
    pub old: Option<&'a LockedCharter>,
    /// The charter after, unless it is gone.
    pub new: Option<&'a LockedCharter>,
}

/// A range that a charter changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangedRange<'a> {
    /// The package or family.
    pub of: &'a str,
    /// The range before; none where it is new.
    pub old: Option<&'a Range>,
    /// The range after; none where it is gone.
    pub new: Option<&'a Range>,
}

impl<'a> CharterChange<'a> {
    /// The charter as it is now or, where it is gone, as it was.
    pub fn charter(&self) -> &'a LockedCharter {
        // Every change has a side: `compare_charters` makes no other.
        self.new.or(self.old).unwrap_or_else(|| unreachable!("a change has a side"))
    }

    /// The ranges that differ, where the charter is on both sides.
    pub fn ranges(&self) -> Vec<ChangedRange<'a>> {
        let (Some(old), Some(new)) = (self.old, self.new) else { return Vec::new() };
        let [before, after] = [old, new].map(|charter| all_ranges(&charter.charter));
        let names: BTreeSet<&str> = before.keys().chain(after.keys()).copied().collect();
        let range = |of| ChangedRange { of, old: before.get(of).copied(), new: after.get(of).copied() };
        names.into_iter().map(range).filter(|range| range.old != range.new).collect()
    }

    /// Whether its rules or its choice of providers differ, where it is on both sides.
    pub fn has_other_rules(&self) -> bool {
        let (Some(old), Some(new)) = (self.old, self.new) else { return false };
        let said = |charter: &'a LockedCharter| (&charter.charter.rules, &charter.charter.capabilities);
        said(old) != said(new)
    }
}

/// The ranges of packages and families that a charter has.
fn all_ranges(charter: &Charter) -> BTreeMap<&str, &Range> {
    let families = charter.families.iter().map(|(name, range)| (name.as_str(), range));
    families.chain(charter.ranges.iter().map(|(name, range)| (name.as_str(), range))).collect()
}

/// The charters that differ from `old` to `new`, sorted by name; without an old lock all are new.
pub fn compare_charters<'a>(old: Option<&'a Lock>, new: &'a Lock) -> Vec<CharterChange<'a>> {
    let before = old.map_or(&[][..], |lock| &lock.charters);
    let names: BTreeSet<&PackageName> =
        before.iter().chain(&new.charters).map(|charter| &charter.name).collect();
    let change = |name: &PackageName| CharterChange {
        old: before.iter().find(|charter| charter.name == *name),
        new: new.charter(name),
    };
    names.into_iter().map(change).filter(|change| change.old != change.new).collect()
}

/// What differs from `old` to `new`, sorted by name; without an old lock everything is new.
pub fn compare<'a>(old: Option<&'a Lock>, new: &'a Lock) -> Vec<Change<'a>> {
    compare_packages(old.map_or(&[], |lock| &lock.packages), &new.packages)
}

/// The same of packages that are sorted by name.
pub fn compare_packages<'a>(old: &'a [LockedPackage], new: &'a [LockedPackage]) -> Vec<Change<'a>> {
    let mut before = old.iter().peekable();
    let mut after = new.iter().peekable();
    let mut changes = Vec::new();
    loop {
        let order = match (before.peek(), after.peek()) {
            (None, None) => return changes,
            (Some(_), None) => Ordering::Less,
            (None, Some(_)) => Ordering::Greater,
            (Some(a), Some(b)) => a.name.cmp(&b.name),
        };
        let a = if order.is_le() { before.next() } else { None };
        let b = if order.is_ge() { after.next() } else { None };
        changes.extend(Change::between(a, b));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::samples::{test_lock, test_source};

    #[test]
    fn tells_added_gone_raised_lowered_and_changed() {
        let old = test_lock(&[("a", "1.0"), ("b", "1.0"), ("c", "2.0"), ("d", "1.0"), ("e", "1.0")]);
        let mut new = test_lock(&[("b", "1.1"), ("c", "1.9"), ("d", "1.0"), ("e", "1.0"), ("f", "1.0")]);
        new.packages[2].source = test_source("elsewhere");
        let found: Vec<(Kind, &str)> =
            compare(Some(&old), &new).iter().map(|c| (c.kind.clone(), c.package().name.as_str())).collect();
        let expected = [
            (Kind::Gone, "a"),
            (Kind::Raised, "b"),
            (Kind::Lowered, "c"),
            (Kind::Changed, "d"),
            (Kind::Added, "f"),
        ];
        assert_eq!(found, expected);
        assert_eq!(compare(None, &old).len(), 5);
        assert!(compare(Some(&old), &old).is_empty());
    }

    #[test]
    fn what_a_card_says_differently_at_the_same_version_is_a_change() {
        let old = test_lock(&[("a", "1.0")]);
        let with = |change: &dyn Fn(&mut LockedPackage)| {
            let mut new = old.clone();
            change(&mut new.packages[0]);
            let changes = compare(Some(&old), &new);
            (changes.len(), changes.first().map(Change::aspects).unwrap_or_default())
        };
        let other = || Some(crate::digest::Digest::of(b"other"));
        assert_eq!(with(&|package| package.license = "MIT-0".parse().ok()), (1, vec![Aspect::License]));
        assert_eq!(with(&|package| package.card = other()), (1, vec![Aspect::Card]));
        assert_eq!(with(&|package| package.needs = vec!["b".parse().unwrap()]), (1, vec![Aspect::Needs]));
        let exposing = |package: &mut LockedPackage| {
            package.exposes = serde_json::from_str(r#"{"include":["include"]}"#).unwrap();
        };
        assert_eq!(with(&exposing), (1, vec![Aspect::Exposes]));
    }
}
