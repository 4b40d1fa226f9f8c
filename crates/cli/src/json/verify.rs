//! What `verify` prints.

use bibliotax_app::verify::Report;
use bibliotax_core::digest::Digest;
use bibliotax_store::verify::{Damaged, Difference, Finding as Differs};
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::finding::{Finding, Level};

/// What `verify` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Verify {
    /// Whether repairing was only tried.
    pub dry_run: bool,
    /// How many packages were verified.
    pub packages: usize,
    /// How many files were verified.
    pub files: usize,
    /// Whether every byte was read.
    pub full: bool,
    /// What differs on the shelf and what is damaged in the store.
    pub findings: Vec<Finding<ShelfPlace>>,
    /// How many of the findings were repaired.
    pub repaired: usize,
}

impl Document for Verify {
    const COMMAND: &'static str = "verify";
}

/// Where a difference is.
#[derive(Default, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct ShelfPlace {
    /// The target in whose folder it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<String>,
    /// The path inside the package, or on the shelf; empty for all of the package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// The archive that is damaged in the store.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub archive: Option<Digest>,
    /// Folders of other projects that have it on their shelves.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub shared_by: Vec<String>,
}

impl Verify {
    /// What was found.
    pub fn of(report: &Report, full: bool, dry_run: bool, is_repaired: bool) -> Self {
        let verified = &report.verified;
        let on_shelf = verified.findings.iter().map(difference);
        let findings: Vec<Finding<ShelfPlace>> = on_shelf.chain(report.damaged.iter().map(damage)).collect();
        Self {
            dry_run,
            packages: verified.packages,
            files: verified.files,
            full,
            repaired: if is_repaired { findings.len() } else { 0 },
            findings,
        }
    }
}

fn difference(found: &Differs) -> Finding<ShelfPlace> {
    let (code, level, message) = match found.difference {
        Difference::Missing => ("shelf.missing", Level::Error, "it is missing"),
        Difference::Changed => ("shelf.changed", Level::Error, "it was changed"),
        Difference::Extra => ("shelf.extra", Level::Warning, "it doesn't belong there"),
        Difference::Unknown => ("shelf.unknown", Level::Warning, "the store has no copy to compare it with"),
    };
    let place =
        ShelfPlace { target: found.target.clone(), path: Some(found.path.clone()), ..ShelfPlace::default() };
    Finding { package: found.package.clone(), ..Finding::new(code, level, message, place) }
}

fn damage(found: &Damaged) -> Finding<ShelfPlace> {
    let shared_by = found.shared_by.iter().map(|path| path.display().to_string()).collect();
    let place = ShelfPlace { archive: Some(found.archive), shared_by, ..ShelfPlace::default() };
    let message = "its archive is damaged in the store";
    Finding {
        package: Some(found.package.clone()),
        ..Finding::new("store.damaged", Level::Error, message, place)
    }
}
