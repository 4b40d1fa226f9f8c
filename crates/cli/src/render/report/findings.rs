//! The problems that `check` finds, as rows.

use bibliotax_app::check::{DriftingNeed, Finding, Level, Subject};
use bibliotax_app::report::PackageFacts;
use bibliotax_app::workspace::file_name;
use serde::Serialize;

use super::{Link, package_id};

/// A finding.
#[derive(Serialize)]
pub struct FindingRow {
    level: &'static str,
    /// How the level looks.
    look: &'static str,
    /// The package that it is about; a link where the page has it.
    package: Option<Link>,
    message: String,
    /// More lines of the message.
    details: Vec<String>,
    advice: String,
    place: String,
    code: &'static str,
    /// Why it doesn't count, and until when.
    waived: Option<String>,
}

impl FindingRow {
    /// The row of a finding.
    pub fn of(finding: &Finding, facts: &[PackageFacts<'_>]) -> Self {
        let (level, look) = match finding.level {
            Level::Error => ("error", "no"),
            Level::Warning => ("warning", "unsure"),
            Level::Note => ("note", ""),
        };
        let package = finding.package.as_ref().map(|name| {
            let is_there = facts.binary_search_by(|one| one.package.name.cmp(name)).is_ok();
            let href = if is_there { format!("#{}", package_id(name)) } else { String::new() };
            Link { href, name: name.to_string() }
        });
        let details = match &finding.subject {
            Subject::Drift { needs, .. } => needs.iter().map(drifting).collect(),
            _ => Vec::new(),
        };
        let location = &finding.location;
        let place = match location.at {
            Some((line, column)) => format!("{}:{line}:{column}", location.file),
            None => location.file.clone(),
        };
        let waived = finding.waived.as_ref();
        Self {
            level,
            look,
            package,
            message: finding.message.clone(),
            details,
            advice: finding.advice.clone(),
            place,
            code: finding.code,
            waived: waived.map(|waived| format!("{} (until {})", waived.reason, waived.until)),
        }
    }
}

fn drifting(need: &DriftingNeed) -> String {
    let purpose = need.purpose.as_ref().map(|purpose| format!(" for {purpose}")).unwrap_or_default();
    format!("{}: \"{}\"{purpose}", file_name(&need.folder), need.range)
}
