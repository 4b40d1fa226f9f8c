//! Waivers: exceptions from a rule, with a reason and an end.

use std::ops;

use jiff::Timestamp;
use jiff::civil::Date;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Breach, Reason, Rule, day_of};
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// An exception from a rule.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Waiver {
    /// The rule.
    pub rule: Rule,
    /// The package.
    pub package: PackageName,
    /// Its versions; `None` for all.
    pub range: Option<Range>,
    /// The advisory, by any of its names; only with that rule.
    pub advisory: Option<String>,
    /// Whether the advisory's subject affects the product.
    #[serde(skip)]
    pub status: Option<VexStatus>,
    /// Why it doesn't.
    #[serde(skip)]
    pub justification: Option<Justification>,
    /// Why it is excepted.
    #[serde(skip)]
    pub reason: String,
    /// The last day on which it is excepted, in UTC.
    pub until: Date,
    /// Where it is written in the manifest.
    #[serde(skip)]
    pub span: ops::Range<usize>,
}

impl Waiver {
    /// Whether it has ended.
    pub fn is_over(&self, now: Timestamp) -> bool {
        day_of(now) > self.until
    }

    /// Whether it speaks of a breach by a release.
    pub fn covers(&self, breach: &Breach, package: &PackageName, version: &Version) -> bool {
        let is_of_advisory = |name: &String| match &breach.reason {
            Reason::Advisory(advisory) => advisory.names.contains(name),
            _ => false,
        };
        self.speaks_of(breach.rule, package, version) && self.advisory.as_ref().is_none_or(is_of_advisory)
    }

    /// Whether it speaks of a rule and a release, of whichever advisory.
    pub fn speaks_of(&self, rule: Rule, package: &PackageName, version: &Version) -> bool {
        self.rule == rule
            && self.package == *package
            && self.range.as_ref().is_none_or(|range| range.includes(version))
    }
}

/// Whether a product is affected by what an advisory is about, in the words of VEX (OpenVEX 0.2.0, "Status Labels").
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum VexStatus {
    /// It isn't; a justification says why.
    NotAffected,
    /// It is, and this is accepted until the waiver ends.
    Affected,
    /// Nobody knows yet.
    UnderInvestigation,
}

impl VexStatus {
    /// All of them with their words.
    pub const WORDS: [(&str, Self); 3] = [
        ("not_affected", Self::NotAffected),
        ("affected", Self::Affected),
        ("under_investigation", Self::UnderInvestigation),
    ];
}

/// Why a product isn't affected (OpenVEX 0.2.0, "Status Justifications").
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Justification {
    /// The affected component isn't in the product.
    ComponentNotPresent,
    /// The component is, but not the affected code.
    VulnerableCodeNotPresent,
    /// The affected code is never run.
    VulnerableCodeNotInExecutePath,
    /// Nobody from outside can reach it with data of their own.
    VulnerableCodeCannotBeControlledByAdversary,
    /// Something in the product prevents the damage.
    InlineMitigationsAlreadyExist,
}

impl Justification {
    /// All of them with their words.
    pub const WORDS: [(&str, Self); 5] = [
        ("component_not_present", Self::ComponentNotPresent),
        ("vulnerable_code_not_present", Self::VulnerableCodeNotPresent),
        ("vulnerable_code_not_in_execute_path", Self::VulnerableCodeNotInExecutePath),
        (
            "vulnerable_code_cannot_be_controlled_by_adversary",
            Self::VulnerableCodeCannotBeControlledByAdversary,
        ),
        ("inline_mitigations_already_exist", Self::InlineMitigationsAlreadyExist),
    ];
}
