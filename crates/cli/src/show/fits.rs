//! Whether releases fit, in words and as data.

use bibliotax_core::facet::{Facets, Fit, Misfit, Target};
use bibliotax_core::history::Release;
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
        Fit::No(_) => "no",
    }
}

/// A fit as data.
pub fn as_json(fit: &Fit) -> Value {
    match fit {
        Fit::Yes => json!({ "fit": "yes" }),
        Fit::NotStated(unstated) => json!({ "fit": "not-stated", "facets": unstated }),
        Fit::No(Misfit::Facet { facet, wanted, said }) => {
            json!({ "fit": "no", "facets": [facet], "wanted": wanted, "said": said })
        }
        Fit::No(Misfit::Part { part, there_are }) => {
            json!({ "fit": "no", "facets": [], "part": part, "there-are": there_are })
        }
    }
}

/// How a release stands with a place, taken with what comes along by default.
pub fn fit(release: &Release, place: &Target, facets: &Facets) -> Fit {
    facets.fit_release(&release.entry, &release.entry.default_components(), place)
}

/// Whether a release fits all places, as far as it says.
pub fn fits_all(release: &Release, places: &[Target], facets: &Facets) -> bool {
    places.iter().all(|place| !matches!(fit(release, place, facets), Fit::No(_)))
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
