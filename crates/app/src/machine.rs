//! The machine that the program runs on.

use bibliotax_core::facet::{FitValue, Target};

/// What is known of this machine: its system and its processor.
pub fn this_machine() -> Target {
    let said = [("os", std::env::consts::OS), ("arch", std::env::consts::ARCH)];
    let values = said.into_iter().filter_map(|(facet, value)| {
        // Both are names of facets.
        Some((facet.parse().ok()?, FitValue::One(value.to_owned())))
    });
    Target { name: "this machine".to_owned(), values: values.collect(), is_promise: false }
}
