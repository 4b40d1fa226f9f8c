//! What `check` prints.

use bibliotax_app::check::{DriftingNeed, Finding as Found, Level as FoundLevel, Report, Subject};
use bibliotax_core::name::{PackageName, Purpose, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::rules::Rule;
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::finding::{Finding, Level};

/// What `check` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Check {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The problems.
    pub findings: Vec<Finding<CheckDetails>>,
    /// How many packages have a shared range now.
    pub unified: usize,
}

impl Document for Check {
    const COMMAND: &'static str = "check";
}

/// What belongs to a kind of finding.
#[derive(Default, Serialize, JsonSchema)]
pub struct CheckDetails {
    /// What names the finding in any version of lock and manifest.
    pub fingerprint: String,
    /// The rule that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub rule: Option<Rule>,
    /// The locked version that breaks the rule.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<Version>,
    /// The purpose whose rule it is, where that purpose has rules of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub purpose: Option<Purpose>,
    /// Whether the rules forbid it.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub forbidden: bool,
    /// Why it doesn't count for now.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub waived: Option<WaivedFinding>,
    /// What stands in for the package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source: Option<Source>,
    /// The range that all of the projects accept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub common: Option<Range>,
    /// The ranges that projects declare.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub declared: Vec<DeclaredRange>,
    /// The other registries that have a package of the name.
    #[serde(rename = "also-in", skip_serializing_if = "Vec::is_empty")]
    pub also_in: Vec<RegistryName>,
}

/// A waiver that covers a finding.
#[derive(Serialize, JsonSchema)]
pub struct WaivedFinding {
    /// Its reason.
    pub reason: String,
    /// Its last day, in UTC.
    pub until: String,
}

/// A range that a project declares.
#[derive(Serialize, JsonSchema)]
pub struct DeclaredRange {
    /// The project.
    pub project: PackageName,
    /// Its folder, seen from the workspace's.
    pub path: String,
    /// What the package is needed for; null to run.
    pub purpose: Option<Purpose>,
    /// The range.
    pub range: Range,
    /// Whether it is the workspace's shared range.
    pub shared: bool,
}

impl Check {
    /// The problems, and what was done.
    pub fn of(report: &Report, unified: usize, dry_run: bool) -> Self {
        let findings = report.findings.iter().map(finding).collect();
        Self { dry_run, findings, unified }
    }
}

fn finding(found: &Found) -> Finding<CheckDetails> {
    let waived = found.waived.as_ref();
    let waived =
        waived.map(|waived| WaivedFinding { reason: waived.reason.clone(), until: waived.until.to_string() });
    let details = CheckDetails {
        fingerprint: found.fingerprint(),
        forbidden: found.is_forbidden,
        waived,
        ..details(&found.subject)
    };
    let level = match found.level {
        FoundLevel::Error => Level::Error,
        FoundLevel::Warning => Level::Warning,
        FoundLevel::Note => Level::Note,
    };
    let (package, advice) = (found.package.clone(), Some(found.advice.clone()));
    Finding { package, advice, ..Finding::new(found.code, level, found.message.clone(), details) }
}

fn details(subject: &Subject) -> CheckDetails {
    let none = CheckDetails::default();
    match subject {
        Subject::Lock { .. } | Subject::Shelf => none,
        Subject::StandIn { by } => {
            CheckDetails { source: by.as_ref().map(|(source, _)| source.clone()), ..none }
        }
        Subject::Drift { common, needs } => CheckDetails {
            common: common.clone(),
            declared: needs.iter().map(DeclaredRange::from).collect(),
            ..none
        },
        Subject::Rule { rule, version, scope, .. } => {
            CheckDetails { rule: Some(*rule), version: Some(version.clone()), purpose: scope.clone(), ..none }
        }
        Subject::Waiver { rule } => CheckDetails { rule: Some(*rule), ..none },
        Subject::SharedName { others } => CheckDetails { also_in: others.clone(), ..none },
    }
}

impl From<&DriftingNeed> for DeclaredRange {
    fn from(need: &DriftingNeed) -> Self {
        Self {
            project: need.project.clone(),
            path: need.path.clone(),
            purpose: need.purpose.clone(),
            range: need.range.clone(),
            shared: need.is_shared,
        }
    }
}
