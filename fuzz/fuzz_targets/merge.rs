//! Manifests of any text on three sides: merging ends, what nobody changed stays as it is, and both directions tell the same keys.

#![no_main]

use bibliotax_core::merge::{Versions, merge_manifests};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let mut sides = text.splitn(3, '\0');
    let mut side = || sides.next().unwrap_or_default();
    let (base, ours, theirs) = (side(), side(), side());
    let names = ["ours", "theirs"];
    let merged = merge_manifests(Versions { base, ours, theirs }, names);
    let mirrored = merge_manifests(Versions { base, ours: theirs, theirs: ours }, names);
    let keys = |merged: &Option<bibliotax_core::merge::MergedManifest>| {
        merged.as_ref().map(|merged| {
            let mut keys = merged.conflicts.clone();
            keys.sort();
            keys
        })
    };
    assert_eq!(keys(&merged), keys(&mirrored));
    if let Some(same) = merge_manifests(Versions { base, ours: base, theirs: base }, names) {
        assert!(same.conflicts.is_empty());
    }
});
