//! What is on a shelf, as far as it is known for sure.

use std::collections::BTreeMap;
use std::fmt;
use std::path::Path;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::Slot;
use bibliotax_core::manifest::LinkWay;
use bibliotax_core::version::Version;
use bibliotax_disk::read::read_text;
use bibliotax_disk::stamp::Stamp;
use serde::{Deserialize, Serialize};

/// The layout that this version writes and reads.
const FORMAT: u64 = 4;

/// Largest state that is read, in bytes.
pub(super) const LARGEST: usize = 256 << 20;

/// All the texts that a shelf is made from, in one digest: where none of them changed, the shelf has nothing to change for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Made(blake3::Hash);

impl Made {
    /// The digest of these texts, in this order.
    pub fn from_texts<'t>(texts: impl IntoIterator<Item = &'t [u8]>) -> Self {
        let mut hasher = blake3::Hasher::new();
        for text in texts {
            hasher.update(&(text.len() as u64).to_le_bytes());
            hasher.update(text);
        }
        Self(hasher.finalize())
    }
}

/// What is installed. Its text has two lines, so that what is looked at each time can be read without the rest.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct State {
    /// What the whole shelf was made from; `None` while it is being changed, or where only part of it was brought to that.
    pub made: Option<Made>,
    /// The digest of the lock that the shelf was brought to; `None` while it is being changed.
    pub lock: Option<Digest>,
    /// How the files got there.
    pub link: LinkWay,
    /// When the folders of packages and the files of links were made, by their place on the shelf.
    pub stamps: BTreeMap<String, Stamp>,
    /// The packages that are there, whole and as they should be, by their place on the shelf.
    pub packages: BTreeMap<String, ShelvedPackage>,
}

/// A package on the shelf.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ShelvedPackage {
    /// Its version.
    pub version: Version,
    /// The trees of the archives that its files came out of.
    pub archives: Vec<Digest>,
}

impl ShelvedPackage {
    /// What a slot is once it has been put on a shelf.
    pub fn of(slot: &Slot<'_>) -> Self {
        let archives = slot.files.iter().map(|file| file.tree()).collect();
        Self { version: slot.package.version.clone(), archives }
    }
}

impl State {
    /// Reads a state; where there is none that can be trusted, nothing is known.
    pub fn read(path: &Path) -> Self {
        let text = read_text(path, LARGEST).ok().flatten();
        text.and_then(|text| Self::parse(&text)).unwrap_or_default()
    }

    fn parse(text: &str) -> Option<Self> {
        let Glimpse { made, lock, link, stamps, .. } = Glimpse::read(text)?;
        let packages = serde_json::from_str(text.split_once('\n')?.1).ok()?;
        let stamps = stamps.into_iter().map(|(path, stamp)| (path.to_owned(), stamp)).collect();
        Some(Self { made, lock, link, stamps, packages })
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let stamps = self.stamps.iter().map(|(path, stamp)| (path.as_str(), *stamp)).collect();
        let glimpse = Glimpse { format: FORMAT, made: self.made, lock: self.lock, link: self.link, stamps };
        // Names, versions and digests: nothing that could fail to be JSON.
        writeln!(f, "{}", serde_json::to_string(&glimpse).unwrap_or_default())?;
        writeln!(f, "{}", serde_json::to_string(&self.packages).unwrap_or_default())
    }
}

/// As much of a state as it takes to see that nothing has to be done: its first line.
#[derive(Debug, Serialize, Deserialize)]
pub struct Glimpse<'t> {
    format: u64,
    pub made: Option<Made>,
    lock: Option<Digest>,
    link: LinkWay,
    #[serde(borrow)]
    pub stamps: BTreeMap<&'t str, Stamp>,
}

impl<'t> Glimpse<'t> {
    /// Reads the text of a state; `None` if it is none that can be trusted.
    pub fn read(text: &'t str) -> Option<Self> {
        serde_json::from_str(text.lines().next()?).ok().filter(|glimpse: &Self| glimpse.format == FORMAT)
    }
}
