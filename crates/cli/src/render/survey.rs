//! What `survey` shows.

use bibliotax_app::survey::{Report, UsedAdvisory, UsedPackage, UsedRelease};
use bibliotax_core::version::Version;
use bibliotax_present::table::Table;
use bibliotax_present::words::count;

use crate::global::Format;
use crate::json::survey::Survey;
use crate::ui::{Ui, clean, style, styled};

/// Most workspaces that are named in a line.
const MAX_NAMED: usize = 5;

/// The columns of a table for other programs.
const COLUMNS: [&str; 8] =
    ["package", "version", "newest", "behind", "licence", "source", "advisories", "workspace"];

/// Shows who uses what.
pub fn show(ui: &Ui, report: &Report) {
    if ui.format() == Format::Csv {
        return ui.answer_as_is(csv(report));
    }
    let head = ["", "newest", "used", "licence", "by", ""].map(|text| styled(style::FAINT, text));
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

/// A row for each release of a package that is used.
fn rows(package: &UsedPackage, report: &Report) -> Vec<Vec<String>> {
    let row = |(number, release): (usize, &UsedRelease)| {
        let (name, newest) = match number {
            0 => (
                package.name.to_string(),
                package.newest.as_ref().map(Version::to_string).unwrap_or_default(),
            ),
            _ => Default::default(),
        };
        let is_behind = package.is_release_behind(release);
        let version = release.version.to_string();
        let version = if is_behind { styled(style::WARNING, &version) } else { version };
        vec![
            format!(" {name}"),
            newest,
            version,
            clean(&release.license),
            by(release, report),
            advisories(&release.advisories),
        ]
    };
    package.releases.iter().enumerate().map(row).collect()
}

fn by(release: &UsedRelease, report: &Report) -> String {
    let names = release.by.iter().take(MAX_NAMED).map(|at| clean(&report.workspaces[*at].name));
    let names = names.collect::<Vec<_>>().join(", ");
    let more = release.by.len().saturating_sub(MAX_NAMED);
    if more > 0 { format!("{names} and {more} more") } else { names }
}

fn advisories(all: &[UsedAdvisory]) -> String {
    let shown = all.iter().map(|one| format!("{} ({})", clean(&one.id), one.severity));
    let shown = shown.collect::<Vec<_>>().join(", ");
    if shown.is_empty() { shown } else { styled(style::BAD, shown) }
}

fn summary(report: &Report) -> String {
    let read = report.workspaces.iter().filter(|workspace| workspace.lock.is_ok()).count();
    let several = report.packages.iter().filter(|package| package.releases.len() > 1).count();
    let behind = report.packages.iter().filter(|package| package.is_behind()).count();
    format!(
        "{} of {}: {several} in several versions, {behind} behind the newest somewhere",
        count(report.packages.len(), "package"),
        count(read, "workspace")
    )
}

/// A line for each package of each workspace (RFC 4180, with plain line ends).
fn csv(report: &Report) -> String {
    let mut lines = vec![COLUMNS.join(",")];
    for package in &report.packages {
        for release in &package.releases {
            let advisories: Vec<&str> = release.advisories.iter().map(|one| one.id.as_str()).collect();
            for at in &release.by {
                let is_behind = if package.is_release_behind(release) { "yes" } else { "no" };
                let cells = [
                    package.name.as_str(),
                    release.version.as_str(),
                    package.newest.as_ref().map_or("", Version::as_str),
                    if package.newest.is_some() { is_behind } else { "" },
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
