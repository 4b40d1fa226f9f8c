//! What `fit` shows.

mod levels;

use bibliotax_app::fit::{Report, Row};
use bibliotax_core::facet::{Facets, Fit};
use bibliotax_present::table::Table;
use bibliotax_present::words::{self, count, fit_word};

use crate::json::fit::FitReport;
use crate::ui::{Ui, style, styled};

/// Most targets that stand beside each other; more are listed below each package.
const MAX_COLUMNS: usize = 4;

/// Shows how packages fit.
pub fn show(ui: &Ui, report: &Report) {
    super::warnings(ui, &report.warnings);
    let is_wide = report.places.len() > MAX_COLUMNS;
    if !is_wide {
        show_columns(ui, report);
    }
    let has_reasons = |row: &Row| row.fits.iter().flatten().any(|fit| !matches!(fit, Fit::Yes));
    for row in report.rows.iter().filter(|row| is_wide || has_reasons(row)) {
        show_reasons(ui, row, &report.places, &report.facets);
    }
    ui.answer(match report.misfits() {
        0 => "no declared level excludes any of them".to_owned(),
        1 => format!("1 of {} doesn't fit everywhere", count(report.rows.len(), "package")),
        some => format!("{some} of {} don't fit everywhere", count(report.rows.len(), "package")),
    });
    report.ladders.iter().for_each(|ladder| levels::show(ui, ladder));
    ui.report(|| FitReport::from(report));
}

fn show_columns(ui: &Ui, report: &Report) {
    let head: Vec<&str> = ["", ""].into_iter().chain(report.places.iter().map(String::as_str)).collect();
    let line = |row: &Row| -> Vec<String> {
        let cells = row.fits.iter().map(|fit| match fit {
            None => "not needed".to_owned(),
            Some(fit @ Fit::Yes) => styled(style::GOOD, fit_word(fit)),
            Some(fit @ Fit::NotDeclared(_)) => styled(style::WARNING, fit_word(fit)),
            Some(fit @ Fit::No(_)) => styled(style::BAD, fit_word(fit)),
        });
        [format!(" {}", row.name), row.release.entry.version.to_string()].into_iter().chain(cells).collect()
    };
    ui.answer(ui.lines_of(&Table::of(report.rows.iter().map(line)).headed(&head).titled(2)));
}

/// Below a package, what it says of the places that it does not simply fit; alike for several places in one line.
fn show_reasons(ui: &Ui, row: &Row, places: &[String], facets: &Facets) {
    let title = format!("{} {}", styled(style::STRONG, &row.name), row.release.entry.version);
    if row.fits.iter().all(|fit| *fit == Some(Fit::Yes)) {
        ui.answer(format!("{title}: yes, on all {}", count(places.len(), "target")));
        return;
    }
    ui.answer(title);
    for (words, names) in reasons(&row.fits, places, places.len() > MAX_COLUMNS, facets) {
        ui.answer(format!("  {}: {words}", names.join(", ")));
    }
    match &row.fitting {
        Some(Some(release)) if release.entry.version != row.release.entry.version => {
            ui.answer(format!("  {} is the newest that fits everywhere", release.entry.version));
        }
        Some(None) => ui.answer("  no release fits everywhere"),
        _ => {}
    }
}

/// What is to be said of places, each with those that it is said of; of those that it fits, too, where that is wanted.
pub fn reasons<'p>(
    fits: &[Option<Fit>],
    places: &'p [String],
    with_fitting: bool,
    facets: &Facets,
) -> Vec<(String, Vec<&'p str>)> {
    let mut lines: Vec<(String, Vec<&str>)> = Vec::new();
    for (place, fit) in places.iter().zip(fits) {
        let Some(fit) = fit.as_ref().filter(|fit| with_fitting || !matches!(fit, Fit::Yes)) else { continue };
        let words = words::fit(fit, facets);
        let words = words.strip_prefix("no: ").unwrap_or(&words).to_owned();
        match lines.iter_mut().find(|(other, _)| *other == words) {
            Some((_, names)) => names.push(place),
            None => lines.push((words, vec![place])),
        }
    }
    lines
}
