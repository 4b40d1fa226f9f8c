//! The recorded state of a shelf.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::Slot;
use bibliotax_core::manifest::LinkWay;
use bibliotax_core::version::Version;
use bibliotax_disk::folder::Folder;
use bibliotax_disk::stamp::Stamp;
use serde::{Deserialize, Serialize};

use super::STATE;
use super::links::LINKS;
use super::package_check::PackageContents;

/// The layout that this version writes and reads.
const FORMAT: u64 = 8;

/// Largest state that is read, in bytes.
pub(super) const MAX_SIZE: usize = 256 << 20;

/// All the texts that a shelf is made from, in one digest: where none of them changed, the shelf has nothing to change for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct InputsDigest(blake3::Hash);

impl InputsDigest {
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

/// What is installed. Its text has lines, so that what is looked at each time can be read without the rest: what is compared with
/// the shelf's folders, what is there, and the files of each package behind its place.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct State {
    /// What the whole shelf was made from; `None` while it is being changed, or where only part of it was brought to that.
    pub made: Option<InputsDigest>,
    /// The digest of the lock that the shelf was brought to; `None` while it is being changed.
    pub lock: Option<Digest>,
    /// How the files got there.
    pub link: LinkWay,
    /// Whether something stands in for a package.
    pub has_stand_ins: bool,
    /// Whether rules hold for what is locked.
    pub has_rules: bool,
    /// The targets whose systems can have every name of a file.
    pub tolerant: BTreeSet<String>,
    /// When the files of links were last changed, by their place on the shelf.
    pub stamps: BTreeMap<String, Stamp>,
    /// What is inside the packages, by their place on the shelf.
    pub inside: BTreeMap<String, PackageContents>,
    /// What else was made by us, or is about to be: these paths may be replaced or removed.
    pub claimed: BTreeSet<String>,
    /// Places of packages that something of ours was once at, and isn't any more.
    pub once: BTreeSet<String>,
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
    /// Reads the state of a shelf; where there is none that can be read, nothing is known.
    pub fn read(shelf: &Folder) -> Self {
        Self::of(shelf).unwrap_or_default()
    }

    /// Whether a shelf has a state that can be read.
    pub fn is_in(shelf: &Folder) -> bool {
        Self::of(shelf).is_some()
    }

    fn of(shelf: &Folder) -> Option<Self> {
        Self::parse(&shelf.read_text(STATE, MAX_SIZE).ok().flatten()?)
    }

    /// The state that a text is.
    pub fn parse(text: &str) -> Option<Self> {
        let StateHeader { made, lock, link, has_stand_ins, has_rules, stamps, folders, .. } =
            StateHeader::read(text)?;
        let Rest { packages, claimed, once, tolerant } = serde_json::from_str(text.lines().nth(1)?).ok()?;
        let files = files_of(text);
        let with_files = |(place, folders): (String, _)| {
            let files = files.get(place.as_str()).copied().unwrap_or_default().to_owned();
            (place, PackageContents { folders, files })
        };
        let inside = folders.into_iter().map(with_files).collect();
        let state = Self {
            made,
            lock,
            link,
            has_stand_ins,
            has_rules,
            stamps,
            claimed,
            once,
            tolerant,
            packages,
            inside,
        };
        let is_sound = state.places().all(is_place);
        is_sound.then_some(state)
    }

    /// All places that were made by us, each once.
    pub fn all_places(&self) -> impl Iterator<Item = String> {
        self.places().map(str::to_owned).collect::<BTreeSet<_>>().into_iter()
    }

    /// All places that were made by us.
    fn places(&self) -> impl Iterator<Item = &str> {
        let noted = self.inside.keys().chain(self.stamps.keys());
        self.packages.keys().chain(noted).chain(&self.claimed).map(String::as_str)
    }

    /// Whether what is at a place was made by us.
    pub fn has_made(&self, place: &str) -> bool {
        self.packages.contains_key(place) || self.stamps.contains_key(place) || self.claimed.contains(place)
    }

    /// Whether something of ours is at a place or was once.
    pub fn has_had(&self, place: &str) -> bool {
        self.packages.contains_key(place) || self.claimed.contains(place) || self.once.contains(place)
    }

    /// All places of packages that something of ours is at or was once.
    pub fn all_once(&self) -> BTreeSet<String> {
        let is_link = |place: &&String| place.split_once('/').is_some_and(|(folder, _)| folder == LINKS);
        let claimed = self.claimed.iter().filter(|place| !is_link(place));
        self.packages.keys().chain(claimed).chain(&self.once).cloned().collect()
    }

