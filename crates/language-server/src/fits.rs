//! Where a release works, in a few words.

use bibliotax_core::facet::{Facets, Fit, Target};
use bibliotax_core::fitting::fit;
use bibliotax_core::history::Release;

/// Whether a release works at these places, or doesn't declare that; nothing without places.
pub fn fitting(release: &Release, places: &[Target], facets: &Facets) -> Option<String> {
    if places.is_empty() {
        return None;
    }
    let (mut misfits, mut unclear) = (Vec::new(), Vec::new());
    for place in places {
        match fit(release, place, facets) {
            Fit::Yes => {}
            Fit::NotDeclared(_) => unclear.push(place.name.as_str()),
            Fit::No(_) => misfits.push(place.name.as_str()),
        }
    }
    Some(match (misfits.as_slice(), unclear.as_slice()) {
        ([], []) => match places {
            [only] => format!("fits {}", only.name),
            _ => "fits all targets".to_owned(),
        },
        ([], unclear) => format!("doesn't declare whether it fits {}", unclear.join(", ")),
        (misfits, _) => format!("doesn't fit {}", misfits.join(", ")),
    })
}
