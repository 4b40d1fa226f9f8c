//! What `check` shows.

use bibliotax_app::check::{DriftingNeed, Finding, Level, Report, Subject};
use bibliotax_app::workspace::file_name;
use bibliotax_core::manifest;
use bibliotax_present::words::{count, manifest_key};

use crate::json::check::Check;
use crate::ui::{Ui, clean, style, styled};

/// Shows what was found; where projects are about to share ranges, with these.
pub fn show(ui: &Ui, report: &Report) {
    super::warnings(ui, &report.warnings);
    let counting: Vec<&Finding> = report.findings.iter().filter(|finding| finding.waived.is_none()).collect();
    for alike in counting.chunk_by(|one, other| one.advice == other.advice) {
        alike.iter().for_each(|finding| show_finding(ui, finding));
        ui.answer(format!("  {} {}", styled(style::STRONG, "try:"), alike[0].advice));
    }
    let head = styled(style::STRONG, manifest::FILE_NAME);
    for (package, range) in &report.shared {
        ui.say(format!("{head}: [shared] {} = \"{range}\"", manifest_key(package)));
    }
}

/// Says how much was found.
pub fn show_sum(ui: &Ui, report: &Report) {
    let looked_at = format!("{}, {}", count(report.projects, "project"), count(report.packages, "package"));
    let counts = [(Level::Error, "error"), (Level::Warning, "warning"), (Level::Note, "note")];
    let counts = counts.map(|(level, word)| (report.count(level), word));
    let waived = report.findings.iter().filter(|finding| finding.waived.is_some()).count();
    let found = counts.into_iter().chain([(waived, "waived finding")]);
    let found: Vec<String> =
        found.filter(|(number, _)| *number > 0).map(|(number, word)| count(number, word)).collect();
    let is_well = report.findings.iter().all(|finding| finding.waived.is_some());
    let found = match (is_well, found.as_slice()) {
        (true, []) => "no problems found".to_owned(),
        (true, waived) => format!("no problems found, {}", waived.join(", ")),
        (false, found) => found.join(", "),
    };
    ui.say(format!("{found}: {looked_at}"));
}

/// Prints what was found as JSON.
pub fn report(ui: &Ui, report: &Report, unified: usize, is_dry_run: bool) {
    ui.report(|| Check::of(report, unified, is_dry_run));
}

fn show_finding(ui: &Ui, finding: &Finding) {
    let level = match finding.level {
        Level::Error => styled(style::BAD, "error:"),
        Level::Warning => styled(style::WARNING, "warning:"),
        Level::Note => styled(style::STRONG, "note:"),
    };
    let code = styled(style::FAINT, format!("({})", finding.code));
    ui.answer(format!("{level} {}  {code}", clean(&finding.message)));
    if let Subject::Drift { needs, .. } = &finding.subject {
        ui.answer(ui.table(needs.iter().map(row)));
    }
}

fn row(need: &DriftingNeed) -> Vec<String> {
    let table =
        need.purpose.as_ref().map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
    let shared = if need.is_shared { ", shared" } else { "" };
    vec![format!("  {}", file_name(&need.folder)), table, format!("\"{}\"{shared}", need.range)]
}
