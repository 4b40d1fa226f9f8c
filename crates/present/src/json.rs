//! JSON that isn't just what a type serialises to.

use bibliotax_core::facet::{Fit, Misfit};
use serde_json::{Value, json};

/// A fit as data.
pub fn fit(fit: &Fit) -> Value {
    match fit {
        Fit::Yes => json!({ "fit": "yes" }),
        Fit::NotDeclared(undeclared) => json!({ "fit": "not-declared", "facets": undeclared }),
        Fit::No(Misfit::Facet { facet, wanted, said }) => {
            json!({ "fit": "no", "facets": [facet], "wanted": wanted, "said": said })
        }
        Fit::No(Misfit::Part { part, there_are }) => {
            json!({ "fit": "no", "facets": [], "part": part, "there-are": there_are })
        }
    }
}
