//! Which releases of a package fit a project's targets.

use crate::facet::{Facets, Fit, Target};
use crate::history::Release;

/// How a release stands with a place.
pub fn fit(release: &Release, target: &Target, facets: &Facets) -> Fit {
    facets.fit_release(&release.entry, &release.entry.default_components(), target)
}

/// Whether a release fits all places, as far as it says.
pub fn fits_all(release: &Release, places: &[Target], facets: &Facets) -> bool {
    places.iter().all(|target| !matches!(fit(release, target, facets), Fit::No(_)))
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
