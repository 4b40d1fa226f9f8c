//! Which package fits which target, as a matrix.

use bibliotax_app::report::{PackageFacts, Report};
use bibliotax_core::facet::Fit;
use bibliotax_present::words::fit_word;
use serde::Serialize;

use super::package_id;
use crate::render::fit::reasons;

/// Packages against targets and promises.
#[derive(Serialize)]
pub struct Matrix {
    places: Vec<String>,
    /// Those that don't fit everywhere, or don't declare whether they do.
    rows: Vec<MatrixRow>,
    /// Those that fit wherever they are needed.
    fitting: Vec<MatrixRow>,
}

/// A package.
#[derive(Serialize)]
struct MatrixRow {
    href: String,
    name: String,
    version: String,
    cells: Vec<Cell>,
    /// Why it doesn't fit, place by place.
    reasons: Vec<String>,
}

/// How a package fits a place.
#[derive(Serialize)]
struct Cell {
    word: &'static str,
    look: &'static str,
}

impl Matrix {
    /// The matrix of a report.
    pub fn of(report: &Report<'_>, facts: &[PackageFacts<'_>]) -> Self {
        let places = report.fits.places.clone();
        let known = facts.iter().filter(|one| !one.fits.is_empty());
        let fits = |one: &&PackageFacts<'_>| one.fits.iter().flatten().all(|fit| matches!(fit, Fit::Yes));
        let (fitting, others): (Vec<_>, Vec<_>) = known.partition(fits);
        let row = |one: &PackageFacts<'_>| MatrixRow::of(one, report);
        Self {
            places,
            rows: others.into_iter().map(row).collect(),
            fitting: fitting.into_iter().map(row).collect(),
        }
    }
}

impl MatrixRow {
    fn of(facts: &PackageFacts<'_>, report: &Report<'_>) -> Self {
        let (package, facets) = (facts.package, &report.fits.facets);
        let reasons = reasons(facts.fits, &report.fits.places, false, facets);
        let reasons = reasons.into_iter().map(|(words, places)| format!("{}: {words}", places.join(", ")));
        Self {
            href: format!("#{}", package_id(&package.name)),
            name: package.name.to_string(),
            version: package.shown_version(),
            cells: facts.fits.iter().map(Cell::of).collect(),
            reasons: reasons.collect(),
        }
    }
}

impl Cell {
    fn of(found: &Option<Fit>) -> Self {
        let look = match found {
            None => "",
            Some(Fit::Yes) => "yes",
            Some(Fit::NotDeclared(_)) => "unsure",
            Some(Fit::No(_)) => "no",
        };
        Self { word: found.as_ref().map_or("not needed", fit_word), look }
    }
}
