//! What `explain` shows.

use bibliotax_app::explain::{Answer, Here, Newer, NotPossible, Possible};
use bibliotax_core::graph::Way;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Conflict;
use bibliotax_present::table::Table;
use bibliotax_present::words::count;
use bibliotax_present::{changes, conflict};

use crate::json::explain::Explanation;
use crate::ui::{Ui, clean, style, styled};

/// Shows an answer about a lock; a long conflict in full, if asked to.
pub fn show(ui: &Ui, answer: &Answer<'_>, lock: &Lock, in_full: bool) {
    match answer {
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
    ui.answer(format!("{name} {} is needed{provides}", package.shown_version()));
    here.ways.shown.iter().for_each(|way| ui.answer(format!("  {}", way_in_words(way, lock))));
    if here.ways.has_more {
        ui.answer(format!(
            "  and more ways, none shorter; `bibliotax graph --to {}` draws them",
            package.name
        ));
    }
    here.about.iter().for_each(|text| ui.answer(clean(text)));
    here.newer.iter().for_each(|newer| show_newer(ui, newer, in_full));
    if here.newer.is_empty() && here.about.is_empty() {
        ui.answer("no newer release is there");
    }
}

/// A way to a package, in words.
fn way_in_words(way: &Way, lock: &Lock) -> String {
    let names: Vec<&str> = way.packages.iter().map(PackageName::as_str).collect();
    let through = names.split_last().map_or(&[][..], |(_, through)| through);
    match (through, lock.projects.as_slice()) {
        ([], [_]) => "by the project itself".to_owned(),
        ([], _) => format!("by {} itself", way.by),
        (through, [_]) => format!("through {}", through.join(", which needs ")),
        (through, _) => format!("by {} through {}", way.by, through.join(", which needs ")),
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
        ui.answer("nothing would move");
    } else {
        ui.answer(format!("{} would move:", count(moves.len(), "package")));
        ui.answer(ui.lines_of(&Table::of(changes::rows(&moves, &possible.lock)).titled(2)));
    }
}

fn show_not_possible(ui: &Ui, answer: &NotPossible, in_full: bool) {
    ui.answer(format!("{} {} isn't possible:", styled(style::STRONG, &answer.package), answer.range));
    show_conflict(ui, &answer.conflict, in_full);
    ui.answer_ways(&answer.ways);
}
