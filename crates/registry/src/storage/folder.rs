//! A registry as plain files in a folder, which any disk, share or web server can hold.
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
mod listing;
mod private;
mod upload;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufRead as _, BufReader, Read, Seek, SeekFrom};
use std::ops::Range;
use std::path::{Path, PathBuf};

use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::history::BrokenLine;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_disk::error::{At, DiskError, Refusal};
use bibliotax_disk::read::read_text;
use bibliotax_disk::remains::{Remains, left_in};
use bibliotax_disk::temporary::TEMPORARY;
use bibliotax_disk::tree::sync_file_system;
use bibliotax_disk::write::{make_folder, write_whole};

use crate::model::description::{DESCRIPTION, Description};
use crate::model::error::RegistryError;
use crate::model::history_limits::MAX_HISTORY_SIZE;
use crate::model::layout;
use crate::model::names::NAMES;
use crate::model::partial_upload::{UploadPiece, UploadProblem};
use crate::model::staging::{INSPECTED_PREFIX, STAGED, Staged};
use crate::model::storage::pending::Pending;
use crate::model::storage::{
    Decide, Private, ReadRegistry, ServerState, Stamp, UploadStorage, WriteRegistry,
};

/// A registry in a folder.
#[derive(Debug, Clone)]
pub struct Folder {
    root: PathBuf,
    description: Description,
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
        let description = Description::of_files(name, facets);
        let registry = Self { root: root.to_owned(), description };
        // Readers tell an empty registry from one that lost its list.
        registry.append_names(&[])?;
        write_whole(&root.join(DESCRIPTION), registry.description.to_string().as_bytes())?;
        Ok(registry)
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
        let broken = |error: DiskError| match error.refusal() {
            Refusal::NoText => {
                let message = error.source.to_string();
                RegistryError::BadDescription { path: root.to_owned(), message }
            }
            _ => error.into(),
        };
        let text = read_text(&root.join(DESCRIPTION), 1 << 20).map_err(broken)?;
        let text = text.ok_or_else(|| RegistryError::NoRegistry { path: root.to_owned() })?;
        Ok(Self { root: root.to_owned(), description: Description::read(&text, root)? })
    }

    fn history_path(&self, package: &PackageName) -> PathBuf {
        self.root.join(layout::history_path(package))
    }

    fn file_path(&self, digest: &Digest) -> PathBuf {
        self.root.join(layout::file_path(digest))
    }
}

impl ReadRegistry for Folder {
    fn name(&self) -> &str {
        &self.description.name
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.description.facets
    }

    fn place(&self) -> PathBuf {
        self.root.clone()
    }

    fn check(&self) -> Result<(), RegistryError> {
        Self::open(&self.root).map(drop)
    }

    fn is_on_this_machine(&self) -> bool {
        true
    }

    fn scratch(&self) -> Result<PathBuf, RegistryError> {
        let folder = self.root.join("private");
        make_folder(&folder)?;
        Ok(folder)
    }

    fn history_stamp(&self, package: &PackageName) -> Result<Option<Stamp>, RegistryError> {
        let metadata = fs::metadata(self.history_path(package)).ok();
        Ok(metadata.map(|metadata| Stamp::File(metadata.len(), metadata.modified().ok())))
    }

    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        let path = self.history_path(package);
        let broken = |error: DiskError| match error.refusal() {
            Refusal::NoText => {
                let source = BrokenLine { line: first_broken_line(&path), message: error.source.to_string() };
                RegistryError::BrokenHistory { package: package.clone(), path: path.clone(), source }
            }
            _ => error.into(),
        };
        let text = read_text(&path, MAX_HISTORY_SIZE).map_err(broken)?;
        Ok(text.map(|mut text| {
            text.truncate(text.rfind('\n').map_or(0, |end| end + 1));
            text
        }))
    }

    fn file_size(&self, digest: &Digest) -> Result<Option<u64>, RegistryError> {
        let metadata = fs::metadata(self.file_path(digest)).ok().filter(fs::Metadata::is_file);
        Ok(metadata.map(|metadata| metadata.len()))
    }

    fn read_file(&self, digest: &Digest, bytes: Range<u64>) -> Result<Box<dyn Read + Send>, RegistryError> {
        let path = self.file_path(digest);
        let mut file = match File::open(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                return Err(RegistryError::NoFile { digest: *digest, path });
            }
            opened => opened.at("read", &path)?,
        };
        if bytes.start > 0 {
            file.seek(SeekFrom::Start(bytes.start)).at("read", &path)?;
        }
        Ok(Box::new(file.take(bytes.end.saturating_sub(bytes.start))))
    }

    fn names(&self) -> Result<Vec<PackageName>, RegistryError> {
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
                let segment = segment.strip_suffix(".jsonl");
                names.extend(segment.and_then(|segment| format!("{scope}/{segment}").parse().ok()));
            }
        }
        Ok(names)
    }

    fn name_list_file(&self) -> Result<PathBuf, RegistryError> {
        Ok(self.root.join(NAMES))
    }
}

