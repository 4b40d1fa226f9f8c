//! Manifests and cards of any text: reading ends, and every fault and every fix points into the text.

#![no_main]

use bibliotax_core::manifest::{Manifest, read_stated};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let faults = [Manifest::read(text).err(), read_stated(text).err()];
    for fault in faults.into_iter().flatten().flatten() {
        assert!(text.get(fault.span.clone()).is_some(), "{fault:?}");
        for fix in &fault.fixes {
            let edit = fix.edit(text);
            assert!(edit.is_none_or(|(span, _)| text.get(span).is_some()), "{fix:?}");
            let _ = fix.title(text);
        }
    }
});
