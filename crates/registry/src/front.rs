//! A copy in front of another registry, for an office or a build farm: what somebody asked for once is here for the next one.
//!
//! Files are kept for ever, for their digests say what they are. Histories are asked for anew once they are older than a
//! while; where the registry behind can't be reached then, an old one is given only if that was allowed. Nothing can be
//! published here.

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::range::Range as Versions;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, make_folder, write_whole};

use crate::error::RegistryError;
use crate::keep::{Decide, Keep, Private, Stamp};
use crate::layout;
use crate::names::{NAMES, TAIL, read_names};
use crate::piece::{Piece, UploadProblem};
use crate::remote::Remote;
use crate::staged::Staged;

/// Most histories that are remembered; with more, all are forgotten and those that are asked for come back.
const MOST_HISTORIES: usize = 20_000;

/// How many files can be fetched at once.
const AT_ONCE: usize = 64;

/// For how long answers are good.
#[derive(Debug, Clone, Copy)]
pub struct Freshness {
    /// So long nobody is asked again.
    pub fresh: Duration,
    /// Whether an older answer is given where there is no newer one.
    pub stale: bool,
}

/// A copy in front of another registry.
pub struct Front {
    remote: Remote,
    folder: PathBuf,
    freshness: Freshness,
    histories: Mutex<HashMap<PackageName, Remembered>>,
    /// When the registry couldn't be reached last.
    away: Mutex<Option<Instant>>,
    /// When the list of names was brought up to date; held while that is done.
    names: Mutex<Option<Instant>>,
    /// One is held while a file is fetched: whoever wants the same waits for it.
    fetching: [Mutex<()>; AT_ONCE],
}

/// A history with the time of its arrival; `None` where the registry doesn't hold the name.
#[derive(Clone)]
struct Remembered {
    at: Instant,
    text: Option<Arc<str>>,
}

impl Front {
    /// A copy of a registry in a folder.
    pub fn new(remote: Remote, folder: PathBuf, freshness: Freshness) -> Result<Self, RegistryError> {
        make_folder(&folder.join("files"))?;
        let fetching = [(); AT_ONCE].map(|()| Mutex::default());
        let (histories, away, names) = (Mutex::default(), Mutex::default(), Mutex::default());
        Ok(Self { remote, folder, freshness, histories, away, names, fetching })
    }

    fn history(&self, package: &PackageName) -> Result<Option<Arc<str>>, RegistryError> {
        let known = self.remembered().get(package).cloned();
        if let Some(known) = known.as_ref().filter(|known| known.at.elapsed() < self.freshness.fresh) {
            return Ok(known.text.clone());
        }
        let old = || match &known {
            Some(known) => Some(known.text.clone()),
            None => Some(self.remote.kept_history(package)?.map(Arc::from)),
        };
        if self.is_away()
            && let Some(text) = old()
        {
            return Ok(text);
        }
        let text = match self.remote.history_text(package) {
            Err(error) if self.may_be_old(&error) => return old().ok_or(error),
            answer => answer?.map(Arc::from),
        };
        self.remember(package.clone(), text.clone());
        Ok(text)
    }

    /// Whether the registry couldn't be reached a moment ago, so that asking it again would only take time.
    fn is_away(&self) -> bool {
        let away = self.away.lock().unwrap_or_else(PoisonError::into_inner);
        self.freshness.stale && away.is_some_and(|at| at.elapsed() < self.freshness.fresh)
    }

    fn remember(&self, package: PackageName, text: Option<Arc<str>>) {
        let mut remembered = self.remembered();
        if remembered.len() >= MOST_HISTORIES {
            remembered.clear();
        }
        remembered.insert(package, Remembered { at: Instant::now(), text });
    }

    fn remembered(&self) -> MutexGuard<'_, HashMap<PackageName, Remembered>> {
        self.histories.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether an old answer will do where this went wrong.
    fn may_be_old(&self, error: &RegistryError) -> bool {
        if !matches!(error, RegistryError::Unreachable { .. }) {
            return false;
        }
        *self.away.lock().unwrap_or_else(PoisonError::into_inner) = Some(Instant::now());
        self.freshness.stale
    }

    fn file_path(&self, digest: &Digest) -> PathBuf {
        self.folder.join(layout::file_path(digest))
    }

    /// Fetches a file unless it is here; its size, `None` where the registry hasn't it.
    fn fetch(&self, digest: &Digest) -> Result<Option<u64>, RegistryError> {
        let path = self.file_path(digest);
        let size = || fs::metadata(&path).ok().map(|metadata| metadata.len());
        if let Some(size) = size() {
            return Ok(Some(size));
        }
        let slot = usize::from(digest.as_bytes()[0]) % AT_ONCE;
        let _held = self.fetching[slot].lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(size) = size() {
            return Ok(Some(size));
        }
        let Some(mut arriving) = self.remote.open_file(digest)? else { return Ok(None) };
        make_folder(folder_of(&path))?;
        let mut staged = Staged::in_folder(folder_of(&path))?;
        io::copy(&mut arriving, &mut staged).map_err(|_| self.remote.broke_off())?;
        if staged.digest() != *digest {
            return Err(self.remote.wrong_file(digest));
        }
        let size = staged.size();
        let file = staged.into_file();
        file.as_file().sync_all().at("write", &path)?;
        file.persist(&path).map_err(|error| error.error).at("write", &path)?;
        Ok(Some(size))
    }

