//! The rules of a workspace: which licences, sources, ages and releases a team allows, and what is excepted until when.
//!
//! [`Rules`] is what the manifest's `[rules]` says. A [`RuleSet`] has one value for each rule: `[rules]` itself, `[rules.for.PURPOSE]`
//! and `[rules.packages.PATTERN]` are such sets, and the more specific one wins, rule by rule. The rules of charters come beside
//! these, and can only make them stricter. [`Rules::breaches`] holds one release against them; the resolver and `check` both ask it,
//! so that they can't disagree. A [`Waiver`] excepts a package from a rule for a while. Nothing here knows the time: it is passed in.

mod breach;
mod sentence;
#[cfg(test)]
mod tests;
mod waiver;

use std::collections::{BTreeMap, BTreeSet};
use std::ops;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use self::breach::{Breach, KnownAdvisory, Reason, Subject};
pub use self::sentence::{rules_of, whole_sentence};
pub use self::waiver::{Justification, VexStatus, Waiver};
use crate::charter::CharterRelease;
use crate::license::License;
use crate::name::{FacetName, PackageName, Purpose};
use crate::range::Range;
pub use crate::rule_sets::{
    AdvisoryLevels, Age, Barred, Effective, LicenseList, LicenseRules, LicenseVerdict, NO_LICENSE, RuleSet,
    RuleSets, SourcePattern, Stance, UndeclaredRules, day_of,
};

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
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Rules {
    /// Its own rules.
    pub own: RuleSets,
    /// Those of the charters that bind it; of two rules, the stricter one wins.
    pub charters: Vec<CharterRules>,
    /// Licences that people accepted.
    pub accepted: BTreeMap<PackageName, Vec<AcceptedLicense>>,
    /// What is excepted for a while.
    pub waivers: Vec<Waiver>,
    /// Where advisories come from.
    pub feeds: Feeds,
}

/// The rules of a charter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CharterRules {
    /// The charter.
    pub charter: CharterRelease,
    /// What it says.
    pub sets: RuleSets,
}

impl Rules {
    /// The purposes that have rules of their own, `None` for all others together; empty where all have the same.
    pub fn scopes(&self) -> Vec<Option<&Purpose>> {
        let purposes: BTreeSet<&Purpose> = self.all_sets().flat_map(|sets| sets.purposes.keys()).collect();
        if purposes.is_empty() {
            return Vec::new();
        }
        [None].into_iter().chain(purposes.into_iter().map(Some)).collect()
    }

    /// The rules that a purpose falls under.
    pub fn scope_of<'p>(&self, purpose: Option<&'p Purpose>) -> Option<&'p Purpose> {
        purpose.filter(|purpose| self.all_sets().any(|sets| sets.purposes.contains_key(*purpose)))
    }

    /// What becomes of a release that doesn't declare a facet, and the charter that says so where it isn't the workspace.
    pub fn undeclared(
        &self,
        scope: Option<&Purpose>,
        package: &PackageName,
        facet: &FacetName,
    ) -> (Stance, Option<&CharterRelease>) {
        self.strictest(|sets| sets.for_package(scope, package).undeclared(facet))
    }

    /// What becomes of a stand-in for a package.
    pub fn stand_in(&self, package: &PackageName) -> Stance {
        self.strictest(|sets| sets.for_package(None, package).get(|set| set.stand_ins.as_ref()).copied()).0
    }

    /// The strictest of what the workspace and its charters say, and the charter where it is one.
    fn strictest(&self, of: impl Fn(&RuleSets) -> Option<Stance>) -> (Stance, Option<&CharterRelease>) {
        let mut strictest = (of(&self.own).unwrap_or_default(), None);
        for rules in &self.charters {
            match of(&rules.sets) {
                Some(stance) if stance > strictest.0 => strictest = (stance, Some(&rules.charter)),
                _ => {}
            }
        }
        strictest
    }

    /// How old the newest release of a package may be at a time: the shortest age that any set has.
    pub fn max_age(&self, package: &PackageName, now: Timestamp) -> Option<&Age> {
        let ages = self
            .all_sets()
            .filter_map(|sets| sets.for_package(None, package).get(|set| set.max_age.as_ref()));
        ages.max_by_key(|age| age.before(now))
    }

    /// Whether any rule asks how old releases are.
    pub fn has_min_age(&self) -> bool {
        self.all_sets().any(RuleSets::has_min_age)
    }

    /// Whether any rule can exclude a release; most workspaces have none that does.
    pub fn can_refuse(&self) -> bool {
        self.all_sets().any(RuleSets::can_refuse)
    }

    /// What of the workspace's own rules decides which releases are candidates, for the digest of what a lock is made from.
    pub fn deciding(&self) -> impl Serialize {
        (self.own.deciding(), self.waivers.clone(), self.feeds.clone())
    }

    fn all_sets(&self) -> impl Iterator<Item = &RuleSets> {
        [&self.own].into_iter().chain(self.charters.iter().map(|rules| &rules.sets))
    }
}
