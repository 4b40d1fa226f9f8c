//! Descriptions of registries of any text: reading ends, and one is written and read back the same.

#![no_main]

use std::path::Path;

use bibliotax_registry::model::description::Description;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let Ok(description) = Description::read(text, Path::new("seedhouse")) else { return };
    let written = description.to_string();
    assert_eq!(Description::read(&written, Path::new("seedhouse")).unwrap().to_string(), written);
});
