//! The rules of a workspace: which licences, sources, ages and releases a team allows, and what is excepted until when.
//!
//! [`Rules`] is what the manifest's `[rules]` says. A [`RuleSet`] has one value for each rule: `[rules]` itself, `[rules.for.PURPOSE]`
//! and `[rules.packages.PATTERN]` are such sets, and the more specific one wins, rule by rule. [`Rules::breaches`] holds one release
//! against them; the resolver and `check` both ask it, so that they can't disagree. A [`Waiver`] excepts a package from a rule for a
//! while. Nothing here knows the time: it is passed in.

mod age;
mod breach;
mod license_rules;
mod sentence;
mod source_pattern;
#[cfg(test)]
mod tests;
mod waiver;

use std::collections::BTreeMap;
use std::ops;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use self::age::{Age, day_of};
pub use self::breach::{Breach, KnownAdvisory, Reason, Subject};
pub use self::license_rules::{LicenseList, LicenseRules, LicenseVerdict, NO_LICENSE};
pub use self::sentence::{rules_of, whole_sentence};
pub use self::source_pattern::SourcePattern;
pub use self::waiver::{Justification, VexStatus, Waiver};
use crate::advisory::Severity;
use crate::license::License;
use crate::name::{FacetName, NamePattern, PackageName, Purpose};
use crate::range::Range;

/// What the rules say of something that they mention.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum Stance {
    /// Nothing is said about it.
    Accept,
    /// It is allowed, with a warning.
    #[default]
    Warn,
    /// It isn't allowed.
    Refuse,
}

impl Stance {
    /// All of them with their words.
    pub const WORDS: [(&str, Self); 3] =
        [("accept", Self::Accept), ("warn", Self::Warn), ("refuse", Self::Refuse)];
}

/// A rule, by the key that it has in a manifest.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Rule {
    /// Which licences are allowed.
    Licenses,
    /// Which releases are barred by name.
    Barred,
    /// How old a release has to be.
    MinAge,
    /// How old the newest release of a package may be.
    MaxAge,
    /// Where packages may come from.
    Sources,
    /// What becomes of withdrawn releases.
    Withdrawn,
    /// What becomes of deprecated releases.
    Deprecated,
    /// What becomes of releases that don't declare a facet.
    Undeclared,
    /// What becomes of packages from the tip of a branch.
    Moving,
    /// What becomes of stand-ins.
    StandIns,
    /// What becomes of releases that advisories affect.
    Advisories,
}

impl Rule {
    /// All of them with their keys.
    pub const WORDS: [(&str, Self); 11] = [
        ("licenses", Self::Licenses),
        ("barred", Self::Barred),
        ("min-age", Self::MinAge),
        ("max-age", Self::MaxAge),
        ("sources", Self::Sources),
        ("withdrawn", Self::Withdrawn),
        ("deprecated", Self::Deprecated),
        ("undeclared", Self::Undeclared),
        ("moving", Self::Moving),
        ("stand-ins", Self::StandIns),
        ("advisories", Self::Advisories),
    ];

    /// Its key in a manifest.
    pub fn as_str(self) -> &'static str {
        Self::WORDS.iter().find(|(_, rule)| *rule == self).map_or("", |(word, _)| word)
    }
}

/// What becomes of releases that say nothing, facet by facet.
#[derive(Debug, Clone, PartialEq, Eq, Default, JsonSchema, Serialize)]
pub struct UndeclaredRules {
    /// Of facets that have no rule of their own.
    pub others: Stance,
    /// Of single facets.
    pub facets: BTreeMap<FacetName, Stance>,
}

impl UndeclaredRules {
    /// The rule for a facet.
    pub fn of(&self, facet: &FacetName) -> Stance {
        self.facets.get(facet).copied().unwrap_or(self.others)
    }
}

/// Releases that must not be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Barred {
    /// Their versions.
    pub range: Range,
    /// Why.
    pub reason: String,
}

/// A licence that a person accepted for the team.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AcceptedLicense {
    /// The licence, as the package declares it; `None` where it declares none.
    pub license: Option<License>,
    /// The versions for which it was accepted.
    pub range: Range,
    /// Where it is said.
    pub span: ops::Range<usize>,
}

/// Values of rules; `None` where a rule isn't mentioned.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct RuleSet {
    /// Which licences are allowed.
    pub licenses: Option<LicenseRules>,
    /// Which releases are barred.
    pub barred: Option<BTreeMap<PackageName, Vec<Barred>>>,
    /// How old a release has to be before it is chosen.
    pub min_age: Option<Age>,
    /// How old the newest release of a package may be.
    #[serde(skip)]
    pub max_age: Option<Age>,
    /// Where packages may come from.
    pub sources: Option<Vec<SourcePattern>>,
    /// What becomes of withdrawn releases.
    #[serde(skip)]
    pub withdrawn: Option<Stance>,
    /// What becomes of deprecated releases.
    pub deprecated: Option<Stance>,
    /// What becomes of releases that don't declare a facet.
    pub undeclared: Option<UndeclaredRules>,
    /// What becomes of packages from the tip of a branch.
    pub moving: Option<Stance>,
    /// What becomes of stand-ins.
    pub stand_ins: Option<Stance>,
    /// What becomes of releases that advisories affect.
    pub advisories: Option<AdvisoryLevels>,
    /// Whether a release that fixes what an advisory is about may be younger than it has to be.
    pub min_age_waived: Option<bool>,
}