    /// Brings the copy of the list of names up to date.
    fn follow_names(&self) -> Result<PathBuf, RegistryError> {
        let path = self.folder.join(NAMES);
        let mut done = self.names.lock().unwrap_or_else(PoisonError::into_inner);
        if done.is_some_and(|at| at.elapsed() < self.freshness.fresh) {
            return Ok(path);
        }
        if !self.is_away() {
            match self.read_names_on(&path) {
                Err(error) if self.may_be_old(&error) => {}
                read => read?,
            }
        }
        *done = Some(Instant::now());
        Ok(path)
    }

    fn read_names_on(&self, path: &PathBuf) -> Result<(), RegistryError> {
        let mut there = OpenOptions::new()
            .create(true)
            .truncate(false)
            .read(true)
            .write(true)
            .open(path)
            .at("write", path)?;
        let length = there.metadata().at("read", path)?.len();
        let since = length.saturating_sub(TAIL);
        let Some((from, mut list)) = self.remote.names_from(since)? else { return Ok(()) };
        let mut bytes = Vec::new();
        list.read_to_end(&mut bytes).map_err(|_| self.remote.broke_off())?;
        there.seek(SeekFrom::Start(since)).at("read", path)?;
        let mut tail = Vec::new();
        there.read_to_end(&mut tail).at("read", path)?;
        if from == since && bytes.starts_with(&tail) {
            return Ok(there.write_all(&bytes[tail.len()..]).at("write", path)?);
        }
        if from > 0 {
            // It is not the list that was copied before: all of it is wanted.
            let Some((_, mut list)) = self.remote.names_from(0)? else { return Ok(()) };
            bytes.clear();
            list.read_to_end(&mut bytes).map_err(|_| self.remote.broke_off())?;
        }
        Ok(write_whole(path, &bytes)?)
    }

    fn read_only(&self) -> RegistryError {
        RegistryError::ReadOnly { place: self.remote.url() }
    }
}

impl Keep for Front {
    fn name(&self) -> &str {
        self.remote.name()
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        self.remote.facets()
    }

    fn redefine(&self, _: &BTreeMap<FacetName, Facet>) -> Result<(), RegistryError> {
        Err(self.read_only())
    }

    fn place(&self) -> PathBuf {
        self.remote.url().into()
    }

    fn check(&self) -> Result<(), RegistryError> {
        fs::metadata(&self.folder).map(drop).at("read", &self.folder).map_err(RegistryError::from)
    }

    fn is_near(&self) -> bool {
        false
    }

    fn scratch(&self) -> Result<PathBuf, RegistryError> {
        Ok(self.folder.clone())
    }

    fn history_stamp(&self, package: &PackageName) -> Result<Option<Stamp>, RegistryError> {
        let text = self.history(package)?;
        Ok(text.map(|text| Stamp::Tag(blake3::hash(text.as_bytes()).to_hex().to_string())))
    }

    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        Ok(self.history(package)?.map(|text| text.to_string()))
    }

    fn foresee(&self, needs: &[(PackageName, Versions)]) {
        let is_fresh = |known: &Remembered| known.at.elapsed() < self.freshness.fresh;
        let known = |name: &PackageName| self.remembered().get(name).is_some_and(is_fresh);
        if self.is_away() || needs.iter().all(|(name, _)| known(name)) {
            return;
        }
        for (package, text) in self.remote.reached_from(needs) {
            self.remember(package, Some(text.into()));
        }
    }

    fn file_size(&self, digest: &Digest) -> Result<Option<u64>, RegistryError> {
        self.fetch(digest)
    }

    fn read_file(&self, digest: &Digest, bytes: Range<u64>) -> Result<Box<dyn Read + Send>, RegistryError> {
        let path = self.file_path(digest);
        let mut file = File::open(&path).at("read", &path)?;
        file.seek(SeekFrom::Start(bytes.start)).at("read", &path)?;
        Ok(Box::new(file.take(bytes.end.saturating_sub(bytes.start))))
    }

    fn files(&self) -> Result<Vec<(Digest, u64)>, RegistryError> {
        Err(self.read_only())
    }

    fn names(&self) -> Result<Vec<PackageName>, RegistryError> {
        Ok(read_names(&self.follow_names()?)?.into_keys().collect())
    }

    fn names_list(&self) -> Result<PathBuf, RegistryError> {
        self.follow_names()
    }

    fn append(&self, _: &PackageName, _: &mut Decide<'_>) -> Result<usize, RegistryError> {
        Err(self.read_only())
    }

    fn append_text(&self, _: &PackageName, _: &str, _: &str) -> Result<(), RegistryError> {
        Err(self.read_only())
    }

    fn note_names(&self, _: &[PackageName]) -> Result<(), RegistryError> {
        Err(self.read_only())
    }

    fn mend_names(&self) -> Result<usize, RegistryError> {
        Err(self.read_only())
    }

    fn keep(&self, _: Staged) -> Result<(Digest, u64), RegistryError> {
        Err(self.read_only())
    }

    fn uploaded(&self, _: &Digest) -> Result<u64, RegistryError> {
        Err(self.read_only())
    }

    fn receive(&self, _: &Digest, _: Piece, _: &mut dyn Read) -> Result<(), UploadProblem> {
        Err(self.read_only().into())
    }

    fn private_lines(&self, _: Private) -> Result<String, RegistryError> {
        Err(self.read_only())
    }

    fn append_private(&self, _: Private, _: &str) -> Result<(), RegistryError> {
        Err(self.read_only())
    }
}
