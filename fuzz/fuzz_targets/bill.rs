//! Bills of materials of any text: reading ends, and no list is longer than the text.

#![no_main]

use bibliotax_bill::listed::read;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(bill) = read(text) {
        assert!(bill.packages.len() <= text.len());
    }
});
