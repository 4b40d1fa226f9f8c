//! Manifests and cards of any text: reading ends, and every fault points into the text.

#![no_main]

use bibliotax_core::manifest::{Manifest, read_stated};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let faults = [Manifest::read(text).err(), read_stated(text).err()];
    for fault in faults.into_iter().flatten().flatten() {
        assert!(text.get(fault.span.clone()).is_some(), "{fault:?}");
    }
});
