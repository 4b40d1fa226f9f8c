//! What `ready` shows.

use std::path::Path;

use bibliotax_app::ready::{Finding, RegistryState, Report};
use bibliotax_core::facet::Fits;
use bibliotax_core::range::Range;
use bibliotax_present::table::Table;
use bibliotax_present::words;

use crate::json::ready::Ready;
use crate::ui::{Ui, style, styled};

/// Shows what was looked at; how many findings are not fine.
pub fn show(ui: &Ui, report: &Report) -> usize {
    let row = |finding: &Finding| {
        let word =
            if finding.is_fine() { styled(style::GOOD, "fine") } else { styled(style::BAD, "problem") };
        vec![format!(" {word}"), subject(finding), verdict(finding)]
    };
    ui.answer(ui.lines_of(&Table::of(report.findings.iter().map(row)).titled(2)));
    super::warnings(ui, &report.warnings);
    let problems = report.findings.iter().filter(|finding| !finding.is_fine()).count();
    ui.answer(match problems {
        0 => "this machine is ready".to_owned(),
        1 => "1 problem found".to_owned(),
        many => format!("{many} problems found"),
    });
    ui.report(|| Ready::of(report, |finding| format!("{}: {}", subject(finding), verdict(finding))));
    problems
}

/// What was looked at.
fn subject(finding: &Finding) -> String {
    match finding {
        Finding::NoRegistries | Finding::Registries(_) => "registries".to_owned(),
        Finding::Registry { name, .. } => format!("registry {name}"),
        Finding::Store(_) => "store".to_owned(),
        Finding::Merges { .. } => "git merges".to_owned(),
        Finding::Settings { .. } => "settings".to_owned(),
        Finding::Target { name, .. } => format!("target {name}"),
        Finding::Program { program, .. } => program.as_str().to_owned(),
    }
}

/// What was found, or what to do.
fn verdict(finding: &Finding) -> String {
    match finding {
        Finding::NoRegistries => "none declared".to_owned(),
        Finding::Registries(problem) | Finding::Store(Some(problem)) => problem.clone(),
        Finding::Registry { state, .. } => registry(state),
        Finding::Store(None) => "can be used".to_owned(),
        Finding::Merges { is_set_up: true } => "manifests and locks are merged by meaning".to_owned(),
        Finding::Merges { is_set_up: false } => {
            "manifests and locks are merged line by line here; run `bibliotax merge --set-up` once".to_owned()
        }
        Finding::Settings { file, set } => settings(file, set.as_deref()),
        Finding::Target { differs, machine, .. } => target(differs, machine),
        Finding::Program { .. } => program(finding),
    }
}

fn settings(file: &Path, set: Option<&[&str]>) -> String {
    let file = file.display();
    match set {
        None => format!("there is no {file}"),
        Some([]) => format!("{file} sets nothing"),
        Some(names) => format!("{file} sets {}", names.join(", ")),
    }
}

fn registry(state: &RegistryState) -> String {
    match state {
        RegistryState::NotAsked => "not checked, offline; cached answers are used".to_owned(),
        RegistryState::Answers => "can be reached".to_owned(),
        RegistryState::Opened { place, is_open: true } => {
            format!("can be reached, with the credentials from {place}")
        }
        RegistryState::Opened { place, is_open: false } => {
            format!("can be reached, but refuses the credentials from {place}")
        }
        RegistryState::Fails(why) => why.clone(),
    }
}

fn target(differs: &Fits, machine: &Fits) -> String {
    let machine = words::fits(machine);
    if differs.is_empty() {
        return format!("matches this machine ({machine})");
    }
    let other: Vec<String> = differs.iter().map(|(facet, value)| format!("{facet} {value}")).collect();
    format!("differs from this machine: it has {}, and this machine {machine}", other.join(" and "))
}

fn program(finding: &Finding) -> String {
    let Finding::Program { path, version, wanted, .. } = finding else { return String::new() };
    let one = |(who, range): &(String, Range)| format!("{range} for {who}");
    let wanted: Vec<String> = wanted.iter().map(one).collect();
    let wanted = wanted.join(", ");
    match (path, version) {
        (None, _) => format!("not found on the PATH; required: {wanted}"),
        (Some(path), None) if finding.is_fine() => path.display().to_string(),
        (Some(path), None) => format!("{} doesn't report its version; required: {wanted}", path.display()),
        (Some(path), Some(version)) if finding.is_fine() => format!("{version} ({})", path.display()),
        (Some(path), Some(version)) => format!("{version} ({}); required: {wanted}", path.display()),
    }
}
