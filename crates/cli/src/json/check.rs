//! What `check` prints.

use bibliotax_app::check::{self, DriftingNeed, Finding as Found, Level as FoundLevel, Report, Subject};
use bibliotax_core::advisory::Severity;
use bibliotax_core::charter::CharterRelease;
use bibliotax_core::graph::NeedPath;
use bibliotax_core::name::{PackageName, Purpose, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::rules::{KnownAdvisory, Rule};
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use jiff::Timestamp;
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

/// What `check --explain` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Explained {
    /// The kind of finding; null for an advisory that affects nothing.
    pub code: Option<String>,
    /// What the kind means.
    pub meaning: Option<String>,
    /// The advisory; null for a kind of finding.
    pub advisory: Option<ExplainedAdvisory>,
    /// The findings.
    pub findings: Vec<ExplainedFinding>,
}

impl Document for Explained {
    const COMMAND: &'static str = "check explain";
}

/// An advisory in full.
#[derive(Serialize, JsonSchema)]
pub struct ExplainedAdvisory {
    /// Its name.
    pub id: String,
    /// Its other names.
    pub aliases: Vec<String>,
    /// What it is, in a line.
    pub summary: String,
    /// How bad it is; null where nobody rated it.
    pub severity: Option<Severity>,
    /// Its score, from 0 to 10, where a CVSS vector gives one.
    pub score: Option<f64>,
    /// When it was changed last.
    pub modified: Timestamp,
    /// Where there is more to read.
    pub url: Option<String>,
}

/// A finding with all that is known of it.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ExplainedFinding {
    /// The finding.
    pub finding: Finding<CheckDetails>,
    /// The shortest path from a project to the package.
    pub path: Option<NeedPath>,
    /// The commit that brought the locked version into the lock.
    pub since: Option<LockCommit>,
    /// The nearest release that the advisory doesn't affect.
    pub fixed_in: Option<Version>,
    /// What fixes it; each was tried.
    pub ways: Vec<Way>,
}

/// A commit of the lock.
#[derive(Serialize, JsonSchema)]
pub struct LockCommit {
    /// Its name, in short.
    pub commit: String,
    /// Its day.
    pub date: String,
    /// The first line of its message.
    pub subject: String,
}

/// What fixes a finding.
#[derive(Serialize, JsonSchema)]
pub struct Way {
    /// The command, or the line of the manifest.
    pub command: String,
    /// What it does.
    pub note: String,
}

impl From<&check::Explanation> for Explained {
    fn from(explanation: &check::Explanation) -> Self {
        let advisory = explanation.advisory.as_ref().map(|advisory| ExplainedAdvisory {
            id: advisory.id.clone(),
            aliases: advisory.aliases.iter().cloned().collect(),
            summary: advisory.summary.clone(),
            severity: advisory.rating.as_ref().map(|rating| rating.severity),
            score: advisory.rating.as_ref().and_then(|rating| rating.score),
            modified: advisory.modified,
            url: advisory.url.clone(),
        });
        Self {
            code: explanation.code.map(|code| code.code.to_owned()),
            meaning: explanation.code.map(|code| code.meaning.to_owned()),
            advisory,
            findings: explanation.findings.iter().map(ExplainedFinding::from).collect(),
        }
    }
}

impl From<&check::ExplainedFinding> for ExplainedFinding {
    fn from(explained: &check::ExplainedFinding) -> Self {
        let check::ExplainedFinding { finding: found, path, since, fixed_in, ways } = explained;
        let since = since.clone().map(|check::LockCommit { commit, date, subject }| LockCommit {
            commit,
            date,
            subject,
        });
        let ways = ways.iter().map(|way| Way { command: way.command.clone(), note: way.note.clone() });
        Self {
            finding: finding(found),
            path: path.clone(),
            since,
            fixed_in: fixed_in.clone(),
            ways: ways.collect(),
        }
    }
}

/// What belongs to a kind of finding.
#[derive(Default, Serialize, JsonSchema)]
pub struct CheckDetails {
    /// What names the finding in any version of lock and manifest.
    pub fingerprint: String,
    /// The file that it stands in, seen from the workspace's folder.
    pub file: String,
    /// The line in it, from 1; null where it is about the whole file.
    pub line: Option<usize>,
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
    /// The charter that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub charter: Option<CharterRelease>,
    /// The range that the charter has for the package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub allowed: Option<Range>,
    /// The feed of advisories, as the manifest names it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub feed: Option<String>,
    /// The file in the package with the licence text.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The licences that the text reads like.
    #[serde(rename = "reads-like", skip_serializing_if = "Vec::is_empty")]
    pub reads_like: Vec<String>,
    /// The versions that the bill of materials lists.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub listed: Vec<String>,
    /// The advisory.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub advisory: Option<CheckAdvisory>,
    /// The other registries that have a package of the name.
    #[serde(rename = "also-in", skip_serializing_if = "Vec::is_empty")]
    pub also_in: Vec<RegistryName>,
}

/// An advisory that affects a locked release.
#[derive(Serialize, JsonSchema)]
pub struct CheckAdvisory {
    /// Its name.
    pub id: String,
    /// Its other names.
    pub aliases: Vec<String>,
    /// How bad it is.
    pub severity: Severity,
    /// What it is, in a line.
    pub summary: String,
}

impl From<&KnownAdvisory> for CheckAdvisory {
    fn from(advisory: &KnownAdvisory) -> Self {
        let KnownAdvisory { id, summary, severity, names } = advisory.clone();
        let aliases = names.into_iter().filter(|name| *name != id).collect();
        Self { id, aliases, severity, summary }
    }
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
        file: found.location.file.clone(),
        line: found.location.at.map(|(line, _)| line),
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
        Subject::Charter { charter, range } => {
            CheckDetails { charter: Some(charter.clone()), allowed: range.clone(), ..none }
        }
        Subject::Waiver { rule } => CheckDetails { rule: Some(*rule), ..none },
        Subject::Feed { place } => CheckDetails { feed: Some(place.clone()), ..none },
        Subject::LicenseText { path, ids } => {
            CheckDetails { text: Some(path.clone()), reads_like: ids.clone(), ..none }
        }
        Subject::Bill { listed } => CheckDetails { listed: listed.clone(), ..none },
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
