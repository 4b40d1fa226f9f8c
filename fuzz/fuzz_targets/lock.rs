//! Locks of any text: reading ends, a fault points into the text, and what can be read is written and read back the same.

#![no_main]

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, salvage};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Err(broken) = Lock::read(text) {
        assert!(text.get(broken.fault.span.clone()).is_some(), "{:?}", broken.fault);
    }
    // The digest of a lock hides most of it from a fuzzer: its lines are read on their own, and get the right one.
    let packages = salvage(text);
    let lock = Lock {
        made_from: Digest::of(b""),
        registries: Default::default(),
        charters: Vec::new(),
        projects: Vec::new(),
        packages,
    };
    let written = lock.to_string();
    if let Ok(again) = Lock::read(&written) {
        assert_eq!(again.to_string(), written);
    }
});
