//! The tree that an archive is unpacked into: checking paths, writing files, listing what was written.

mod links;

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, OpenOptions};
use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use bibliotax_core::card::Archive;
use bibliotax_core::file_selection::CompiledSelection;
use bibliotax_core::inner_path::{InnerPath, PathClash, PathSet, clashing};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::stamp::Stamp;
use serde::{Deserialize, Serialize};

use self::links::Link;
use super::times::EntryTime;
use crate::error::{ArchiveError, EntryProblem, NameElsewhere, RefusedEntries, shown};

/// What an entry takes in memory while an archive is unpacked, beside its name, and the most that all may take, in bytes.
const ENTRY_WEIGHT: usize = 480;
const MAX_WEIGHT: usize = 48 << 20;

/// Whether this system can have names that others can't.
const IS_TOLERANT: bool = cfg!(all(unix, not(target_vendor = "apple")));

/// Most names that are listed as impossible elsewhere.
const MAX_ELSEWHERE: usize = 200;

/// What is in an unpacked tree.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Listing {
    /// The release that it first came for, for people to know it by; others may have the same archive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// Its files, sorted by path.
    pub files: Vec<TreeFile>,
    /// Its folders that hold nothing, sorted by path.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub empty: Vec<TreePath>,
    /// The first of its names that are possible here and not on every system.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub elsewhere: Vec<NameElsewhere>,
}

/// A path of an unpacked tree, which this system can have.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(transparent)]
pub struct TreePath(InnerPath);

impl std::ops::Deref for TreePath {
    type Target = InnerPath;

    fn deref(&self) -> &InnerPath {
        &self.0
    }
}

impl<'de> Deserialize<'de> for TreePath {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        InnerPath::on_tolerant_system(&text).map(Self).map_err(serde::de::Error::custom)
    }
}

/// A file of an unpacked tree.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TreeFile {
    /// Its path inside the package.
    pub path: TreePath,
    /// Its size in bytes.
    pub size: u64,
    /// Whether it can be run.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executable: bool,
    /// Its time, which is the archive's; a file of this stamp and size is taken to hold what it did when it was unpacked.
    #[serde(default)]
    pub modified: Stamp,
    /// BLAKE3 digest of its contents.
    #[serde(with = "hex")]
    pub blake3: blake3::Hash,
}

/// What an archive says of a file beside its name and contents.
#[derive(Debug, Clone, Copy)]
pub struct FileFacts {
    pub executable: bool,
    pub time: EntryTime,
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

/// Writes a tree, entry by entry. What can't be part of a package is collected, to report all of it at once.
pub struct TreeWriter {
    folder: PathBuf,
    /// The folder of the archive that the tree is; without it, all of it.
    strip: Option<InnerPath>,
    selection: CompiledSelection,
    /// When unpacking began.
    now: SystemTime,
    paths: PathSet,
    files: BTreeMap<String, TreeFile>,
    folders: BTreeSet<String>,
    links: BTreeMap<String, Link>,
    refused: RefusedEntries,
    elsewhere: Vec<NameElsewhere>,
    /// What all entries take in memory, in bytes.
    weight: usize,
    /// One buffer for all files.
    buffer: Box<[u8]>,
}

impl TreeWriter {
    /// A writer into a new and empty folder, for an archive.
    pub fn new(folder: &Path, archive: &Archive) -> Self {
        Self {
            folder: folder.to_owned(),
            strip: archive.strip.clone(),
            selection: archive.selection.compiled(),
            now: SystemTime::now(),
            paths: PathSet::default(),
            files: BTreeMap::new(),
            folders: BTreeSet::new(),
            links: BTreeMap::new(),
            refused: RefusedEntries::default(),
            elsewhere: Vec::new(),
            weight: 0,
            buffer: vec![0; 64 << 10].into_boxed_slice(),
        }
    }

    /// The name of an entry as text; `None` where it is none, and so the entry can't be taken.
    pub fn name(&mut self, bytes: &[u8]) -> Option<String> {
        if let Ok(name) = std::str::from_utf8(bytes) {
            return Some(name.to_owned());
        }
        if let Some(path) = self.wanted(&String::from_utf8_lossy(bytes)) {
            self.refused.add(shown(path.as_bytes()), EntryProblem::NoText);
        }
        None
    }

