//! What `survey` shows.

use bibliotax_app::survey::{Report, UsedAdvisory, UsedCharter, UsedPackage, UsedRelease};
use bibliotax_core::version::Version;
use bibliotax_present::table::Table;
use bibliotax_present::words::count;

use crate::global::Format;
use crate::json::survey::Survey;
use crate::ui::{Ui, clean, style, styled};

/// Most workspaces that are named in a line.
const MAX_NAMED: usize = 5;

/// The columns of a table for other programs.
const COLUMNS: [&str; 10] = [
    "package",
    "version",
    "newest",
    "behind",
    "charter",
    "outside",
    "licence",
    "source",
    "advisories",
    "workspace",
];

/// Shows who uses what.
pub fn show(ui: &Ui, report: &Report) {
    if ui.format() == Format::Csv {
        return ui.answer_as_is(csv(report));
    }
    report.charters.iter().for_each(|charter| show_charter(ui, charter, report));
    let charter = if report.charters.is_empty() { None } else { Some("charter") };
    let head = ["", "newest"].into_iter().chain(charter).chain(["used", "licence", "by", ""]);
    let head: Vec<String> = head.map(|text| styled(style::FAINT, text)).collect();
    let head: Vec<&str> = head.iter().map(String::as_str).collect();
    let rows: Vec<Vec<String>> = report.packages.iter().flat_map(|package| rows(package, report)).collect();
    if !rows.is_empty() {
        ui.answer(ui.lines_of(&Table::of(rows).headed(&head)));
    }
    for workspace in &report.workspaces {
        if let Err(why) = &workspace.lock {
            ui.warn(format!("{} isn't part of it: {}", clean(&workspace.name), clean(why)));
        }
    }
    super::warnings(ui, &report.warnings);
    ui.answer(summary(report));
    ui.report(|| Survey::of(report));
}

/// Says which workspaces take a charter on, in which release, and which don't.
fn show_charter(ui: &Ui, charter: &UsedCharter, report: &Report) {
    let used = charter.releases.iter().map(|(version, by)| {
        let shown = version.to_string();
        let shown = if *version < charter.newest { styled(style::WARNING, &shown) } else { shown };
        format!("{shown} by {}", names(by, report))
    });
    let without =
        (!charter.without.is_empty()).then(|| format!("not by {}", names(&charter.without, report)));
    let said: Vec<String> = used.chain(without).collect();
    let name = styled(style::STRONG, &charter.name);
    ui.answer(format!("charter {name}, newest {}: {}", charter.newest, said.join("; ")));
}

/// A row for each release of a package that is used.
fn rows(package: &UsedPackage, report: &Report) -> Vec<Vec<String>> {
    let row = |(number, release): (usize, &UsedRelease)| {
        let (name, newest, allowed) = match number {
            0 => (
                package.name.to_string(),
                package.newest.as_ref().map(Version::to_string).unwrap_or_default(),
                allowed(package),
            ),
            _ => Default::default(),
        };
        let is_behind = package.is_release_behind(release);
        let version = release.version.to_string();
        let version = if is_behind { styled(style::WARNING, &version) } else { version };
        let outside = release.is_outside.then(|| styled(style::WARNING, "outside of its charter"));
        let about: Vec<String> = outside.into_iter().chain(advisories(&release.advisories)).collect();
        let allowed = Some(allowed).filter(|_| !report.charters.is_empty());
        let first = [format!(" {name}"), newest].into_iter().chain(allowed);
        let rest = [version, clean(&release.license), names(&release.by, report), about.join("; ")];
        first.chain(rest).collect()
    };
    package.releases.iter().enumerate().map(row).collect()
}

/// What charters allow of a package.
fn allowed(package: &UsedPackage) -> String {
    package.allowed.iter().map(|allowed| allowed.range.to_string()).collect::<Vec<_>>().join(" and ")
}

fn names(numbers: &[usize], report: &Report) -> String {
    let names = numbers.iter().take(MAX_NAMED).map(|at| clean(&report.workspaces[*at].name));
    let names = names.collect::<Vec<_>>().join(", ");
    let more = numbers.len().saturating_sub(MAX_NAMED);
    if more > 0 { format!("{names} and {more} more") } else { names }
}

fn advisories(all: &[UsedAdvisory]) -> Option<String> {
    let shown = all.iter().map(|one| format!("{} ({})", clean(&one.id), one.severity));
    let shown = shown.collect::<Vec<_>>().join(", ");
    (!shown.is_empty()).then(|| styled(style::BAD, shown))
}

fn summary(report: &Report) -> String {
    let read = report.workspaces.iter().filter(|workspace| workspace.lock.is_ok()).count();
    let several = report.packages.iter().filter(|package| package.releases.len() > 1).count();
    let behind = report.packages.iter().filter(|package| package.is_behind()).count();
    let outside = report.packages.iter().filter(|package| package.is_outside()).count();
    let outside =
        if report.charters.is_empty() { String::new() } else { format!(", {outside} outside of a charter") };
    format!(
        "{} of {}: {several} in several versions, {behind} behind the newest somewhere{outside}",
        count(report.packages.len(), "package"),
        count(read, "workspace")
    )
}

/// A line for each package of each workspace (RFC 4180, with plain line ends).
fn csv(report: &Report) -> String {
    let mut lines = vec![COLUMNS.join(",")];
    for package in &report.packages {
        let allowed = allowed(package);
        for release in &package.releases {
            let advisories: Vec<&str> = release.advisories.iter().map(|one| one.id.as_str()).collect();
            for at in &release.by {
                let is_outside = if release.is_outside { "yes" } else { "no" };
                let is_behind = if package.is_release_behind(release) { "yes" } else { "no" };
                let cells = [
                    package.name.as_str(),
                    release.version.as_str(),
                    package.newest.as_ref().map_or("", Version::as_str),
                    if package.newest.is_some() { is_behind } else { "" },
                    &allowed,
                    if package.allowed.is_empty() { "" } else { is_outside },
                    &release.license,
                    &release.source,
                    &advisories.join(" "),
                    &report.workspaces[*at].name,
                ];
                lines.push(cells.map(cell).join(","));
            }
        }
    }
    lines.join("\n")
}

/// A cell: in quotes where it has to be, and none that a spreadsheet takes for a formula.
fn cell(text: &str) -> String {
    let text = clean(text);
    let text = if text.starts_with(['=', '+', '-', '@']) { format!("'{text}") } else { text };
    if text.contains([',', '"', '\n', '\r']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text }
}
