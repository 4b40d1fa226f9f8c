//! Whether releases fit, in words and as data.

use bibliotax_core::facet::{Fit, Misfit, Target};
pub use bibliotax_core::fitting::{fit, fits_all, newest, newest_fitting};
use serde_json::{Value, json};

/// What a place is called beside others; whose promise it is goes without saying where a project is alone.
pub fn place_name(place: &Target, is_alone: bool) -> String {
    match (place.is_promise, is_alone) {
        (false, _) => place.name.clone(),
        (true, true) => "the promise".to_owned(),
        (true, false) => format!("{}'s promise", place.name),
    }
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