    /// Refuses an entry, unless it is none of those that are taken.
    pub fn refuse(&mut self, entry: &str, problem: EntryProblem) -> Result<(), ArchiveError> {
        if let Some(path) = self.wanted(entry) {
            self.weigh(entry, &path)?;
            self.refused.add(shown(path.as_bytes()), problem);
        }
        Ok(())
    }

    /// All that was refused, where nothing more can be read; and what other systems would refuse, so that one look is enough.
    pub fn all_refused(&mut self) -> ArchiveError {
        let mut refused = std::mem::take(&mut self.refused);
        for entry in RefusedEntries::elsewhere(&self.elsewhere).entries {
            refused.add(entry.path, entry.problem);
        }
        ArchiveError::Refused(refused)
    }

    /// Adds a folder; those above a file need not be added.
    pub fn add_folder(&mut self, entry: &str) -> Result<(), ArchiveError> {
        let Some(path) = self.wanted(entry).filter(|path| !path.is_empty()) else { return Ok(()) };
        self.weigh(entry, &path)?;
        let Some(path) = self.checked(&path) else { return Ok(()) };
        let added = self.paths.add_folder(&path).map_err(owned);
        if self.settle(&path, added) {
            self.folders.insert(path.to_string());
        }
        Ok(())
    }

    /// Counts what an entry takes in memory.
    fn weigh(&mut self, entry: &str, path: &str) -> Result<(), ArchiveError> {
        self.weight += ENTRY_WEIGHT + 2 * path.len();
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
        of: FileFacts,
        source: &mut dyn Read,
        unreadable: impl FnOnce(&io::Error) -> ArchiveError,
    ) -> Result<(), ArchiveError> {
        let Some(path) = self.claim(entry)? else { return Ok(()) };
        let target = self.folder.join(path.as_str());
        let mut file = create(&target, of.executable)?;
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
        of.time.stamp(self.now).put_on(&file).at("write", &target)?;
        // What the disk made of the time: not each has nanoseconds.
        let modified = Stamp::of(&file.metadata().at("look at", &target)?);
        let name = path.to_string();
        let executable = of.executable;
        let file = TreeFile { path: TreePath(path), size, executable, modified, blake3: hasher.finalize() };
        self.files.insert(name, file);
        Ok(())
    }

    /// Adds a link whose target is seen from the folder that the link is in.
    pub fn add_link(&mut self, entry: &str, target: &[u8]) -> Result<(), ArchiveError> {
        let Some(path) = self.claim(entry)? else { return Ok(()) };
        let inside =
            std::str::from_utf8(target).ok().and_then(|target| lexically_inside(path.split().0, target));
        self.link(path, target, inside);
        Ok(())
    }

    /// Adds a second name of a file, seen from the tree's own folder.
    pub fn add_second_name(&mut self, entry: &str, target: &[u8]) -> Result<(), ArchiveError> {
        let Some(path) = self.claim(entry)? else { return Ok(()) };
        let inside = std::str::from_utf8(target).ok().and_then(|target| lexically_inside("", target));
        let inside = inside.and_then(|inside| match &self.strip {
            Some(strip) => strip.rest_of(&inside).map(str::to_owned),
            None => Some(inside),
        });
        self.link(path, target, inside);
        Ok(())
    }

    fn link(&mut self, path: InnerPath, target: &[u8], inside: Option<String>) {
        let shown = shown(target);
        match inside {
            Some(inside) => drop(self.links.insert(path.to_string(), Link { path, shown, target: inside })),
            None => self.refused.add(path.to_string(), EntryProblem::Link { target: shown }),
        }
    }

    /// Turns links into copies and ends in the listing.
    pub fn finish(mut self) -> Result<Listing, ArchiveError> {
        self.copy_links()?;
        if self.refused.count() > 0 {
            return Err(self.all_refused());
        }
        if self.files.is_empty() {
            if !self.selection.is_all() {
                return Err(ArchiveError::NothingTaken);
            }
            if let Some(strip) = &self.strip {
                return Err(ArchiveError::NothingThere { folder: strip.to_string() });
            }
        }
        let empty = self.empty_folders();
        let files = self.files.into_values().collect();
        Ok(Listing { of: None, files, empty, elsewhere: self.elsewhere })
    }