impl WriteRegistry for Folder {
    fn set_facets(&self, facets: &BTreeMap<FacetName, Facet>) -> Result<(), RegistryError> {
        let description = Description::of_files(self.name(), facets.clone());
        Ok(write_whole(&self.root.join(DESCRIPTION), description.to_string().as_bytes())?)
    }

    fn files(&self) -> Result<Vec<(Digest, u64)>, RegistryError> {
        let mut found = Vec::new();
        let root = self.root.join("files");
        for bin in fs::read_dir(&root).at("read", &root)?.flatten() {
            for file in fs::read_dir(bin.path()).into_iter().flatten().flatten() {
                let digest = file.file_name().to_str().and_then(|name| name.parse::<Digest>().ok());
                // Where it doesn't belong nobody finds it.
                let digest = digest.filter(|digest| bin.file_name() == *digest.folder());
                found.extend(digest.zip(file.metadata().ok().map(|metadata| metadata.len())));
            }
        }
        found.sort();
        Ok(found)
    }

    fn append(&self, package: &PackageName, decide: &mut Decide<'_>) -> Result<usize, RegistryError> {
        self.append_events(package, decide)
    }

    fn append_text(&self, package: &PackageName, before: &str, lines: &str) -> Result<(), RegistryError> {
        self.append_lines(package, before, lines)
    }

    fn update_name_list(&self, packages: &[PackageName]) -> Result<(), RegistryError> {
        self.append_names(packages)
    }

    fn rebuild_name_list(&self) -> Result<usize, RegistryError> {
        self.rebuild_names()
    }

    fn keep(&self, staged: Staged) -> Result<(Digest, u64), RegistryError> {
        self.keep_staged(staged, true)
    }

    fn keep_unsynced(&self, staged: Staged) -> Result<(Digest, u64), RegistryError> {
        self.keep_staged(staged, false)
    }

    fn sync(&self) -> Result<(), RegistryError> {
        Ok(sync_file_system(&self.root.join("files"))?)
    }
}

impl UploadStorage for Folder {
    fn uploaded(&self, digest: &Digest) -> Result<u64, RegistryError> {
        Ok(self.half_size(digest))
    }

    fn receive(
        &self,
        digest: &Digest,
        piece: UploadPiece,
        source: &mut dyn Read,
    ) -> Result<(), UploadProblem> {
        self.add_piece(digest, piece, source)
    }

    fn pending(&self) -> Result<Vec<Pending>, RegistryError> {
        Ok(self.halves().chain(self.marks()).collect())
    }

    fn unreleased_file(&self, digest: &Digest) -> Result<Option<Pending>, RegistryError> {
        Ok(self.mark_of(digest))
    }

    fn mark(&self, digest: &Digest, _: u64) -> Result<(), RegistryError> {
        self.set_mark(digest)
    }

    fn discard_pending(&self, pending: &Pending, with_file: bool) -> Result<(), RegistryError> {
        self.forget(pending, with_file)
    }

    fn remains(&self) -> Result<Vec<Remains>, RegistryError> {
        let is_temporary =
            |name: &str| [STAGED, INSPECTED_PREFIX, TEMPORARY].iter().any(|begin| name.starts_with(begin));
        let mut remains = left_in(&self.root, is_temporary);
        remains.extend(left_in(&self.root.join("private"), is_temporary));
        Ok(remains)
    }
}

impl ServerState for Folder {
    fn read_private(&self, what: Private) -> Result<String, RegistryError> {
        self.read_private(what)
    }

    fn append_private(&self, what: Private, line: &str) -> Result<(), RegistryError> {
        self.add_private(what, line)
    }
}

/// The first line of a file that is no text, counted from 1; the first one if all are.
fn first_broken_line(path: &Path) -> usize {
    let Ok(file) = File::open(path) else { return 1 };
    let lines = BufReader::new(file.take(MAX_HISTORY_SIZE as u64)).split(b'\n');
    let is_broken = |line: io::Result<Vec<u8>>| line.is_ok_and(|line| str::from_utf8(&line).is_err());
    lines.map(is_broken).position(|is_broken| is_broken).unwrap_or(0) + 1
}
