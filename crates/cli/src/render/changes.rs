//! Shows a change of manifests and lock, and what was done.

use bibliotax_app::change::{Applied, ChangeReport};
use bibliotax_app::links::LinkedFile;
use bibliotax_app::newest_release::PassedOver;
use bibliotax_app::steps::OpenStep;
use bibliotax_present::table::Table;
use bibliotax_present::words::{count, size, step_place};
use bibliotax_present::{changes, charters};

use super::accept;
use crate::ui::{Ui, clean, style, styled};

/// What is said of two locks with the same releases.
pub const NEEDED_OTHERWISE: &str = "same versions; only targets or purposes changed";

/// Most open steps that are listed after an install.
const MAX_STEPS: usize = 5;

/// Most new files for build tools that are listed after an install.
const MAX_BUILD_FILES: usize = 6;

/// Shows how the lock changes, and which licences come with it that nobody accepted yet.
pub fn show_all(ui: &Ui, report: &ChangeReport<'_>) {
    show(ui, report);
    accept::warn(ui, &report.unaccepted);
}

/// Shows how the lock changes.
pub fn show(ui: &Ui, report: &ChangeReport<'_>) {
    let ChangeReport { changes, lock, only_reasons, .. } = report;
    ui.tell(1, format!("resolved {}", count(lock.packages.len(), "package")));
    if *only_reasons {
        ui.say(format!("{}: {NEEDED_OTHERWISE}", styled(style::STRONG, "lock")));
    }
    for line in charters::changed(&report.charters) {
        ui.say(format!("{}: {line}", styled(style::STRONG, "charter")));
    }
    if changes.is_empty() {
        return;
    }
    ui.say(format!("{}: {}", styled(style::STRONG, "lock"), changes::tally(changes)));
    let summary = changes::summary(changes, lock);
    ui.say(ui.lines_of(&Table::of(summary.rows).titled(2)));
    if summary.left > 0 {
        let text = format!(" and {} more: `bibliotax graph` shows what is in the lock", summary.left);
        ui.say(styled(style::FAINT, text));
    }
}

/// Shows what was done, or that nothing was written.
pub fn show_applied(ui: &Ui, applied: Option<&Applied>) {
    let Some(applied) = applied else {
        ui.say("nothing was written");
        return;
    };
    show_installed(ui, applied);
    show_build_files(ui, &applied.build_files);
    show_open_steps(ui, &applied.open_steps);
}

/// Says in a line what came onto the shelf.
pub fn show_installed(ui: &Ui, applied: &Applied) {
    let (installed, head) = (applied.installed, styled(style::STRONG, "shelf"));
    if installed.built == 0 && installed.removed == 0 {
        if !ui.is_aside() {
            ui.say(format!("{head}: nothing to do, {}", all_there(installed.kept)));
        }
        return;
    }
    let parts = [
        (installed.built > 0).then(|| format!("{} installed", count(installed.built, "package"))),
        (installed.removed > 0).then(|| format!("{} removed", installed.removed)),
        (installed.kept > 0).then(|| format!("{} already there", installed.kept)),
        (installed.fetched.archives > 0).then(|| format!("{} downloaded", size(installed.fetched.bytes))),
    ];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    ui.say(format!("{head}: {} ({:.2} s)", parts.join(", "), applied.took.as_secs_f64()));
}

fn all_there(kept: usize) -> String {
    match kept {
        0 => "nothing to install: the lock is empty".to_owned(),
        1 => "the one package is there".to_owned(),
        many => format!("all {many} packages are there"),
    }
}

/// Says which files for build tools there are now, with the line that each needs.
pub fn show_build_files(ui: &Ui, made: &[LinkedFile]) {
    if made.is_empty() {
        return;
    }
    ui.say(format!(
        "{}: {} for your build; `bibliotax links` shows them again",
        styled(style::STRONG, "links"),
        count(made.len(), "file")
    ));
    let row = |file: &LinkedFile| {
        let tool = file.tool.map(|tool| tool.to_string()).unwrap_or_default();
        vec![format!("  {tool}"), clean(file.line.as_deref().unwrap_or(&file.path)).to_string()]
    };
    ui.say(ui.table(made.iter().take(MAX_BUILD_FILES).map(row)));
    if let Some(more) = made.len().checked_sub(MAX_BUILD_FILES).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more"));
    }
}

/// Says which steps are open now, in a few lines.
pub fn show_open_steps(ui: &Ui, open: &[OpenStep]) {
    if open.is_empty() {
        return;
    }
    ui.say(format!(
        "{}: {} to do by hand; see `bibliotax steps`",
        styled(style::STRONG, "steps"),
        open.len()
    ));
    let row =
        |step: &OpenStep| vec![format!("  {}", step.id), step.package.to_string(), step_place(&step.place)];
    ui.say(ui.table(open.iter().take(MAX_STEPS).map(row)));
    if let Some(more) = open.len().checked_sub(MAX_STEPS).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more"));
    }
}

/// Says which newer releases were not taken, and why.
pub fn show_passed_over(ui: &Ui, passed_over: &[PassedOver]) {
    for PassedOver { package, newest, why } in passed_over {
        if why.is_empty() {
            ui.say(format!("  passed over {package} {newest}: it would move packages that are locked"));
            continue;
        }
        ui.say(format!("  passed over {package} {newest}:"));
        why.iter().for_each(|sentence| ui.say(format!("    {sentence}")));
    }
}
