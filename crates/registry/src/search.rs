//! Searches a registry by words in names, tags and summaries; tolerates typos.
//!
//! Counted are how well the words match (a name more than a tag, a tag more than a summary), whether the newest release fits
//! the targets, how many packages use it, how fresh it is, and whether it is deprecated.

mod index;
mod rank;
mod searcher;
mod spelling;

use std::cmp::Ordering;
use std::thread;

use bibliotax_core::facet::{Facets, Fit, FitValue, Target};
use bibliotax_core::fitting::{fit, newest_fitting};
use bibliotax_core::history::History;
use bibliotax_core::name::{PackageName, Tag};
use bibliotax_core::upstream::UpstreamVersion;
use bibliotax_core::version::Version;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::model::error::RegistryError;
use crate::model::names::Named;

pub use self::index::{Index, ReadUpTo};
pub use self::searcher::{Searcher, follow};

/// How many packages are on a page.
pub const PAGE: usize = 20;

/// Last page that can be asked for; who wants more says more.
pub const LAST_PAGE: usize = 9;

/// How many histories are looked into at once.
const MAX_CONCURRENT_SEARCHES: usize = 8;

/// What is looked for.
#[derive(Debug, Clone, Default)]
pub struct Query {
    /// The words.
    pub words: String,
    /// Where it has to work.
    pub places: Vec<Target>,
    /// Which page of what is found, from 0.
    pub page: usize,
}

/// What was found.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Found {
    /// The packages, the likeliest first.
    pub hits: Vec<Hit>,
    /// Whether there is another page.
    pub more: bool,
    /// Words that were read as others.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub read_as: Vec<ReadAs>,
    /// Whether nothing has all of the words, and what has some is shown.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_loose: bool,
}

/// A word that was read as others.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadAs {
    /// The word.
    pub word: String,
    /// The others.
    pub instead: Vec<String>,
}

/// A package that was found.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Hit {
    /// The package, or a capability.
    pub name: PackageName,
    /// Its newest release; none of a capability, or where all were withdrawn.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest: Option<Version>,
    /// That release's version as its upstream writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub upstream_version: Option<UpstreamVersion>,
    /// When that was published.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub published: Option<Timestamp>,
    /// What it says of itself in a line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// The words that it wants to be found by.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<Tag>,
    /// Whether it is deprecated.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub deprecated: bool,
    /// How many packages of the registry need it, in their newest releases.
    pub uses: u64,
    /// Of a capability how many packages provide it.
    #[serde(default)]
    pub providers: usize,
    /// How the newest release that fits stands with each place; where none fits, the newest.
    #[serde(default)]
    pub fits: Vec<FitWord>,
    /// The newest release that fits all places; of places none, the newest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest_fitting: Option<Version>,
    /// How likely it is meant, to be compared with others of the same words.
    pub score: f64,
}

impl Hit {
    /// The likelier one first; of those that are as likely, by name.
    pub fn rank(&self, other: &Self) -> Ordering {
        other.score.total_cmp(&self.score).then_with(|| self.name.cmp(&other.name))
    }
}

/// How a release stands with a place, in a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FitWord {
    /// It works there.
    Yes,
    /// It doesn't.
    No,
    /// It says nothing of something that matters.
    NotDeclared,
}

impl From<&Fit> for FitWord {
    fn from(fit: &Fit) -> Self {
        match fit {
            Fit::Yes => Self::Yes,
            Fit::No(_) => Self::No,
            Fit::NotDeclared(_) => Self::NotDeclared,
        }
    }
}

impl Hit {
    fn new(named: Named, uses: u64, score: f64, fits: Vec<FitWord>) -> Self {
        let Named { name, newest, upstream_version, published, summary, tags, deprecated, providers, .. } =
            named;
        let newest_fitting = newest.clone().filter(|_| !fits.contains(&FitWord::No));
        Self {
            name,
            newest,
            upstream_version,
            published,
            summary,
            tags,
            deprecated,
            uses,
            providers,
            fits,
            newest_fitting,
            score,
        }
    }

    /// Says exactly which release fits, for its history is known.
    fn look_into(&mut self, history: &History, places: &[Target], facets: &Facets) {
        let fitting = newest_fitting(history.releases(), places, facets);
        let newest = self.newest.as_ref().and_then(|newest| history.release(newest));
        if let Some(release) = fitting.or(newest) {
            self.fits = places.iter().map(|place| FitWord::from(&fit(release, place, facets))).collect();
        }
        self.newest_fitting = fitting.map(|release| release.entry.version.clone());
    }
}

impl Found {
    /// Says of each package exactly which release fits the places, as far as histories can be had.
    pub fn look_into<H>(&mut self, places: &[Target], facets: &Facets, history: H)
    where
        H: Fn(&PackageName) -> Result<Option<History>, RegistryError> + Sync,
    {
        if places.is_empty() {
            return;
        }
        let share = self.hits.len().div_ceil(MAX_CONCURRENT_SEARCHES).max(1);
        thread::scope(|scope| {
            for hits in self.hits.chunks_mut(share) {
                let history = &history;
                scope.spawn(move || {
                    for hit in hits {
                        if let Ok(Some(history)) = history(&hit.name) {
                            hit.look_into(&history, places, facets);
                        }
                    }
                });
            }
        });
    }
}

/// Places as one text for each, to be sent: `os:linux,arch:aarch64,orchard-runtime:3`, several values with `|` between.
pub fn place_text(place: &Target) -> String {
    let value = |value: &FitValue| match value {
        FitValue::Claim(holds) => if *holds { "yes" } else { "no" }.to_owned(),
        said => said.values().join("|"),
    };
    let all = place.values.iter().map(|(facet, said)| format!("{facet}:{}", value(said)));
    all.collect::<Vec<_>>().join(",")
}

/// The place that a text says, checked against what is known of facets; why it can't be one.
pub fn read_place(text: &str, facets: &Facets) -> Result<Target, String> {
    let mut place = Target { name: text.to_owned(), values: [].into(), is_promise: false };
    for pair in text.split(',').filter(|pair| !pair.is_empty()) {
        let (facet, said) = pair.split_once(':').ok_or_else(|| format!("`{pair}` has no `:`"))?;
        let facet = facet.parse().map_err(|_| format!("`{facet}` is no name of a facet"))?;
        let value = facets.read_value(&facet, said);
        place.is_promise |= matches!(value, FitValue::Many(_));
        place.values.insert(facet, value);
    }
    facets.check(&place.values).map_err(|problem| problem.to_string())?;
    Ok(place)
}
