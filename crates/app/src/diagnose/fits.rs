//! Whether what is locked declares that it works on the targets, said at the needs of manifests.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::facet::Fit;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::rules::Stance;
use bibliotax_core::workspace::Project;
use bibliotax_registry::catalogue::registries::Registries;

use super::Diagnostic;
use crate::check::Level;
use crate::failure::Failure;
use crate::fit::{self, Row};
use crate::workspace::{LockFile, ProjectWords, WorkspaceFolder};

/// The needs whose locked releases say nothing of facets that targets have, as far as the rules warn about that.
pub fn of_fits(workspace: &WorkspaceFolder, registries: &Registries) -> Result<Vec<Diagnostic>, Failure> {
    if !matches!(workspace.lock, LockFile::Sound { .. }) {
        return Ok(Vec::new());
    }
    let report = fit::of_lock(workspace, &ProjectWords::default(), registries)?;
    let rows: BTreeMap<&PackageName, &Row> = report.rows.iter().map(|row| (&row.name, row)).collect();
    let diagnostic = |of: (&Project, &Need)| {
        let row = rows.get(&of.1.package)?;
        let message = not_declared(row, &report.places, workspace)?;
        Some(Diagnostic {
            level: Level::Note,
            advice: Some(format!("`bibliotax fit {}` shows where it works", row.name)),
            ..Diagnostic::of_need(of, workspace, "fit.not-declared", message)
        })
    };
    Ok(workspace.declared.needs().filter_map(diagnostic).collect())
}

/// A sentence about what a release doesn't declare, and where that matters.
fn not_declared(row: &Row, places: &[String], workspace: &WorkspaceFolder) -> Option<String> {
    let (mut facets, mut named) = (BTreeSet::new(), Vec::new());
    let rules = &workspace.declared.rules;
    let is_shown = |facet: &&FacetName| rules.undeclared(None, &row.name, facet).0 == Stance::Warn;
    for (fit, place) in row.fits.iter().zip(places) {
        let Some(Fit::NotDeclared(silent)) = fit else { continue };
        let shown: Vec<&FacetName> = silent.iter().filter(is_shown).collect();
        if !shown.is_empty() {
            facets.extend(shown.into_iter().map(FacetName::as_str));
            named.push(place.as_str());
        }
    }
    let facets: Vec<&str> = facets.into_iter().collect();
    let version = &row.release.entry.version;
    (!facets.is_empty()).then(|| {
        format!(
            "{} {version} doesn't declare compatibility with {} ({})",
            row.name,
            facets.join(", "),
            named.join(", ")
        )
    })
}
