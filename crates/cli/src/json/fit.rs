//! How releases fit targets, and what `fit` prints.

use std::collections::BTreeMap;

use bibliotax_app::fit::levels;
use bibliotax_app::fit::{Report, Row};
use bibliotax_core::facet::{self, Facets, Misfit};
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use bibliotax_present::words;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// Whether a release works on a target. A target has several of these where several facets are not declared.
#[derive(Serialize, JsonSchema)]
pub struct Fit {
    /// The target, or whose promise it is.
    pub target: String,
    /// The facet that decides; null where the release fits, or where a file is missing.
    pub facet: Option<FacetName>,
    /// Whether it works there.
    pub fits: Answer,
    /// Why it doesn't, or isn't known to.
    pub reason: Option<String>,
}

/// Whether a release works on a target.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    /// It works.
    Yes,
    /// It doesn't work.
    No,
    /// The release doesn't declare it.
    NotDeclared,
}

/// How a release fits a target.
pub fn of(target: &str, fit: &facet::Fit, facets: &Facets) -> Vec<Fit> {
    let reason = words::fit(fit, facets);
    let one = |facet: Option<&FacetName>, fits, reason: Option<&str>| Fit {
        target: target.to_owned(),
        facet: facet.cloned(),
        fits,
        reason: reason.map(str::to_owned),
    };
    match fit {
        facet::Fit::Yes => vec![one(None, Answer::Yes, None)],
        facet::Fit::NotDeclared(undeclared) => {
            let of_facet = |facet| one(Some(facet), Answer::NotDeclared, Some("not declared"));
            undeclared.iter().map(of_facet).collect()
        }
        facet::Fit::No(misfit) => {
            let facet = if let Misfit::Facet { facet, .. } = misfit { Some(facet) } else { None };
            vec![one(facet, Answer::No, reason.strip_prefix("no: "))]
        }
    }
}

/// What `fit` prints.
#[derive(Serialize, JsonSchema)]
pub struct FitReport {
    /// The packages.
    pub packages: Vec<FittedPackage>,
    /// What a library could promise, for each ladder that it promises a level of.
    pub ladders: Vec<Ladder>,
}

impl Document for FitReport {
    const COMMAND: &'static str = "fit";
}

/// How a package fits.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FittedPackage {
    /// Its name.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
    /// Where it comes from.
    pub source: Source,
    /// How it fits each target that it is needed on.
    pub fits: Vec<Fit>,
    /// Of a package that was named: the newest release that fits everywhere, if there is one.
    pub newest_that_fits: Option<Version>,
}

/// What a library could promise on a ladder.
#[derive(Serialize, JsonSchema)]
pub struct Ladder {
    /// The ladder.
    pub facet: FacetName,
    /// The level that is promised.
    pub promised: String,
    /// The lowest level that all needs work on.
    pub lowest: Option<String>,
    /// The highest level that all known users have.
    pub shared: Option<String>,
    /// The levels, the lowest first.
    pub levels: Vec<Level>,
    /// For each need, the newest release that works, by level.
    pub newest: BTreeMap<String, BTreeMap<String, Option<String>>>,
}

/// A level of a ladder.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Level {
    /// The level.
    pub level: String,
    /// The needs that require a higher level.
    pub need_more: Vec<String>,
    /// The targets that could use the library.
    pub usable_on: Vec<String>,
    /// The targets that couldn't use it any more.
    pub broken_on: Vec<String>,
}

impl From<&Report> for FitReport {
    fn from(report: &Report) -> Self {
        let package = |row: &Row| FittedPackage {
            name: row.name.clone(),
            version: row.release.entry.version.clone(),
            source: row.source.clone(),
            fits: (report.places.iter().zip(&row.fits))
                .flat_map(|(place, fit)| fit.iter().flat_map(|fit| of(place, fit, &report.facets)))
                .collect(),
            newest_that_fits: row
                .fitting
                .iter()
                .flatten()
                .map(|release| release.entry.version.clone())
                .next(),
        };
        Self {
            packages: report.rows.iter().map(package).collect(),
            ladders: report.ladders.iter().map(Ladder::from).collect(),
        }
    }
}

impl From<&levels::Ladder> for Ladder {
    fn from(ladder: &levels::Ladder) -> Self {
        let level = |level: &levels::Level| Level {
            level: level.name.clone(),
            need_more: level.asking.clone(),
            usable_on: level.usable_on.clone(),
            broken_on: level.broken_on.clone(),
        };
        let names = || ladder.levels.iter().map(|level| level.name.clone());
        let newest =
            ladder.newest.iter().map(|(name, at)| (name.clone(), names().zip(at.iter().cloned()).collect()));
        Self {
            facet: ladder.facet.clone(),
            promised: ladder.promised.clone(),
            lowest: ladder.lowest().map(ToString::to_string),
            shared: ladder.shared().map(ToString::to_string),
            levels: ladder.levels.iter().map(level).collect(),
            newest: newest.collect(),
        }
    }
}
