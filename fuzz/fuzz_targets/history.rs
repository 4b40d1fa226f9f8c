//! Histories of any text: reading ends, and what is read stands in order, each version once.

#![no_main]

use bibliotax_core::history::History;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let package = "moss-map".parse().unwrap();
    let Ok(history) = History::read(&package, text, None) else { return };
    let versions: Vec<_> = history.releases().iter().map(|release| &release.entry.version).collect();
    assert!(versions.windows(2).all(|pair| pair[0] < pair[1]), "{versions:?}");
    assert!(history.releases().is_empty() || history.providers().is_empty());
});
