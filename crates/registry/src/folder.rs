//! A registry kept as plain files in a folder, so that any disk, share or web server can hold one.
//!
//! ```text
//! registry.json               {"format": 1, "name": …, "facets": {NAME: …}}
//! packages/<xx>/<name>.jsonl  a package's events, one JSON line each, only ever appended;
//!                             xx is the first byte of SHA-256(name)
//! files/<xx>/<sha256>         archives and full cards
//! names.jsonl.zst             how each package stands, for search and mirrors
//! private/                    what a server keeps for itself: tokens, its log, half uploads
//! ```
//!
//! Appending is guarded by a lock of the operating system on the history itself, and a line counts only with
//! its line feed: a publisher that dies in the middle leaves the history as it was for every reader, and
//! the next publisher removes the remains.

mod append;
mod names;
mod upload;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::history::{History, without_place};
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::{make_folder, write_whole};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use crate::error::RegistryError;

pub use self::append::Staged;
pub use self::names::{NAMES, Named, read_names};
pub use self::upload::{Upload, UploadProblem};

/// The format that this version writes, and the newest that it reads.
pub const FORMAT: u64 = 1;

const DESCRIPTION: &str = "registry.json";

/// Largest card that is read, in bytes.
pub(crate) const LARGEST_CARD: u64 = 16 << 20;

/// Largest history of one package that is read, in bytes.
const LARGEST_HISTORY: usize = 256 << 20;

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Description {
    pub(crate) format: u64,
    pub(crate) name: String,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) facets: BTreeMap<FacetName, Facet>,
    /// Where the interface for programs is, seen from the registry; none where there are only files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) api: Option<String>,
}

impl Description {
    /// Reads the description of a registry; `whose` names it.
    pub(crate) fn read(text: &str, whose: &Path) -> Result<Self, RegistryError> {
        let bad =
            |error| RegistryError::BadDescription { path: whose.to_owned(), message: without_place(&error) };
        let format = serde_json::from_str::<serde_json::Value>(text).map_err(bad)?["format"].as_u64();
        if let Some(format) = format.filter(|format| *format > FORMAT) {
            return Err(RegistryError::Newer { path: whose.to_owned(), format, known: FORMAT });
        }
        serde_json::from_str(text).map_err(bad)
    }
}

/// What tells whether a history changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Stamp {
    length: u64,
    modified: Option<SystemTime>,
}

/// A registry in a folder.
#[derive(Debug, Clone)]
pub struct Folder {
    root: PathBuf,
    name: String,
    facets: BTreeMap<FacetName, Facet>,
}

impl Folder {
    /// Makes a registry that defines these facets in a folder that is new or empty.
    pub fn create(
        root: &Path,
        name: &str,
        facets: BTreeMap<FacetName, Facet>,
    ) -> Result<Self, RegistryError> {
        Self::can_be_created(root)?;
        make_folder(&root.join("packages"))?;
        make_folder(&root.join("files"))?;
        let description = Description { format: FORMAT, name: name.to_owned(), facets, api: None };
        // Texts and lists with text keys: nothing in a description can fail to be JSON.
        let text = serde_json::to_string(&description).unwrap_or_default();
        write_whole(&root.join(DESCRIPTION), format!("{text}\n").as_bytes())?;
        let Description { name, facets, .. } = description;
        Ok(Self { root: root.to_owned(), name, facets })
    }

