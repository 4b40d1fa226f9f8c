//! What is on a shelf, as far as it is known for sure.

use std::collections::BTreeMap;
use std::fmt;
use std::path::Path;

use bibliotax_core::digest::Digest;
use bibliotax_core::version::Version;
use bibliotax_disk::read::read_text;
use serde::{Deserialize, Serialize};

/// The layout that this version writes and reads.
const FORMAT: u64 = 3;

/// Largest state that is read, in bytes.
const LARGEST: usize = 256 << 20;

/// What is installed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct State {
    format: u64,
    /// The digest of the lock that the shelf was brought to; `None` while it is being changed.
    pub lock: Option<Digest>,
    /// The packages that are there, whole and as they should be, by their place on the shelf.
    pub packages: BTreeMap<String, ShelvedPackage>,
}

/// A package on the shelf.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ShelvedPackage {
    /// Its version.
    pub version: Version,
    /// The archives that its files came out of.
    pub archives: Vec<Digest>,
}

impl State {
    /// That these packages are there, for this lock.
    pub fn new(lock: Option<Digest>, packages: BTreeMap<String, ShelvedPackage>) -> Self {
        Self { format: FORMAT, lock, packages }
    }

    /// Reads a state; where there is none that can be trusted, nothing is known.
    pub fn read(path: &Path) -> Self {
        let text = read_text(path, LARGEST).ok().flatten();
        let state: Option<Self> = text.and_then(|text| serde_json::from_str(&text).ok());
        state.filter(|state| state.format == FORMAT).unwrap_or_default()
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Names, versions and digests: nothing that could fail to be JSON.
        writeln!(f, "{}", serde_json::to_string(self).unwrap_or_default())
    }
}