    /// The folders of targets that packages of ours are in.
    pub fn folders(&self) -> BTreeSet<&str> {
        let folders = self.places().filter_map(|place| Some(place.split_once('/')?.0));
        folders.filter(|folder| *folder != LINKS).collect()
    }
}

/// Whether a text is a place on a shelf: a name, or a name in a folder; files of links may be in a folder there.
fn is_place(text: &str) -> bool {
    let is_name = |name: &str| {
        !matches!(name, "" | "." | "..") && !name.contains(|c: char| c.is_control() || c == '\\')
    };
    let most = if text.starts_with("links/") { 3 } else { 2 };
    text.split('/').count() <= most && text.split('/').all(is_name)
}

/// The second line of a state.
#[derive(Serialize, Deserialize)]
struct Rest {
    packages: BTreeMap<String, ShelvedPackage>,
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    claimed: BTreeSet<String>,
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    once: BTreeSet<String>,
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    tolerant: BTreeSet<String>,
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let folders =
            self.inside.iter().map(|(place, inside)| (place.clone(), inside.folders.clone())).collect();
        let stamps = self.stamps.clone();
        let Self { made, lock, link, has_stand_ins, has_rules, .. } = *self;
        let header =
            StateHeader { format: FORMAT, made, lock, link, has_stand_ins, has_rules, stamps, folders };
        // Names, versions and digests: nothing that could fail to be JSON.
        writeln!(f, "{}", serde_json::to_string(&header).unwrap_or_default())?;
        let rest = Rest {
            packages: self.packages.clone(),
            claimed: self.claimed.clone(),
            once: self.once.clone(),
            tolerant: self.tolerant.clone(),
        };
        writeln!(f, "{}", serde_json::to_string(&rest).unwrap_or_default())?;
        self.inside.iter().try_for_each(|(place, inside)| writeln!(f, "{place}\t{}", inside.files))
    }
}

/// The files of each package as the text of a state has them, by place.
pub fn files_of(text: &str) -> BTreeMap<&str, &str> {
    text.lines().skip(2).filter_map(|line| line.split_once('\t')).collect()
}

/// As much of a state as it takes to see that nothing has to be done: its first line.
#[derive(Debug, Serialize, Deserialize)]
pub struct StateHeader {
    format: u64,
    pub made: Option<InputsDigest>,
    lock: Option<Digest>,
    link: LinkWay,
    #[serde(rename = "has-stand-ins")]
    pub has_stand_ins: bool,
    #[serde(rename = "has-rules")]
    pub has_rules: bool,
    pub stamps: BTreeMap<String, Stamp>,
    /// The folders of each package, by its place: when each was changed, by its path inside.
    pub folders: BTreeMap<String, BTreeMap<String, Stamp>>,
}

impl StateHeader {
    /// Reads the text of a state; `None` if it is none that can be trusted.
    pub fn read(text: &str) -> Option<Self> {
        serde_json::from_str(text.lines().next()?).ok().filter(|header: &Self| header.format == FORMAT)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_state_reads_back_and_one_with_other_places_than_a_shelf_has_is_none() {
        let package = ShelvedPackage { version: "1.4".parse().unwrap(), archives: vec![Digest::of(b"x")] };
        let folders =
            BTreeMap::from([(String::new(), Stamp::default()), ("src".to_owned(), Stamp::default())]);
        let inside = PackageContents { folders, files: "[[\"src/dew.c\",12,0,false]]".to_owned() };
        let state = State {
            stamps: BTreeMap::from([("links/gate.json".to_owned(), Stamp::default())]),
            inside: BTreeMap::from([("kiosk/dew-point".to_owned(), inside)]),
            claimed: BTreeSet::from(["links/gate-kiosk.json".to_owned()]),
            once: BTreeSet::from(["kiosk/moss-map".to_owned()]),
            packages: BTreeMap::from([("kiosk/dew-point".to_owned(), package)]),
            ..State::default()
        };
        let text = state.to_string();
        assert_eq!(State::parse(&text), Some(state));
        for place in ["../dew-point", "kiosk/..", "kiosk/a/b", "/etc", "", "a\\u001b"] {
            assert_eq!(State::parse(&text.replace("links/gate-kiosk.json", place)), None, "{place}");
            assert_eq!(State::parse(&text.replace("kiosk/dew-point", place)), None, "{place}");
        }
        let older = text.replace(&format!("\"format\":{FORMAT}"), &format!("\"format\":{}", FORMAT - 1));
        assert_ne!(older, text);
        assert_eq!(State::parse(&older), None);
    }
}
