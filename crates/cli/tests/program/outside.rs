//! What some tests need of a machine beside Rust: their tests are `#[ignore]`d, and `.ci/run` sets it up and runs them.

use std::ffi::OsString;

/// What a variable names that `.ci/run` sets.
pub fn needed(variable: &str) -> OsString {
    std::env::var_os(variable).unwrap_or_else(|| panic!("{variable} is not set; `.ci/run` sets it"))
}
