//! Whether releases fit, in words and as data.

use bibliotax_core::facet::{Facet, Facets, Fit, FitValue, Target};
use bibliotax_core::history::Release;
use bibliotax_core::name::FacetName;
use serde_json::{Value, json};

/// What a place is called beside others.
pub fn place_name(place: &Target) -> String {
    if place.is_promise { "the promise".to_owned() } else { place.name.clone() }
}

/// One word: `yes`, `no`, `not stated`.
pub fn word(fit: &Fit) -> &'static str {
    match fit {
        Fit::Yes => "yes",
        Fit::NotStated(_) => "not stated",
        Fit::No { .. } => "no",
    }
}

/// The word, and why.
pub fn words(fit: &Fit, facets: &Facets) -> String {
    match fit {
        Fit::Yes => "yes".to_owned(),
        Fit::NotStated(unstated) => format!("not stated: {}", names(unstated)),
        Fit::No { facet, wanted, said } => match (facets.get(facet), said) {
            (Some(Facet::Ladder { .. }), _) => format!("no: asks for {facet} {said}, not {wanted}"),
            (_, FitValue::Claim(_)) => format!("no: says that {facet} isn't so"),
            _ => format!("no: works with {facet} {said} only"),
        },
    }
}

pub fn names(facets: &[FacetName]) -> String {
    facets.iter().map(FacetName::as_str).collect::<Vec<_>>().join(", ")
}

/// A fit as data.
pub fn as_json(fit: &Fit) -> Value {
    match fit {
        Fit::Yes => json!({ "fit": "yes" }),
        Fit::NotStated(unstated) => json!({ "fit": "not-stated", "facets": unstated }),
        Fit::No { facet, wanted, said } => {
            json!({ "fit": "no", "facets": [facet], "wanted": wanted, "said": said })
        }
    }
}

/// Whether a release fits all places, as far as it says.
pub fn fits_all(release: &Release, places: &[Target], facets: &Facets) -> bool {
    places.iter().all(|place| !matches!(facets.fit(&release.entry.fits, place), Fit::No { .. }))
}

/// The newest release that could be chosen: final and not withdrawn.
pub fn newest(releases: &[Release]) -> Option<&Release> {
    releases.iter().rev().find(|release| is_open(release))
}

/// The newest of those that fits all places.
pub fn newest_fitting<'r>(
    releases: &'r [Release],
    places: &[Target],
    facets: &Facets,
) -> Option<&'r Release> {
    releases.iter().rev().find(|release| is_open(release) && fits_all(release, places, facets))
}

fn is_open(release: &Release) -> bool {
    !release.entry.version.is_pre() && release.withdrawn.is_none()
}
