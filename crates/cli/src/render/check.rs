//! What `check` shows.

use bibliotax_app::check::{DriftingNeed, Finding, Report};
use bibliotax_app::workspace::file_name;
use bibliotax_core::manifest;
use bibliotax_core::range::Range;
use bibliotax_present::words::{count, manifest_key};

use crate::json::check::{Check, InWords};
use crate::ui::{Ui, style, styled};

/// Shows what was found; where projects are about to share ranges, with these.
pub fn show(ui: &Ui, report: &Report, unifies: bool) {
    super::warnings(ui, &report.warnings);
    report.findings.iter().for_each(|finding| show_finding(ui, finding, unifies));
    let head = styled(style::STRONG, manifest::FILE_NAME);
    for (package, range) in &report.shared {
        ui.say(format!("{head}: [shared] {} = \"{range}\"", manifest_key(package)));
    }
}

/// Says that nothing was found, if nothing was.
pub fn show_none(ui: &Ui, report: &Report) {
    if report.findings.is_empty() {
        let projects = count(report.projects, "project");
        ui.say(format!("no problems found: {projects}, {}", count(report.packages, "package")));
    }
}

/// Prints what was found as JSON.
pub fn report(ui: &Ui, report: &Report, unified: usize, is_dry_run: bool) {
    let in_words = |finding: &Finding| InWords {
        code: code(finding),
        message: message(finding),
        advice: advice(finding, is_dry_run),
    };
    ui.report(|| Check::of(report, in_words, unified, is_dry_run));
}

fn show_finding(ui: &Ui, finding: &Finding, unifies: bool) {
    ui.answer(format!("{}: {}", styled(style::WARNING, code(finding)), message(finding)));
    if let Finding::Drift { needs, .. } = finding {
        ui.answer(ui.table(needs.iter().map(row)));
    }
    ui.answer(format!("  {}", styled(style::FAINT, advice(finding, unifies))));
}

fn code(finding: &Finding) -> &'static str {
    match finding {
        Finding::Lock { code, .. } => code,
        Finding::StandIn { .. } => "stood-in",
        Finding::Drift { .. } => "drift",
    }
}

fn message(finding: &Finding) -> String {
    match finding {
        Finding::Lock { message, .. } => message.clone(),
        Finding::StandIn { package, by: Some((source, version)) } => {
            format!("{source} is the stand-in for {package} {version}")
        }
        Finding::StandIn { package, by: None } => {
            format!("there is a stand-in for {package}, but nothing needs it")
        }
        Finding::Drift { package, .. } => format!("{package} is declared with different ranges"),
    }
}

fn advice(finding: &Finding, unifies: bool) -> String {
    match finding {
        Finding::Lock { is_faulty: true, .. } => "`bibliotax resolve` updates it".to_owned(),
        Finding::Lock { .. } => "`bibliotax install` updates it".to_owned(),
        Finding::StandIn { by: Some(_), .. } => {
            "sealed installs and publishing refuse stand-ins; remove it from `[stand-ins]` when it is no longer needed"
                .to_owned()
        }
        Finding::StandIn { by: None, .. } => "remove it from `[stand-ins]`".to_owned(),
        Finding::Drift { common, .. } => advice_on_drift(common.as_ref(), unifies),
    }
}

fn advice_on_drift(common: Option<&Range>, unifies: bool) -> String {
    match common {
        Some(range) if unifies => format!("all accept \"{range}\", which they share:"),
        Some(range) => format!("all accept \"{range}\": `bibliotax check --unify` makes it a shared range"),
        None => "no version is in all of them, so one lock can't satisfy all".to_owned(),
    }
}

fn row(need: &DriftingNeed) -> Vec<String> {
    let table =
        need.purpose.as_ref().map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
    let shared = if need.is_shared { ", shared" } else { "" };
    vec![format!("  {}", file_name(&need.folder)), table, format!("\"{}\"{shared}", need.range)]
}