    /// Whether a registry could be made in a folder: it is new or empty.
    pub fn can_be_created(root: &Path) -> Result<(), RegistryError> {
        let mut entries = match fs::read_dir(root) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            entries => entries.at("read", root)?,
        };
        if entries.next().is_some() {
            return Err(RegistryError::NotEmpty { path: root.to_owned() });
        }
        Ok(())
    }

    /// Opens the registry in a folder.
    pub fn open(root: &Path) -> Result<Self, RegistryError> {
        if !root.is_dir() {
            return Err(RegistryError::Missing { path: root.to_owned() });
        }
        let text = read_text(&root.join(DESCRIPTION), 1 << 20)?;
        let text = text.ok_or_else(|| RegistryError::NoRegistry { path: root.to_owned() })?;
        let description = Description::read(&text, root)?;
        Ok(Self { root: root.to_owned(), name: description.name, facets: description.facets })
    }

    /// The description, as a server gives it that has an interface for programs at `api`.
    pub fn served_description(&self, api: &str) -> String {
        let (name, facets) = (self.name.clone(), self.facets.clone());
        let description = Description { format: FORMAT, name, facets, api: Some(api.to_owned()) };
        // As when it was written.
        serde_json::to_string(&description).unwrap_or_default() + "\n"
    }

    /// The folder that holds it.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// What tells whether a package's history changed; `None` if the registry doesn't hold the name.
    pub fn history_stamp(&self, package: &PackageName) -> Option<Stamp> {
        let metadata = fs::metadata(self.history_path(package)).ok()?;
        Some(Stamp { length: metadata.len(), modified: metadata.modified().ok() })
    }

    /// The whole lines of a package's history; `None` if the registry doesn't hold the name.
    pub fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        let text = read_text(&self.history_path(package), LARGEST_HISTORY)?;
        Ok(text.map(|mut text| {
            text.truncate(text.rfind('\n').map_or(0, |end| end + 1));
            text
        }))
    }

    /// The name that the registry gives itself.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The facets that the registry defines.
    pub fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.facets
    }

    /// The history of a package; `None` if the registry doesn't hold the name.
    pub fn history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        self.history_until(package, None)
    }

    /// The history of a package as it was at a time.
    pub fn history_until(
        &self,
        package: &PackageName,
        until: Option<Timestamp>,
    ) -> Result<Option<History>, RegistryError> {
        let path = self.history_path(package);
        let Some(text) = read_text(&path, LARGEST_HISTORY)? else { return Ok(None) };
        let history = History::read(package, &text, until);
        let history = history.map_err(|source| RegistryError::BrokenHistory {
            package: package.clone(),
            path,
            source,
        })?;
        Ok(Some(history))
    }

    /// Opens an archive or card.
    pub fn open_file(&self, digest: &Digest) -> Result<File, RegistryError> {
        let path = self.file_path(digest);
        match File::open(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                Err(RegistryError::NoFile { digest: *digest, path })
            }
            opened => Ok(opened.at("read", path)?),
        }
    }

    /// The text of a card; `None` if it is no text.
    pub fn card_text(&self, digest: &Digest) -> Result<Option<String>, RegistryError> {
        let mut text = String::new();
        let read = self.open_file(digest)?.take(LARGEST_CARD).read_to_string(&mut text);
        Ok(read.is_ok().then_some(text))
    }

    /// The names of all packages, in no order; for suggestions, not for work.
    pub fn names(&self) -> Vec<PackageName> {
        let bins = fs::read_dir(self.root.join("packages")).into_iter().flatten().flatten();
        let mut names = Vec::new();
        for entry in bins.flat_map(|bin| fs::read_dir(bin.path()).into_iter().flatten().flatten()) {
            let scope = entry.file_name().to_string_lossy().into_owned();
            if let Some(name) = scope.strip_suffix(".jsonl") {
                names.extend(name.parse());
                continue;
            }
            for scoped in fs::read_dir(entry.path()).into_iter().flatten().flatten() {
                let segment = scoped.file_name().to_string_lossy().into_owned();
                names.extend(
                    segment
                        .strip_suffix(".jsonl")
                        .and_then(|segment| format!("{scope}/{segment}").parse().ok()),
                );
            }
        }
        names
    }

    fn history_path(&self, package: &PackageName) -> PathBuf {
        let bin = Digest::of(package.as_str().as_bytes()).folder();
        self.root.join("packages").join(bin).join(format!("{package}.jsonl"))
    }

    pub(crate) fn file_path(&self, digest: &Digest) -> PathBuf {
        self.root.join("files").join(digest.folder()).join(digest.to_string())
    }
}
