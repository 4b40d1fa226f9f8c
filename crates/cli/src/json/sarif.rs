//! Findings in the Static Analysis Results Interchange Format (SARIF 2.1.0, OASIS Standard): a run of one tool with its rules and its
//! results, as far as findings need it. Numbers in comments are sections of the standard.

use std::collections::BTreeMap;

use bibliotax_app::check::{
    FINDING_CODES, Finding, FindingCode, Level, Location as Found, Report, finding_code,
};
use serde::Serialize;

/// Where the standard's schema is.
const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// The name of our fingerprints, with the version of how they are made (3.27.17).
const FINGERPRINT: &str = "bibliotaxFinding/v1";

/// A log (3.13).
#[derive(Serialize)]
pub struct Log {
    #[serde(rename = "$schema")]
    schema: &'static str,
    version: &'static str,
    runs: [RunOfTool; 1],
}

/// A run (3.14).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct RunOfTool {
    tool: Tool,
    original_uri_base_ids: BTreeMap<&'static str, UriBase>,
    column_kind: &'static str,
    results: Vec<ResultOfRun>,
}

/// What relative paths are seen from (3.14.14): the description alone, since where that is says nothing elsewhere.
#[derive(Serialize)]
struct UriBase {
    description: Message,
}

/// The tool (3.18).
#[derive(Serialize)]
struct Tool {
    driver: Driver,
}

/// Its component (3.19).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Driver {
    name: &'static str,
    semantic_version: &'static str,
    rules: Vec<RuleOfTool>,
}

/// A rule (3.49).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct RuleOfTool {
    id: String,
    short_description: Message,
    help: Message,
}

/// A text (3.11).
#[derive(Serialize)]
struct Message {
    text: String,
}

/// A result (3.27).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct ResultOfRun {
    rule_id: String,
    rule_index: usize,
    level: &'static str,
    message: Message,
    locations: [LocationOfResult; 1],
    partial_fingerprints: BTreeMap<&'static str, String>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    suppressions: Vec<Suppression>,
}

/// A location (3.28).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct LocationOfResult {
    physical_location: PhysicalLocation,
}

/// A place in a file (3.29).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct PhysicalLocation {
    artifact_location: ArtifactLocation,
    #[serde(skip_serializing_if = "Option::is_none")]
    region: Option<Region>,
}

/// A file (3.4).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct ArtifactLocation {
    uri: String,
    uri_base_id: &'static str,
}

/// A part of a file (3.30).
#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Region {
    start_line: usize,
    start_column: usize,
}

/// Why a result doesn't count (3.35).
#[derive(Serialize)]
struct Suppression {
    kind: &'static str,
    status: &'static str,
    justification: String,
}

/// What relative paths are seen from.
const ROOT: &str = "ROOT";

impl Log {
    /// The findings of a check.
    pub fn of(report: &Report) -> Self {
        let mut rules: Vec<FindingCode> = FINDING_CODES.to_vec();
        for finding in &report.findings {
            if finding_code(finding.code).is_none() && !rules.iter().any(|rule| rule.code == finding.code) {
                let help = "`bibliotax resolve` writes the lock again";
                rules.push(FindingCode { code: finding.code, meaning: "the lock can't be trusted", help });
            }
        }
        let results = report.findings.iter().map(|finding| result(finding, &rules)).collect();
        let rules = rules.iter().map(RuleOfTool::from).collect();
        let driver = Driver { name: "bibliotax", semantic_version: env!("CARGO_PKG_VERSION"), rules };
        let root = UriBase { description: Message { text: "the workspace's folder".to_owned() } };
        let run = RunOfTool {
            tool: Tool { driver },
            original_uri_base_ids: [(ROOT, root)].into(),
            column_kind: "unicodeCodePoints",
            results,
        };
        Self { schema: SCHEMA, version: "2.1.0", runs: [run] }
    }
}

impl From<&FindingCode> for RuleOfTool {
    fn from(code: &FindingCode) -> Self {
        Self {
            id: code.code.to_owned(),
            short_description: Message { text: sentence(code.meaning) },
            help: Message { text: sentence(code.help) },
        }
    }
}

fn result(finding: &Finding, rules: &[FindingCode]) -> ResultOfRun {
    let level = match finding.level {
        Level::Error => "error",
        Level::Warning => "warning",
        Level::Note => "note",
    };
    let waived = finding.waived.iter().map(|waived| Suppression {
        kind: "external",
        status: "accepted",
        justification: format!("{} (until {})", waived.reason, waived.until),
    });
    ResultOfRun {
        rule_id: finding.code.to_owned(),
        rule_index: rules.iter().position(|rule| rule.code == finding.code).unwrap_or_default(),
        level,
        message: Message {
            text: format!("{} What to do: {}", sentence(&finding.message), sentence(&finding.advice)),
        },
        locations: [location(&finding.location)],
        partial_fingerprints: [(FINGERPRINT, finding.fingerprint())].into(),
        suppressions: waived.collect(),
    }
}

fn location(found: &Found) -> LocationOfResult {
    let region = found.at.map(|(start_line, start_column)| Region { start_line, start_column });
    let artifact_location = ArtifactLocation { uri: uri_of(&found.file), uri_base_id: ROOT };
    LocationOfResult { physical_location: PhysicalLocation { artifact_location, region } }
}

/// A relative path as a URI reference (RFC 3986, section 4.2).
fn uri_of(file: &str) -> String {
    const KEPT: &percent_encoding::AsciiSet =
        &percent_encoding::NON_ALPHANUMERIC.remove(b'/').remove(b'.').remove(b'-').remove(b'_').remove(b'~');
    percent_encoding::utf8_percent_encode(file, KEPT).to_string()
}

/// A text as a sentence: a capital at its beginning, unless code stands there, and a full stop (3.11.2).
fn sentence(text: &str) -> String {
    let mut chars = text.chars();
    let begin: String = chars.next().into_iter().flat_map(char::to_uppercase).collect();
    format!("{begin}{}.", chars.as_str().trim_end_matches('.'))
}
