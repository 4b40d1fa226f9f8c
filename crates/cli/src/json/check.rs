//! What `check` prints.

use bibliotax_app::check::{DriftingNeed, Finding as Found, Report};
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::range::Range;
use bibliotax_core::source::Source;
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
    /// What stands in for the package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source: Option<Source>,
    /// The range that all of the projects accept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub common: Option<Range>,
    /// The ranges that projects declare.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub declared: Vec<DeclaredRange>,
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
    /// The problems in words, and what was done.
    pub fn of(report: &Report, in_words: impl Fn(&Found) -> InWords, unified: usize, dry_run: bool) -> Self {
        let findings = report.findings.iter().map(|found| finding(found, in_words(found))).collect();
        Self { dry_run, findings, unified }
    }
}

/// A finding in words.
pub struct InWords {
    pub code: &'static str,
    pub message: String,
    pub advice: String,
}

fn finding(found: &Found, words: InWords) -> Finding<CheckDetails> {
    let (package, details) = match found {
        Found::Lock { .. } => (None, CheckDetails::default()),
        Found::StandIn { package, by } => {
            let source = by.as_ref().map(|(source, _)| source.clone());
            (Some(package.clone()), CheckDetails { source, ..CheckDetails::default() })
        }
        Found::Drift { package, common, needs } => {
            let declared = needs.iter().map(DeclaredRange::from).collect();
            (
                Some(package.clone()),
                CheckDetails { common: common.clone(), declared, ..CheckDetails::default() },
            )
        }
    };
    let level = if matches!(found, Found::Lock { .. }) { Level::Error } else { Level::Warning };
    Finding { package, advice: Some(words.advice), ..Finding::new(words.code, level, words.message, details) }
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
