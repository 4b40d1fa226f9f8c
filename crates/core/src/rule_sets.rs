//! Sets of rules: one value for each rule, for all packages, for a purpose, or for packages of a name. A workspace has such sets, and
//! charters publish them; [`crate::rules`] holds releases against them.

mod age;
mod license_rules;
mod source_pattern;

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

pub use self::age::{Age, day_of};
pub use self::license_rules::{LicenseList, LicenseRules, LicenseVerdict, NO_LICENSE};
pub use self::source_pattern::SourcePattern;
use crate::name::{FacetName, NamePattern, PackageName, Purpose};
use crate::range::Range;
use crate::severity::Severity;

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

/// What becomes of releases that say nothing, facet by facet.
#[derive(Debug, Clone, PartialEq, Eq, Default, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UndeclaredRules {
    /// Of facets that have no rule of their own; `None` where that isn't said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub others: Option<Stance>,
    /// Of single facets.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facets: BTreeMap<FacetName, Stance>,
}

impl UndeclaredRules {
    /// The rule for a facet, where there is one.
    fn of(&self, facet: &FacetName) -> Option<Stance> {
        self.facets.get(facet).copied().or(self.others)
    }
}

/// Releases that must not be used.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Barred {
    /// Their versions.
    pub range: Range,
    /// Why.
    pub reason: String,
}

/// From which severity on advisories count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AdvisoryLevels {
    /// From this on, affected releases aren't allowed; `None` for never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refuse: Option<Severity>,
    /// From this on, they are allowed with a warning; `None` where that isn't said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub warn: Option<Severity>,
}

/// Values of rules; `None` where a rule isn't mentioned.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct RuleSet {
    /// Which licences are allowed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub licenses: Option<LicenseRules>,
    /// Which releases are barred.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub barred: Option<BTreeMap<PackageName, Vec<Barred>>>,
    /// How old a release has to be before it is chosen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub min_age: Option<Age>,
    /// How old the newest release of a package may be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub max_age: Option<Age>,
    /// Where packages may come from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sources: Option<Vec<SourcePattern>>,
    /// What becomes of withdrawn releases.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub withdrawn: Option<Stance>,
    /// What becomes of deprecated releases.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub deprecated: Option<Stance>,
    /// What becomes of releases that don't declare a facet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub undeclared: Option<UndeclaredRules>,
    /// What becomes of packages from the tip of a branch.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub moving: Option<Stance>,
    /// What becomes of stand-ins.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stand_ins: Option<Stance>,
    /// What becomes of releases that advisories affect.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub advisories: Option<AdvisoryLevels>,
    /// Whether a release that fixes what an advisory is about may be younger than it has to be.
    #[serde(rename = "min-age-waived-for-advisories", default, skip_serializing_if = "Option::is_none")]
    pub min_age_waived: Option<bool>,
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

    /// Without what decides of no release whether it is a candidate.
    fn deciding(&self) -> Self {
        let advisories = self.advisories.map(|levels| AdvisoryLevels { warn: None, ..levels });
        Self { max_age: None, withdrawn: None, advisories, ..self.clone() }
    }
}

/// Sets of rules, of which the more specific one wins, rule by rule.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RuleSets {
    /// What holds where nothing more specific does.
    #[serde(default, skip_serializing_if = "is_silent")]
    pub general: RuleSet,
    /// What holds for packages that are needed for a purpose only.
    #[serde(rename = "for", default, skip_serializing_if = "BTreeMap::is_empty")]
    pub purposes: BTreeMap<Purpose, RuleSet>,
    /// What holds for packages of a name, the least specific pattern first.
    #[serde(default, skip_serializing_if = "Vec::is_empty", deserialize_with = "by_specificity")]
    pub packages: Vec<(NamePattern, RuleSet)>,
}

impl RuleSets {
    /// The sets that apply to packages of names, the least specific pattern first: a longer pattern is more specific, a name more
    /// than any pattern.
    pub fn sorted(mut packages: Vec<(NamePattern, RuleSet)>) -> Vec<(NamePattern, RuleSet)> {
        packages.sort_by_key(|(pattern, _)| (!pattern.as_str().ends_with('*'), pattern.as_str().len()));
        packages
    }

    /// Whether they mention no rule.
    pub fn is_silent(&self) -> bool {
        *self == Self::default()
    }

    /// The rules for a package in a scope.
    pub fn for_package<'r>(&'r self, scope: Option<&Purpose>, package: &PackageName) -> Effective<'r> {
        let patterns = self.packages.iter().rev().filter(|(pattern, _)| pattern.matches(package));
        let of_purpose = scope.and_then(|scope| self.purposes.get(scope));
        let specific = patterns.map(|(_, set)| set).chain(of_purpose).collect();
        Effective { specific, general: &self.general }
    }

    /// Whether any rule asks how old releases are.
    pub(crate) fn has_min_age(&self) -> bool {
        self.sets().any(|set| set.min_age.is_some())
    }

    /// Whether any rule can exclude a release.
    pub(crate) fn can_refuse(&self) -> bool {
        self.sets().any(RuleSet::can_refuse)
    }

    /// Without what decides of no release whether it is a candidate.
    pub(crate) fn deciding(&self) -> Self {
        Self {
            general: self.general.deciding(),
            purposes: self.purposes.iter().map(|(name, set)| (name.clone(), set.deciding())).collect(),
            packages: self.packages.iter().map(|(name, set)| (name.clone(), set.deciding())).collect(),
        }
    }

    fn sets(&self) -> impl Iterator<Item = &RuleSet> {
        let specific = self.purposes.values().chain(self.packages.iter().map(|(_, set)| set));
        specific.chain([&self.general])
    }
}

fn is_silent(set: &RuleSet) -> bool {
    *set == RuleSet::default()
}

fn by_specificity<'de, D: Deserializer<'de>>(
    deserializer: D,
) -> Result<Vec<(NamePattern, RuleSet)>, D::Error> {
    Ok(RuleSets::sorted(Vec::deserialize(deserializer)?))
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

    /// What becomes of a release that doesn't declare a facet; `None` where that isn't said.
    pub(crate) fn undeclared(&self, facet: &FacetName) -> Option<Stance> {
        self.get(|set| set.undeclared.as_ref()).and_then(|rules| rules.of(facet))
    }
}
