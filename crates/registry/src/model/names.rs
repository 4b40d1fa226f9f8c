//! The list of all names, `names.jsonl.zst`: for search, for mirrors, and for suggestions.
//!
//! A line tells a package's newest release as it stood then; of several lines about one package the last one counts. Each
//! is appended as a frame of its own (RFC 8878 lets frames follow each other), so what a publisher adds costs the same
//! however many packages there are, and who has the beginning of the list only fetches the rest.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read;
use std::path::Path;

use bibliotax_core::card::{Card, Entry};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Fits;
use bibliotax_core::history::{History, Release};
use bibliotax_core::name::{PackageName, Tag};
use bibliotax_core::upstream::UpstreamVersion;
use bibliotax_core::version::Version;
use bibliotax_disk::DiskError;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::model::error::RegistryError;

/// The file's name in a registry.
pub const NAMES: &str = "names.jsonl.zst";

/// How hard the list is compressed.
const LEVEL: i32 = 3;

/// Bytes of lines after which a new frame begins.
const FRAME: usize = 1 << 20;

/// How many bytes before the place up to which a list was read tell one that grew from another one.
pub const TAIL: u64 = 64;

/// Largest list that is read, in bytes once unpacked.
const MAX_SIZE: u64 = 16 << 30;

/// What the list tells of a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Named {
    /// The package, or a capability.
    pub name: PackageName,
    /// Its newest release that can be chosen; none of a capability, or where all were withdrawn.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest: Option<Version>,
    /// That release's version as its upstream writes it.
    #[serde(rename = "upstream-version", default, skip_serializing_if = "Option::is_none")]
    pub upstream_version: Option<UpstreamVersion>,
    /// When that was published.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub published: Option<Timestamp>,
    /// What that release says of itself in a line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// The words that it wants to be found by.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub tags: Vec<Tag>,
    /// What it says of facets.
    #[serde(default, skip_serializing_if = "Fits::is_empty")]
    pub fits: Fits,
    /// The packages that it needs for running, under all conditions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<PackageName>,
    /// Whether it is deprecated.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub deprecated: bool,
    /// Of a capability how many packages provide it.
    #[serde(default, skip_serializing_if = "is_none")]
    pub providers: usize,
}

fn is_none(providers: &usize) -> bool {
    *providers == 0
}

impl Named {
    /// A package of which nothing but its name is known.
    pub fn only(name: PackageName) -> Self {
        Self {
            name,
            newest: None,
            upstream_version: None,
            published: None,
            summary: None,
            tags: Vec::new(),
            fits: Fits::new(),
            needs: Vec::new(),
            deprecated: false,
            providers: 0,
        }
    }
}

/// What a list has to say of a package; `card` gives the text of one.
pub fn named(
    package: &PackageName,
    history: &History,
    card: impl FnOnce(&Digest) -> Option<String>,
) -> Named {
    let newest = newest(history);
    let entry = newest.map(|release| &release.entry);
    let card = entry.and_then(|entry| serde_json::from_str::<Card>(&card(&entry.card)?).ok());
    let (summary, tags) = card.map(|card| (card.summary, card.tags)).unwrap_or_default();
    let needs: BTreeSet<&PackageName> =
        entry.into_iter().flat_map(Entry::all_running_needs).map(|need| &need.name).collect();
    Named {
        name: package.clone(),
        newest: entry.map(|entry| entry.version.clone()),
        upstream_version: entry.and_then(|entry| entry.upstream_version.clone()),
        published: entry.map(|entry| entry.published),
        summary,
        tags,
        fits: entry.map(|entry| entry.fits.clone()).unwrap_or_default(),
        needs: needs.into_iter().cloned().collect(),
        deprecated: newest.is_some_and(|release| release.deprecated.is_some()),
        providers: history.providers().len(),
    }
}

/// The newest release that was not withdrawn: a final one, if there is any.
pub fn newest(history: &History) -> Option<&Release> {
    let open = |release: &&Release| release.withdrawn.is_none();
    let mut open = history.releases().iter().rev().filter(open);
    open.clone().find(|release| !release.entry.version.is_pre()).or_else(|| open.next())
}

/// Lines as frames of the list, none of them large, so that they can be read without much memory.
pub fn frames(mut lines: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut frames = Vec::new();
    while !lines.is_empty() {
        let end = lines.iter().skip(FRAME).position(|byte| *byte == b'\n');
        let (frame, rest) = lines.split_at(end.map_or(lines.len(), |end| FRAME + end + 1));
        frames.extend(zstd::encode_all(frame, LEVEL)?);
        lines = rest;
    }
    Ok(frames)
}

/// How many of these bytes are whole frames, from the first on.
pub fn whole_frames(packed: &[u8]) -> usize {
    let mut whole = 0;
    while whole < packed.len() {
        match zstd::zstd_safe::find_frame_compressed_size(&packed[whole..]) {
            Ok(size) if size > 0 => whole += size,
            _ => break,
        }
    }
    whole
}

/// What packed lines say, one after the other; what can't be read ends them, for it is just being written.
pub fn read_lines(packed: &[u8], mut heard: impl FnMut(Named)) {
    let mut text = Vec::new();
    // What was read before the end that is missing counts.
    if let Ok(decoder) = zstd::Decoder::new(packed) {
        let _ = decoder.take(MAX_SIZE).read_to_end(&mut text);
    }
    let whole = text.iter().rposition(|byte| *byte == b'\n').map_or(0, |end| end + 1);
    for line in text[..whole].split(|byte| *byte == b'\n') {
        if let Ok(named) = serde_json::from_slice(line) {
            heard(named);
        }
    }
}

/// What a list in a file says of each package; nothing where there is no list.
pub fn read_names(path: &Path) -> Result<BTreeMap<PackageName, Named>, RegistryError> {
    let packed = match std::fs::read(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Vec::new(),
        read => read.map_err(|error| DiskError::new("read", path, error))?,
    };
    let mut names = BTreeMap::new();
    read_lines(&packed, |named| {
        names.insert(named.name.clone(), named);
    });
    Ok(names)
}
