//! The tree that an archive is unpacked into: checking paths, writing files, listing what was written.

use std::collections::BTreeMap;
use std::fs::{self, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};

use bibliotax_core::card::Archive;
use bibliotax_core::inner_path::{InnerPath, PathSet, clashing};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::stamp::Stamp;
use serde::{Deserialize, Serialize};

use crate::error::{ArchiveError, shown};

/// What an entry takes in memory while an archive is unpacked, beside its name, and the most that all may take, in bytes.
const ENTRY_WEIGHT: usize = 480;
const MAX_WEIGHT: usize = 48 << 20;

/// Longest chain of links to links.
const MAX_CHAIN_LEN: usize = 16;

/// What is in an unpacked tree.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Listing {
    /// The release that it first came for, for people to know it by; others may have the same archive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// Its files, sorted by path.
    pub files: Vec<TreeFile>,
}

/// A file of an unpacked tree.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TreeFile {
    /// Its path inside the package.
    pub path: InnerPath,
    /// Its size in bytes.
    pub size: u64,
    /// Whether it can be run.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
    /// When it was written; a file of this stamp and size is taken to hold what it did then.
    #[serde(default)]
    pub modified: Stamp,
    /// BLAKE3 digest of its contents.
    #[serde(with = "hex")]
    pub blake3: blake3::Hash,
}

/// A digest as text, which is read three times as fast as a list of numbers.
mod hex {
    use serde::{Deserialize, Deserializer, Serializer, de};

    pub fn serialize<S: Serializer>(hash: &blake3::Hash, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&hash.to_hex())
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<blake3::Hash, D::Error> {
        let text = <&str>::deserialize(deserializer)?;
        blake3::Hash::from_hex(text).map_err(de::Error::custom)
    }
}

/// Writes a tree, entry by entry.
pub struct TreeWriter {
    folder: PathBuf,
    /// The folder of the archive that the tree is; without it, all of it.
    strip: Option<InnerPath>,
    paths: PathSet,
    files: BTreeMap<String, TreeFile>,
    links: Vec<(InnerPath, String)>,
    /// What all entries take in memory, in bytes.
    weight: usize,
    /// One buffer for all files.
    buffer: Box<[u8]>,
}

impl TreeWriter {
    /// A writer into a new and empty folder, for an archive.
    pub fn new(folder: &Path, archive: &Archive) -> Self {
        let (paths, files, links) = Default::default();
        let buffer = vec![0; 64 << 10].into_boxed_slice();
        let (folder, strip) = (folder.to_owned(), archive.strip.clone());
        Self { folder, strip, paths, files, links, weight: 0, buffer }
    }

    /// Adds a folder; those above a file need not be added.
    pub fn add_folder(&mut self, entry: &str) -> Result<(), ArchiveError> {
        if matches!(entry, "." | "./" | "/") {
            return Ok(());
        }
        let Some(path) = self.inside(entry)? else { return Ok(()) };
        self.weigh(entry, &path)?;
        let added = self.paths.add_folder(&path);
        added.map_err(|clash| self.clash(entry, clash))
    }

    /// That an entry clashes with one that came before.
    fn clash(&self, entry: &str, clash: &str) -> ArchiveError {
        let paths = self.files.values().map(|file| &file.path).chain(self.links.iter().map(|(path, _)| path));
        // A folder that holds nothing is remembered by no path.
        let other = clashing(clash, paths).unwrap_or(clash).to_owned();
        ArchiveError::Clash { entry: shown(entry.as_bytes()), other }
    }

    /// Counts what an entry takes in memory.
    fn weigh(&mut self, entry: &str, path: &InnerPath) -> Result<(), ArchiveError> {
        self.weight += ENTRY_WEIGHT + 2 * path.as_str().len();
        if self.weight > MAX_WEIGHT {
            let limit = format!("some {} files, or names of {} MiB", MAX_WEIGHT / 600, MAX_WEIGHT >> 20);
            return Err(ArchiveError::TooMuch { entry: shown(entry.as_bytes()), limit });
        }
        Ok(())
    }

    /// Adds a file with the contents that `source` gives until its end.
    ///
    /// Errors of the source are reported by `unreadable`, those of the disk as what they are.
    pub fn add_file(
        &mut self,
        entry: &str,
        executable: bool,
        source: &mut dyn Read,
        unreadable: impl FnOnce(&io::Error) -> ArchiveError,
    ) -> Result<(), ArchiveError> {
        let Some(path) = self.claim(entry)? else { return Ok(()) };
        let target = self.folder.join(path.as_str());
        let mut file = create(&target, executable)?;
        let mut hasher = blake3::Hasher::new();
        let mut size = 0;
        loop {
            let read = match source.read(&mut self.buffer) {
                Ok(0) => break,
                Ok(read) => read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(unreadable(&error)),
            };
            size += read as u64;
            hasher.update(&self.buffer[..read]);
            file.write_all(&self.buffer[..read]).at("write", &target)?;
        }
        let modified = Stamp::of(&file.metadata().at("look at", &target)?);
        let name = path.to_string();
        let file = TreeFile { path, size, executable, modified, blake3: hasher.finalize() };
        self.files.insert(name, file);
        Ok(())
    }