    /// The folders that hold nothing.
    fn empty_folders(&self) -> Vec<TreePath> {
        let of_files = self.files.values().flat_map(|file| file.path.folders());
        let above = |folder: &'_ String| {
            let folders = folder.match_indices('/').map(|(at, _)| folder[..at].to_owned());
            folders.collect::<Vec<_>>()
        };
        let mut held: BTreeSet<String> = of_files.map(str::to_owned).collect();
        held.extend(self.folders.iter().flat_map(above));
        let empty = self.folders.difference(&held);
        empty.filter_map(|folder| InnerPath::on_tolerant_system(folder).ok()).map(TreePath).collect()
    }

    /// The path in the tree of an entry that is taken, unchecked; `None` where it is outside of the folder that the tree is, or left
    /// out.
    fn wanted(&self, entry: &str) -> Option<String> {
        let parts: Vec<&str> = entry.split('/').filter(|part| !matches!(*part, "" | ".")).collect();
        let path = parts.join("/");
        let path = match &self.strip {
            // What would lead out of any folder is refused, wherever it stands.
            Some(strip) if !parts.contains(&"..") => strip.rest_of(&path)?.to_owned(),
            _ => path,
        };
        let is_folder = entry.ends_with('/');
        let is_taken =
            if is_folder { !self.selection.leaves_out(&path) } else { self.selection.takes(&path) };
        let is_absolute = entry.starts_with('/') && self.strip.is_none();
        is_taken.then(|| if is_absolute { format!("/{path}") } else { path })
    }

    /// Checks a path; `None` where it is refused.
    fn checked(&mut self, path: &str) -> Option<InnerPath> {
        let strict = InnerPath::new(path);
        match (strict, InnerPath::on_tolerant_system(path)) {
            (Ok(path), _) => Some(path),
            (Err(problem), Ok(odd)) if IS_TOLERANT => {
                self.note_elsewhere(path, problem.to_string());
                Some(odd)
            }
            (Err(problem), _) => {
                self.refused.add(shown(path.as_bytes()), problem.into());
                None
            }
        }
    }

    fn note_elsewhere(&mut self, path: &str, why: String) {
        if self.elsewhere.len() < MAX_ELSEWHERE {
            self.elsewhere.push(NameElsewhere { path: path.to_owned(), why });
        }
    }

    /// Whether an entry can stand where it is, after its path was added to those that are there.
    fn settle(&mut self, path: &InnerPath, added: Result<(), (String, bool)>) -> bool {
        let Err((clash, is_only_elsewhere)) = added else { return true };
        let links = self.links.values().map(|link| &link.path);
        let others = self.files.values().map(|file| &*file.path).chain(links);
        // A folder that holds nothing is remembered by no path.
        let other = clashing(&clash, others).unwrap_or(&clash).to_owned();
        let problem = EntryProblem::Clash { other };
        if is_only_elsewhere && IS_TOLERANT {
            self.note_elsewhere(path.as_str(), problem.to_string());
            return true;
        }
        self.refused.add(path.to_string(), problem);
        false
    }

    /// Checks a file's path, claims it and makes the folders above it; `None` where the file isn't taken.
    fn claim(&mut self, entry: &str) -> Result<Option<InnerPath>, ArchiveError> {
        let Some(path) = self.wanted(entry) else { return Ok(None) };
        self.weigh(entry, &path)?;
        let Some(path) = self.checked(&path) else { return Ok(None) };
        let added = self.paths.add_file(&path).map_err(owned);
        if !self.settle(&path, added) {
            return Ok(None);
        }
        if let Some(folder) = path.folders().last() {
            let folder = self.folder.join(folder);
            fs::create_dir_all(&folder).at("make the folder", &folder)?;
        }
        Ok(Some(path))
    }
}

/// A clash on its own.
fn owned(clash: PathClash<'_>) -> (String, bool) {
    (clash.path.to_owned(), clash.is_only_elsewhere)
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
