//! What `find` prints.

use bibliotax_app::find::Report;
use bibliotax_core::name::{PackageName, RegistryName, Tag};
use bibliotax_core::version::Version;
use bibliotax_present::words::place_name;
use bibliotax_registry::search::{FitWord, Hit, ReadAs};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::fit::{Answer, Fit};

/// What `find` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Found {
    /// The words.
    pub words: String,
    /// The targets that packages have to fit.
    pub targets: Vec<String>,
    /// The page, counted from 1.
    pub page: usize,
    /// Whether there is another page.
    pub more: bool,
    /// Words that nothing has, and what was searched instead.
    pub read_as: Vec<Replaced>,
    /// Whether nothing has all of the words, so that these packages have some of them.
    pub loose: bool,
    /// The packages, the best match first.
    pub packages: Vec<FoundPackage>,
}

impl Document for Found {
    const COMMAND: &'static str = "find";
}

/// A word that was read as others.
#[derive(Serialize, JsonSchema)]
pub struct Replaced {
    /// The word.
    pub word: String,
    /// What was searched instead.
    pub instead: Vec<String>,
}

/// A package that was found, or a capability.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FoundPackage {
    /// Its name.
    pub name: PackageName,
    /// The newest release that fits all targets; null where none does.
    pub version: Option<Version>,
    /// The registry that has it.
    pub source: RegistryName,
    /// Its newest release.
    pub newest: Option<Version>,
    /// The newest release's version as its upstream writes it.
    pub upstream_version: Option<String>,
    /// When that was published.
    pub published: Option<Timestamp>,
    /// Its summary.
    pub summary: Option<String>,
    /// Its tags.
    pub tags: Vec<Tag>,
    /// Whether it is deprecated.
    pub deprecated: bool,
    /// How many packages of the registry need it.
    pub uses: u64,
    /// Of a capability: how many packages provide it.
    pub providers: usize,
    /// How the release fits each target; of a package that fits nowhere, how its newest release does.
    pub fits: Vec<Fit>,
}

impl From<&Report> for Found {
    fn from(report: &Report) -> Self {
        let query = &report.query;
        let is_alone = query.places.iter().filter(|place| place.is_promise).count() < 2;
        let targets: Vec<String> = query.places.iter().map(|place| place_name(place, is_alone)).collect();
        let replaced =
            |ReadAs { word, instead }: &ReadAs| Replaced { word: word.clone(), instead: instead.clone() };
        Self {
            words: query.words.clone(),
            page: query.page + 1,
            more: report.has_more,
            read_as: report.read_as.iter().map(replaced).collect(),
            loose: report.is_loose,
            packages: report.hits.iter().map(|(registry, hit)| package(registry, hit, &targets)).collect(),
            targets,
        }
    }
}

fn package(registry: &RegistryName, hit: &Hit, targets: &[String]) -> FoundPackage {
    let fit = |(target, fit): (&String, &FitWord)| Fit {
        target: target.clone(),
        facet: None,
        fits: match fit {
            FitWord::Yes => Answer::Yes,
            FitWord::No => Answer::No,
            FitWord::NotDeclared => Answer::NotDeclared,
        },
        reason: None,
    };
    FoundPackage {
        name: hit.name.clone(),
        version: hit.newest_fitting.clone(),
        source: registry.clone(),
        newest: hit.newest.clone(),
        upstream_version: hit.upstream_version.as_ref().map(ToString::to_string),
        published: hit.published,
        summary: hit.summary.clone(),
        tags: hit.tags.clone(),
        deprecated: hit.deprecated,
        uses: hit.uses,
        providers: hit.providers,
        fits: targets.iter().zip(&hit.fits).map(fit).collect(),
    }
}
