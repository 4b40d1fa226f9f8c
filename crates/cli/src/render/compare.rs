//! What `compare` shows: the difference of two locks, in the terms that a reviewer uses.

mod files;
pub mod review;

use std::collections::BTreeMap;

use bibliotax_app::compare::{ProjectChanges, Report};
use bibliotax_core::compare::{Aspect, Change};
use bibliotax_core::escape::in_markdown;
use bibliotax_core::lock::{FILE_NAME, LockedPackage};
use bibliotax_core::name::{ComponentName, PackageName};
use bibliotax_core::review::causes;
use bibliotax_present::table::Table;
use bibliotax_present::words::size;
use bibliotax_present::{changes, charters};

use super::changes::NEEDED_OTHERWISE;
use crate::exit_status::Exit;
use crate::global::Format;
use crate::json::compare::Comparison;
use crate::ui::{Ui, clean, style, styled};

/// What of a difference is shown beside the packages.
#[derive(Debug, Clone, Copy)]
pub struct Shown {
    /// What a reviewer looks at first.
    pub review: bool,
    /// The direct needs that changes come from.
    pub causes: bool,
}

/// Shows the difference; how the program ends.
pub fn show(ui: &Ui, report: &Report, shown: Shown) -> Exit {
    let (found, projects) = (report.changes(), report.projects());
    let differs = !found.is_empty() || !projects.is_empty() || !report.charters().is_empty();
    let is_otherwise = !differs && report.differs_in_reasons();
    if ui.is_quiet() {
        return if differs || is_otherwise { Exit::of_code("check.findings") } else { Exit::Done };
    }
    match (differs, is_otherwise) {
        (_, true) => ui.answer(NEEDED_OTHERWISE),
        (false, false) => ui.answer("no difference"),
        (true, false) if ui.format() == Format::Markdown => {
            ui.answer_as_is(markdown(&found, &projects, report, shown));
        }
        (true, false) => {
            if shown.review {
                review::lines(&found, report).iter().for_each(|line| ui.answer(line));
            }
            show_changes(ui, &found, &projects, report, shown);
            review::notes(report).iter().for_each(|line| ui.answer(line));
            files::show(ui, &report.files);
        }
    }
    super::warnings(ui, report.known.as_ref().map_or(&[], |known| &known.warnings));
    ui.report(|| Comparison::of(report, is_otherwise, shown.causes));
    Exit::Done
}

fn show_changes(ui: &Ui, found: &[Change<'_>], projects: &ProjectChanges<'_>, report: &Report, shown: Shown) {
    project_lines(projects).iter().for_each(|line| ui.answer(line));
    for line in charters::changed(&report.charters()) {
        ui.answer(format!("{}: {line}", styled(style::STRONG, "charter")));
    }
    if found.is_empty() {
        return;
    }
    let (head, tally) = (styled(style::STRONG, "lock"), changes::tally(found));
    ui.answer(format!("{head}: {tally}; archives {}", sizes(report)));
    let causes = if shown.causes { causes(found, &report.old, &report.new) } else { BTreeMap::new() };
    let row = |change: &Change<'_>| {
        let [kind, rest @ ..] = cells(change, &causes);
        [format!(" {}", styled(changes::look(&change.kind), kind))].into_iter().chain(rest).collect()
    };
    ui.answer(ui.lines_of(&Table::of(found.iter().map(row)).titled(2)));
}

/// The same for a review: a heading, what matters most, a table where there is something to list, and release notes.
fn markdown(found: &[Change<'_>], projects: &ProjectChanges<'_>, report: &Report, shown: Shown) -> String {
    let what = match (found.is_empty(), report.charters().is_empty()) {
        (false, _) => changes::tally(found),
        (true, false) => "charters".to_owned(),
        (true, true) => "projects".to_owned(),
    };
    let mut lines = vec![format!("### {FILE_NAME}: {what}"), String::new()];
    lines.extend(project_lines(projects).iter().map(|line| format!("{}\n", in_markdown(line))));
    let of_charters = charters::changed(&report.charters());
    lines.extend(
        of_charters.iter().map(|line| format!("Charter {}\n", in_markdown(&line.replace(" -> ", " → ")))),
    );
    let first = review::lines(found, report);
    lines.extend(first.iter().map(|line| format!("- {}", in_markdown(&line.replace(" -> ", " → ")))));
    lines.extend((!first.is_empty()).then(String::new));
    let causes = if shown.causes { causes(found, &report.old, &report.new) } else { BTreeMap::new() };
    if !found.is_empty() {
        lines.push("| | package | version | size | licence | |".to_owned());
        lines.push("|---|---|---|---|---|---|".to_owned());
        let row = |change: &Change<'_>| {
            let cells = cells(change, &causes).map(|cell| in_markdown(&cell.replace(" -> ", " → ")));
            format!("| {} |", cells.join(" | "))
        };
        lines.extend(found.iter().map(row));
        lines.push(format!("\nArchives: {}", sizes(report).replace(" -> ", " → ")));
    }
    lines.extend(review::notes_in_markdown(report, in_markdown));
    lines.extend(files::in_markdown(&report.files, in_markdown));
    lines.join("\n")
}

