//! What `explain` shows.

use bibliotax_app::explain::{Answer, ExplainedCharter, Here, Newer, NotPossible, Possible};
use bibliotax_core::graph::NeedPath;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::Conflict;
use bibliotax_present::table::Table;
use bibliotax_present::words::count;
use bibliotax_present::{changes, conflict};

use crate::json::explain::Explanation;
use crate::ui::{Ui, clean, style, styled};

/// Shows an answer about a lock; a long conflict in full, if asked to.
pub fn show(ui: &Ui, answer: &Answer<'_>, lock: &Lock, in_full: bool) {
    match answer {
        Answer::Charter(charter) => show_charter(ui, charter),
        Answer::Here(here) => show_here(ui, here, lock, in_full),
        Answer::Possible(possible) => show_possible(ui, possible, lock),
        Answer::NotPossible(not_possible) => show_not_possible(ui, not_possible, in_full),
    }
    ui.report(|| Explanation::of(answer, lock));
}

fn show_here(ui: &Ui, here: &Here<'_>, lock: &Lock, in_full: bool) {
    let package = here.package;
    let provides: Vec<&str> = package.provides.iter().map(PackageName::as_str).collect();
    let provides =
        if provides.is_empty() { String::new() } else { format!(" as {}", provides.join(" and ")) };
    let name = styled(style::STRONG, &package.name);
    let needed = if here.paths.shown.is_empty() {
        "is locked, but not needed by these projects on these targets"
    } else {
        "is needed"
    };
    ui.answer(format!("{name} {} {needed}{provides}", package.shown_version()));
    here.paths.shown.iter().for_each(|path| ui.answer(format!("  {}", path_in_words(path, lock))));
    if here.paths.has_more {
        ui.answer(format!(
            "  and more paths, none shorter; `bibliotax graph --to {}` shows them",
            package.name
        ));
    }
    for (release, range) in &here.charters {
        ui.answer(format!("the charter {release} allows {range}"));
    }
    for (charter, reason) in &here.excepted {
        ui.answer(format!("it is excepted from the charter {charter}: {}", clean(reason)));
    }
    here.about.iter().for_each(|text| ui.answer(clean(text)));
    here.newer.iter().for_each(|newer| show_newer(ui, newer, in_full));
    if let Some(version) = &here.elsewhere {
        ui.answer(format!("{version} is newer, and the manifest uses {}", here.package.source));
    }
    if here.is_unknown {
        ui.answer("it isn't known whether there is a newer release: it comes from an archive");
    } else if here.newer.is_empty() && here.elsewhere.is_none() && here.about.is_empty() {
        ui.answer("there is no newer release");
    }
}

/// Says what a charter binds here.
fn show_charter(ui: &Ui, explained: &ExplainedCharter<'_>) {
    let ExplainedCharter { charter, range, binds, unused, excepted, update } = explained;
    let name = styled(style::STRONG, &charter.name);
    ui.answer(format!("{name} {} is a charter, taken on in {range}", charter.version));
    if !binds.is_empty() {
        ui.answer(format!("it binds {}:", count(binds.len(), "package")));
        let row = |(package, range): &(&LockedPackage, Range)| {
            vec![format!("  {}", package.name), package.shown_version(), format!("allowed: {range}")]
        };
        ui.answer(ui.lines_of(&Table::of(binds.iter().map(row)).titled(1)));
    }
    if !charter.charter.rules.is_silent() {
        ui.answer("its rules apply beside those of the workspace");
    }
    for (package, reason) in excepted {
        ui.answer(format!("{package} is excepted: {}", clean(reason)));
    }
    if !unused.is_empty() {
        ui.answer(format!("not used here: {}", unused.join(", ")));
    }
    match update {
        Some(update) => {
            ui.answer(format!("{update} is newer: `bibliotax update {}` would use it", charter.name));
        }
        None => ui.answer("there is no newer release in its range"),
    }
}

/// A path to a package, in words.
fn path_in_words(path: &NeedPath, lock: &Lock) -> String {
    let names: Vec<&str> = path.packages.iter().map(PackageName::as_str).collect();
    let through = names.split_last().map_or(&[][..], |(_, through)| through);
    match (through, lock.projects.as_slice()) {
        ([], [_]) => "by the project itself".to_owned(),
        ([], _) => format!("by {} itself", path.by),
        (through, [_]) => format!("through {}", through.join(", which needs ")),
        (through, _) => format!("by {} through {}", path.by, through.join(", which needs ")),
    }
}

fn show_newer(ui: &Ui, Newer { version, conflict }: &Newer, in_full: bool) {
    match conflict {
        None => ui.answer(format!("{version} is newer and possible: `bibliotax update` would use it")),
        Some(conflict) => {
            ui.answer(format!("{version} is newer, but not possible:"));
            show_conflict(ui, conflict, in_full);
        }
    }
}

fn show_conflict(ui: &Ui, conflict: &Conflict, in_full: bool) {
    let lines = conflict::answer_lines(conflict, in_full);
    lines.iter().for_each(|line| ui.answer(format!("  {line}")));
}

fn show_possible(ui: &Ui, possible: &Possible, lock: &Lock) {
    let (package, moves) = (&possible.package, possible.moves(lock));
    let version = possible.lock.package(package).map(LockedPackage::shown_version).unwrap_or_default();
    ui.answer(format!("{} could be {version}", styled(style::STRONG, package)));
    if moves.is_empty() {
        ui.answer("no other package would change");
    } else {
        ui.answer(format!("{} would change:", count(moves.len(), "package")));
        ui.answer(ui.lines_of(&Table::of(changes::rows(&moves, &possible.lock)).titled(2)));
    }
}

fn show_not_possible(ui: &Ui, answer: &NotPossible, in_full: bool) {
    ui.answer(format!("{} {} isn't possible:", styled(style::STRONG, &answer.package), answer.range));
    show_conflict(ui, &answer.conflict, in_full);
    ui.answer_ways(&answer.ways);
}