    /// Adds a link whose target is seen from the folder that the link is in.
    pub fn add_link(&mut self, entry: &str, target: &str) -> Result<(), ArchiveError> {
        let Some(path) = self.claim(entry)? else { return Ok(()) };
        let folder = path.as_str().rsplit_once('/').map_or("", |(folder, _)| folder);
        let bad =
            || ArchiveError::BadLink { entry: shown(entry.as_bytes()), target: shown(target.as_bytes()) };
        let resolved = lexically_inside(folder, target).ok_or_else(bad)?;
        self.links.push((path, resolved));
        Ok(())
    }

    /// Adds a second name of a file, seen from the tree's own folder.
    pub fn add_second_name(&mut self, entry: &str, target: &str) -> Result<(), ArchiveError> {
        let Some(path) = self.claim(entry)? else { return Ok(()) };
        let bad =
            || ArchiveError::BadLink { entry: shown(entry.as_bytes()), target: shown(target.as_bytes()) };
        let resolved = lexically_inside("", target).ok_or_else(bad)?;
        let resolved = match &self.strip {
            Some(strip) => below(&resolved, strip).ok_or_else(bad)?.to_owned(),
            None => resolved,
        };
        self.links.push((path, resolved));
        Ok(())
    }

    /// Turns links into files and ends in the listing.
    pub fn finish(mut self) -> Result<Listing, ArchiveError> {
        if let Some(strip) = self.strip.as_ref().filter(|_| self.files.is_empty()) {
            return Err(ArchiveError::NothingThere { folder: strip.to_string() });
        }
        let links: BTreeMap<String, String> =
            self.links.iter().map(|(path, target)| (path.to_string(), target.clone())).collect();
        for (path, target) in &self.links {
            let bad = || ArchiveError::BadLink { entry: path.to_string(), target: shown(target.as_bytes()) };
            let file = self.file_behind(target, &links).ok_or_else(bad)?.clone();
            let (from, to) = (self.folder.join(file.path.as_str()), self.folder.join(path.as_str()));
            fs::hard_link(&from, &to).or_else(|_| fs::copy(&from, &to).map(|_| ())).at("write", &to)?;
            let modified = Stamp::of(&fs::symlink_metadata(&to).at("look at", &to)?);
            self.files.insert(path.to_string(), TreeFile { path: path.clone(), modified, ..file });
        }
        Ok(Listing { of: None, files: self.files.into_values().collect() })
    }

    /// The real file at the end of a chain of links.
    fn file_behind(&self, target: &str, links: &BTreeMap<String, String>) -> Option<&TreeFile> {
        let mut target = target;
        for _ in 0..MAX_CHAIN_LEN {
            match links.get(target) {
                Some(further) => target = further,
                None => return self.files.get(target),
            }
        }
        None
    }

    /// The path in the tree of an entry; `None` where it is outside of the folder that the tree is.
    fn inside(&self, entry: &str) -> Result<Option<InnerPath>, ArchiveError> {
        let path = checked(entry)?;
        let Some(strip) = &self.strip else { return Ok(Some(path)) };
        below(path.as_str(), strip).map(checked).transpose()
    }

    /// Checks a file's path, claims it and makes the folders above it; `None` where the file isn't wanted.
    fn claim(&mut self, entry: &str) -> Result<Option<InnerPath>, ArchiveError> {
        let Some(path) = self.inside(entry)? else { return Ok(None) };
        self.weigh(entry, &path)?;
        let added = self.paths.add_file(&path);
        added.map_err(|clash| self.clash(entry, clash))?;
        if let Some(folder) = path.folders().last() {
            let folder = self.folder.join(folder);
            fs::create_dir_all(&folder).at("make the folder", &folder)?;
        }
        Ok(Some(path))
    }
}

fn checked(entry: &str) -> Result<InnerPath, ArchiveError> {
    InnerPath::new(entry).map_err(|problem| ArchiveError::BadPath { entry: shown(entry.as_bytes()), problem })
}

/// The rest of a path below a folder; `None` for the folder itself and for what isn't in it.
fn below<'p>(path: &'p str, folder: &InnerPath) -> Option<&'p str> {
    path.strip_prefix(folder.as_str())?.strip_prefix('/')
}

/// Where a link in `folder` leads, by its text alone; `None` if out of the tree.
fn lexically_inside(folder: &str, target: &str) -> Option<String> {
    if target.starts_with(['/', '\\']) || target.contains('\0') {
        return None;
    }
    let mut parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
    for part in target.split('/') {
        match part {
            "" | "." => {}
            ".." => {
                parts.pop()?;
            }
            part => parts.push(part),
        }
    }
    Some(parts.join("/"))
}

/// Creates a file that is read-only once it is closed.
fn create(path: &Path, executable: bool) -> Result<fs::File, DiskError> {
    let mut options = OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, if executable { 0o555 } else { 0o444 });
    #[cfg(not(unix))]
    let _ = executable;
    options.open(path).at("write", path)
}
