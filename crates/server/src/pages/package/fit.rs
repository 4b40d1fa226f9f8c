//! The table of releases and facets, and whether each fits what the visitor has chosen.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::facet::{Facet, Facets, Fit, FitValue, Fits, Target};
use bibliotax_core::fitting::fit;
use bibliotax_core::history::{History, Release};
use bibliotax_core::name::FacetName;
use bibliotax_core::version::Version;
use bibliotax_present::dates::date;
use bibliotax_present::words;
use serde::Serialize;
use url::form_urlencoded;

/// Most releases in the table.
const MAX_RELEASES: usize = 15;

/// What a value of `any` is in cards.
const ANY: &str = "any";

/// The table.
#[derive(Serialize, Default)]
pub struct FitTable {
    facets: Vec<String>,
    picks: Vec<Pick>,
    is_picked: bool,
    rows: Vec<Row>,
    more: usize,
}

/// Something that a visitor can choose.
#[derive(Serialize)]
struct Pick {
    facet: String,
    values: Vec<String>,
    chosen: String,
}

#[derive(Serialize)]
struct Row {
    version: String,
    published: String,
    standing: String,
    is_shown: bool,
    cells: Vec<String>,
    verdict: String,
    /// `yes`, `no` or `unsure`.
    mark: &'static str,
}

/// The table of a package's releases, the newest first, with verdicts on what the query string chooses as `on-FACET=VALUE`.
pub fn table(history: &History, shown: &Version, facets: &Facets, query: &str) -> FitTable {
    let releases: Vec<&Release> = history.releases().iter().rev().collect();
    let columns = columns(&releases);
    let picks = columns.iter().map(|(facet, values)| pick(facet, values, facets, query));
    // There is nothing to choose where no value is known.
    let picks: Vec<Pick> = picks.filter(|pick| !pick.values.is_empty()).collect();
    let target = target(&picks, facets);
    let is_picked = !target.values.is_empty();
    let row = |release: &&Release| row(release, shown, &columns, facets, is_picked.then_some(&target));
    FitTable {
        facets: columns.keys().map(ToString::to_string).collect(),
        is_picked,
        rows: releases.iter().take(MAX_RELEASES).map(row).collect(),
        more: releases.len().saturating_sub(MAX_RELEASES),
        picks,
    }
}

/// The facets that any release or file speaks of, with the values that they say.
fn columns(releases: &[&Release]) -> BTreeMap<FacetName, BTreeSet<String>> {
    let mut columns: BTreeMap<FacetName, BTreeSet<String>> = BTreeMap::new();
    for entry in releases.iter().map(|release| &release.entry) {
        for said in [&entry.fits].into_iter().chain(entry.files.iter().map(|file| &file.only_for)) {
            for (facet, value) in said {
                let values = value.values().iter().filter(|value| *value != ANY).cloned();
                columns.entry(facet.clone()).or_default().extend(values);
            }
        }
    }
    columns
}

fn pick(facet: &FacetName, said: &BTreeSet<String>, facets: &Facets, query: &str) -> Pick {
    let values: Vec<String> = match facets.get(facet) {
        Some(Facet::Ladder { levels, .. }) => levels.clone(),
        Some(Facet::Claim) => vec!["yes".to_owned(), "no".to_owned()],
        Some(Facet::Choice { values }) if !values.is_empty() => values.clone(),
        _ => said.iter().cloned().collect(),
    };
    let wanted = format!("on-{facet}");
    let chosen = form_urlencoded::parse(query.as_bytes()).find(|(key, _)| *key == *wanted);
    let chosen = chosen.map(|(_, value)| value.into_owned()).filter(|value| values.contains(value));
    Pick { facet: facet.to_string(), values, chosen: chosen.unwrap_or_default() }
}

fn target(picks: &[Pick], facets: &Facets) -> Target {
    let chosen = picks.iter().filter(|pick| !pick.chosen.is_empty());
    let value = |pick: &Pick| {
        let facet: FacetName = pick.facet.parse().ok()?;
        Some((facet.clone(), facets.read_value(&facet, &pick.chosen)))
    };
    Target { name: "yours".to_owned(), values: chosen.filter_map(value).collect(), is_promise: false }
}

fn row(
    release: &Release,
    shown: &Version,
    columns: &BTreeMap<FacetName, BTreeSet<String>>,
    facets: &Facets,
    target: Option<&Target>,
) -> Row {
    let entry = &release.entry;
    let said = |facet: &FacetName| said(&entry.fits, facet, facets);
    let fit = target.map(|target| fit(release, target, facets));
    let standing = match (&release.withdrawn, &release.deprecated) {
        (Some(_), _) => "withdrawn",
        (None, Some(_)) => "deprecated",
        (None, None) if entry.version.is_pre() => "pre-release",
        (None, None) => "",
    };
    Row {
        version: entry.version.to_string(),
        published: date(entry.published),
        standing: standing.to_owned(),
        is_shown: entry.version == *shown,
        cells: columns.keys().map(said).collect(),
        verdict: fit.as_ref().map(|fit| words::fit(fit, facets)).unwrap_or_default(),
        mark: match fit {
            Some(Fit::Yes) => "yes",
            Some(Fit::No(_)) => "no",
            _ => "unsure",
        },
    }
}

fn said(fits: &Fits, facet: &FacetName, facets: &Facets) -> String {
    match (fits.get(facet), facets.get(facet)) {
        (None, _) => "not declared".to_owned(),
        (Some(value @ FitValue::One(_)), Some(Facet::Ladder { .. })) => format!("from {value}"),
        (Some(value), _) => value.to_string(),
    }
}