/// The projects that are on one side only.
pub fn project_lines(projects: &ProjectChanges<'_>) -> Vec<String> {
    let line = |what: &str, names: &[&PackageName]| {
        let names: Vec<&str> = names.iter().map(|name| name.as_str()).collect();
        (!names.is_empty()).then(|| format!("{what} {}", names.join(", ")))
    };
    let lines =
        [line("new in the workspace:", &projects.added), line("gone from the workspace:", &projects.gone)];
    lines.into_iter().flatten().collect()
}

/// The size of all archives, before and after.
pub fn sizes(report: &Report) -> String {
    let (before, after) = report.sizes();
    if before == after { size(after) } else { format!("{} -> {}", size(before), size(after)) }
}

/// One change in words: what became of the package, its name, versions, size, licence, and what else is worth a look.
pub fn cells(change: &Change<'_>, causes: &BTreeMap<PackageName, Vec<PackageName>>) -> [String; 6] {
    let package = change.package();
    let both = |shown: fn(&LockedPackage) -> String| match (change.old, change.new) {
        (Some(old), Some(new)) if shown(old) != shown(new) => format!("{} -> {}", shown(old), shown(new)),
        _ => shown(package),
    };
    let beside = [aspects(change), caused_by(change, causes)].into_iter().filter(|text| !text.is_empty());
    let beside = beside.collect::<Vec<_>>().join("; ");
    [
        changes::word(&change.kind).to_owned(),
        package.name.to_string(),
        both(|package| package.version.to_string()),
        both(|package| size(package.size())),
        clean(&both(license)),
        clean(&beside),
    ]
}

/// The direct needs that a change comes from, where that is shown and isn't the package itself.
fn caused_by(change: &Change<'_>, causes: &BTreeMap<PackageName, Vec<PackageName>>) -> String {
    let name = &change.package().name;
    match causes.get(name).map(Vec::as_slice) {
        None | Some([]) => String::new(),
        Some([only]) if only == name => "needed directly".to_owned(),
        Some(all) => {
            let names: Vec<&str> = all.iter().map(PackageName::as_str).collect();
            format!("through {}", names.join(", "))
        }
    }
}

fn license(package: &LockedPackage) -> String {
    package.license.as_ref().map_or_else(|| "licence not declared".to_owned(), ToString::to_string)
}

/// What a reviewer should look at beside the version.
fn aspects(change: &Change<'_>) -> String {
    let (Some(old), Some(new)) = (change.old, change.new) else {
        let package = change.package();
        let is_plain = package.source.registry().is_some();
        return if is_plain { String::new() } else { format!("from {}", package.source) };
    };
    let source = |package: &LockedPackage| {
        if package.stood_in { format!("{}, a stand-in", package.source) } else { package.source.to_string() }
    };
    let components = |package: &LockedPackage| {
        package.components.iter().map(ComponentName::as_str).collect::<Vec<_>>().join(", ")
    };
    let shown = |aspect: &Aspect| match aspect {
        Aspect::Source => Some(format!("source: {} -> {}", source(old), source(new))),
        Aspect::Contents => Some("different contents with the same version".to_owned()),
        Aspect::Components => Some(format!("components: {} -> {}", components(old), components(new))),
        Aspect::Steps => Some("different steps to do by hand".to_owned()),
        Aspect::Exposes => Some("exposes other paths or values to builds".to_owned()),
        Aspect::Needs => Some("other dependencies with the same version".to_owned()),
        Aspect::Card => Some("another card with the same files".to_owned()),
        // It has a column of its own.
        Aspect::License => None,
    };
    change.aspects().iter().filter_map(shown).collect::<Vec<_>>().join("; ")
}
