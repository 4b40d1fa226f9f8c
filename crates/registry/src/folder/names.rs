//! The list of all names, `names.jsonl.zst`: for search, for mirrors, and for suggestions.
//!
//! A line tells a package's newest release as it stood then; of several lines about one package the last one counts. Each
//! is appended as a frame of its own (RFC 8878 lets frames follow each other), so what a publisher adds costs the same
//! however many packages there are, and who has the beginning of the list only fetches the rest.

use std::collections::BTreeMap;
use std::fs::{self, File, OpenOptions};
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::PathBuf;

use bibliotax_core::card::Card;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::exclusive;
use bibliotax_disk::write::{folder_of, make_folder};
use serde::{Deserialize, Serialize};

use super::Folder;
use crate::error::RegistryError;

/// The file's name in a registry.
pub const NAMES: &str = "names.jsonl.zst";

/// How hard the list is compressed.
const LEVEL: i32 = 3;

/// Largest list that is read, in bytes once unpacked.
const LARGEST: u64 = 4 << 30;

/// What the list tells of a package.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Named {
    /// The package, or a capability.
    pub name: PackageName,
    /// Its newest release that can be chosen; none of a capability, or where all were withdrawn.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub newest: Option<Version>,
    /// What that release says of itself in a line.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
}

/// What a list says of each package; frames that can't be read end it, for they are just being written.
pub fn read_names(packed: &[u8]) -> BTreeMap<PackageName, Named> {
    let mut text = Vec::new();
    // What was read before the end that is missing counts.
    if let Ok(decoder) = zstd::Decoder::new(packed) {
        let _ = decoder.take(LARGEST).read_to_end(&mut text);
    }
    let whole = text.iter().rposition(|byte| *byte == b'\n').map_or(0, |end| end + 1);
    let lines = text[..whole].split(|byte| *byte == b'\n');
    let named = lines.filter_map(|line| serde_json::from_slice::<Named>(line).ok());
    named.map(|named| (named.name.clone(), named)).collect()
}

impl Folder {
    /// Notes in the list of names how these packages stand now.
    pub fn note_names(&self, packages: &[PackageName]) -> Result<(), RegistryError> {
        let mut lines = Vec::new();
        for package in packages {
            let named = self.named(package, &self.history(package)?.unwrap_or_default());
            // Texts: nothing that could fail to be JSON.
            lines.extend(serde_json::to_vec(&named).unwrap_or_default());
            lines.push(b'\n');
        }
        let path = self.names_path();
        let wrong = |error| DiskError::new("write", &path, error);
        let frame = zstd::encode_all(&lines[..], LEVEL).map_err(wrong)?;
        let opened = OpenOptions::new().create(true).truncate(false).read(true).write(true).open(&path);
        let mut file = opened.map_err(wrong)?;
        exclusive(&file, || ()).map_err(wrong)?;
        let noted = self.root.join("private/names.length");
        // Where the last publisher noted its end, it did not die before; else the frames are gone through.
        let length = fs::read_to_string(&noted).ok().and_then(|text| text.trim().parse::<u64>().ok());
        if length == Some(file.metadata().map_err(wrong)?.len()) {
            file.seek(SeekFrom::End(0)).map_err(wrong)?;
        } else {
            cut_torn_end(&mut file).map_err(wrong)?;
        }
        file.write_all(&frame).and_then(|()| file.sync_all()).map_err(wrong)?;
        let length = file.metadata().map_err(wrong)?.len();
        make_folder(folder_of(&noted))?;
        Ok(fs::write(&noted, length.to_string()).at("write", &noted)?)
    }

    /// Makes the list of names from the histories themselves.
    pub fn rebuild_names(&self) -> Result<usize, RegistryError> {
        let path = self.names_path();
        let mut names = self.names();
        names.sort();
        match fs::remove_file(&path) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error).at("remove", &path)?,
            _ => {}
        }
        if !names.is_empty() {
            self.note_names(&names)?;
        }
        Ok(names.len())
    }

    /// What the list of names says, as it is on disk.
    pub fn listed_names(&self) -> Result<BTreeMap<PackageName, Named>, RegistryError> {
        let path = self.names_path();
        match fs::read(&path) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(BTreeMap::new()),
            read => Ok(read_names(&read.at("read", &path)?)),
        }
    }

    /// Where the list of names is.
    pub fn names_path(&self) -> PathBuf {
        self.root.join(NAMES)
    }

    /// What the list has to say of a package.
    pub(crate) fn named(&self, package: &PackageName, history: &History) -> Named {
        let open = |release: &&bibliotax_core::history::Release| release.withdrawn.is_none();
        let finals = history.releases().iter().rev().filter(open);
        let newest = finals.clone().find(|release| !release.entry.version.is_pre()).or(finals.clone().next());
        let card = newest.and_then(|release| {
            serde_json::from_str::<Card>(&self.card_text(&release.entry.card).ok()??).ok()
        });
        Named {
            name: package.clone(),
            newest: newest.map(|release| release.entry.version.clone()),
            summary: card.and_then(|card| card.summary),
        }
    }
}

/// Goes to the end of the last whole frame: what follows is of a publisher that died.
fn cut_torn_end(file: &mut File) -> std::io::Result<()> {
    let mut packed = Vec::new();
    file.seek(SeekFrom::Start(0))?;
    file.read_to_end(&mut packed)?;
    let mut whole = 0;
    while whole < packed.len() {
        match zstd::zstd_safe::find_frame_compressed_size(&packed[whole..]) {
            Ok(size) if size > 0 => whole += size,
            _ => break,
        }
    }
    file.set_len(whole as u64)?;
    file.seek(SeekFrom::Start(whole as u64)).map(drop)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> PackageName {
        text.parse().unwrap()
    }

    #[test]
    fn the_last_line_about_a_package_counts_and_a_torn_end_harms_nobody() {
        let folder = tempfile::tempdir().unwrap();
        let registry = Folder::create(&folder.path().join("r"), "seedhouse", BTreeMap::new()).unwrap();
        registry.note_names(&[name("moss-map"), name("dew-point")]).unwrap();
        let whole = fs::read(registry.names_path()).unwrap();
        let more = zstd::encode_all(&b"{\"name\":\"moss-map\",\"newest\":\"1.0\"}\n"[..], LEVEL).unwrap();
        let after: Vec<u8> = [&whole[..], &more].concat();
        assert_eq!(read_names(&after)[&name("moss-map")].newest, Some("1.0".parse().unwrap()));
        for cut in 1..more.len() {
            let torn = &after[..whole.len() + cut];
            assert_eq!(read_names(torn).len(), 2, "what is whole is read");
            fs::write(registry.names_path(), torn).unwrap();
            fs::write(registry.root().join("private/names.length"), whole.len().to_string()).unwrap();
            registry.note_names(&[name("bark-log")]).unwrap();
            assert_eq!(registry.listed_names().unwrap().len(), 3, "{cut} bytes of a frame");
        }
        assert_eq!(registry.rebuild_names().unwrap(), 0, "no package has a history here");
        assert!(registry.listed_names().unwrap().is_empty());
    }
}