/// From which severity on advisories count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct AdvisoryLevels {
    /// From this on, affected releases aren't allowed; `None` for never.
    pub refuse: Option<Severity>,
    /// From this on, they are allowed with a warning; `None` for low.
    #[serde(skip)]
    pub warn: Option<Severity>,
}

impl AdvisoryLevels {
    /// What is said of an advisory.
    pub fn stance(&self, severity: Severity) -> Stance {
        if self.refuse.is_some_and(|refuse| severity >= refuse) {
            Stance::Refuse
        } else if severity >= self.warn.unwrap_or(Severity::Low) {
            Stance::Warn
        } else {
            Stance::Accept
        }
    }
}

/// A place that advisories come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Feed {
    /// A folder, an archive or a file: a path from the root's folder, or a URL.
    pub place: String,
    /// Where it is written.
    #[serde(skip)]
    pub span: ops::Range<usize>,
}

/// Where advisories come from, for the whole workspace.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Feeds {
    /// The places.
    pub places: Vec<Feed>,
    /// How long ago a feed may have been fetched.
    #[serde(skip)]
    pub max_age: Option<Age>,
    /// Whether sealed installs refuse what advisories affect, and not `check` alone.
    #[serde(skip)]
    pub are_sealed: bool,
}

/// What a workspace allows.
///
/// It is serialised for the digest of what a lock is made from, with all that decides which releases are candidates and nothing else.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Rules {
    /// What holds where nothing more specific does.
    pub general: RuleSet,
    /// What holds for packages that are needed for a purpose only.
    pub purposes: BTreeMap<Purpose, RuleSet>,
    /// What holds for packages of a name, the least specific pattern first.
    pub packages: Vec<(NamePattern, RuleSet)>,
    /// Licences that people accepted.
    #[serde(skip)]
    pub accepted: BTreeMap<PackageName, Vec<AcceptedLicense>>,
    /// What is excepted for a while.
    pub waivers: Vec<Waiver>,
    /// Where advisories come from.
    pub feeds: Feeds,
}

impl Rules {
    /// The purposes that have rules of their own, `None` for all others together; empty where all have the same.
    pub fn scopes(&self) -> Vec<Option<&Purpose>> {
        if self.purposes.is_empty() {
            return Vec::new();
        }
        [None].into_iter().chain(self.purposes.keys().map(Some)).collect()
    }

    /// The rules that a purpose falls under.
    pub fn scope_of<'p>(&self, purpose: Option<&'p Purpose>) -> Option<&'p Purpose> {
        purpose.filter(|purpose| self.purposes.contains_key(*purpose))
    }

    /// The rules for a package in a scope.
    pub fn for_package<'r>(&'r self, scope: Option<&Purpose>, package: &PackageName) -> Effective<'r> {
        let patterns = self.packages.iter().rev().filter(|(pattern, _)| pattern.matches(package));
        let of_purpose = scope.and_then(|scope| self.purposes.get(scope));
        let specific = patterns.map(|(_, set)| set).chain(of_purpose).collect();
        Effective { specific, general: &self.general }
    }

    /// Whether any rule asks how old releases are.
    pub fn has_min_age(&self) -> bool {
        let sets = self.purposes.values().chain(self.packages.iter().map(|(_, set)| set));
        sets.chain([&self.general]).any(|set| set.min_age.is_some())
    }

    /// Whether any rule can exclude a release; most workspaces have none that does.
    pub fn can_refuse(&self) -> bool {
        let sets = self.purposes.values().chain(self.packages.iter().map(|(_, set)| set));
        sets.chain([&self.general]).any(RuleSet::can_refuse)
    }
}

impl RuleSet {
    fn can_refuse(&self) -> bool {
        let refuses = |stance: Option<Stance>| stance == Some(Stance::Refuse);
        self.licenses.is_some()
            || self.barred.is_some()
            || self.min_age.is_some()
            || self.sources.is_some()
            || refuses(self.deprecated)
            || refuses(self.moving)
            || refuses(self.stand_ins)
            || self.advisories.is_some_and(|levels| levels.refuse.is_some())
    }
}

/// The rules for one package: of each the most specific value.
#[derive(Debug, Clone)]
pub struct Effective<'r> {
    /// The most specific set first.
    specific: Vec<&'r RuleSet>,
    general: &'r RuleSet,
}

impl<'r> Effective<'r> {
    /// The value of a rule; `None` where no set mentions it.
    pub fn get<T>(&self, of: impl Fn(&'r RuleSet) -> Option<&'r T>) -> Option<&'r T> {
        self.specific.iter().copied().chain([self.general]).find_map(of)
    }

    /// What is said of something that is accepted, warned of or refused.
    pub fn stance(&self, of: impl Fn(&'r RuleSet) -> Option<&'r Stance>) -> Stance {
        self.get(of).copied().unwrap_or_default()
    }

    /// What becomes of a release that doesn't declare a facet.
    pub fn undeclared(&self, facet: &FacetName) -> Stance {
        self.get(|set| set.undeclared.as_ref()).map_or_else(Stance::default, |rules| rules.of(facet))
    }
}
