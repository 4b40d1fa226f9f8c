//! A read-through copy of another registry, for an office or a build farm.
//!
//! Files are kept for ever, for their digests say what they are. Histories are asked for again once they are older than a
//! while; where the registry behind can't be reached then, an old one is given only if that was allowed. Nothing can be
//! published here.

mod incoming_file;

use std::collections::{BTreeMap, HashMap};
use std::fs::{self, File};
use std::io::{Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_core::range::Range as Versions;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{make_folder, open_to_change, write_whole};

use self::incoming_file::{Following, IncomingFile};
use crate::client::http::Remote;
use crate::model::bounded::Bounded;
use crate::model::error::RegistryError;
use crate::model::layout;
use crate::model::mutex::lock;
use crate::model::names::{NAMES, TAIL, read_names};
use crate::model::storage::{ReadRegistry, Stamp};

/// Most bytes of histories that are remembered.
const MAX_BYTES: u64 = 256 << 20;

/// What remembering one takes beside its text, in bytes.
const ENTRY: usize = 256;

/// How many files may come at once.
const MAX_CONCURRENT_FETCHES: usize = 64;

/// For how long answers are good.
#[derive(Debug, Clone, Copy)]
pub struct Freshness {
    /// So long nobody is asked again.
    pub fresh: Duration,
    /// Whether an older answer is given where there is no newer one.
    pub stale: bool,
}

/// A copy in front of another registry.
pub struct ReadThrough {
    remote: Remote,
    folder: PathBuf,
    freshness: Freshness,
    histories: Mutex<Bounded<PackageName, Remembered>>,
    /// When the registry couldn't be reached last.
    away: Mutex<Option<Instant>>,
    /// When the list of names was brought up to date; held while that is done.
    names: Mutex<Option<Instant>>,
    /// The files that come just now.
    incoming: Arc<IncomingFiles>,
}

/// The files that come just now; their number is bounded.
#[derive(Default)]
struct IncomingFiles {
    files: Mutex<HashMap<Digest, Arc<IncomingFile>>>,
    room: Condvar,
}

/// A file that can be read.
enum Here {
    /// All of it is here: so many bytes.
    Whole(u64),
    /// It comes just now, and will have so many bytes.
    Coming(Arc<IncomingFile>, u64),
}

/// A history with the time of its arrival; `None` where the registry doesn't hold the name.
#[derive(Clone)]
struct Remembered {
    at: Instant,
    text: Option<Arc<str>>,
}

impl ReadThrough {
    /// A copy of a registry in a folder.
    pub fn new(remote: Remote, folder: PathBuf, freshness: Freshness) -> Result<Self, RegistryError> {
        make_folder(&folder.join("files"))?;
        let histories = Mutex::new(Bounded::new(MAX_BYTES));
        let (away, names, incoming) = (Mutex::default(), Mutex::default(), Arc::default());
        Ok(Self { remote, folder, freshness, histories, away, names, incoming })
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
        let away = lock(&self.away);
        self.freshness.stale && away.is_some_and(|at| at.elapsed() < self.freshness.fresh)
    }

    fn remember(&self, package: PackageName, text: Option<Arc<str>>) {
        let bytes = text.as_ref().map_or(0, |text| text.len()) + package.as_str().len() + ENTRY;
        self.remembered().put(package, Remembered { at: Instant::now(), text }, bytes as u64);
    }

    fn remembered(&self) -> MutexGuard<'_, Bounded<PackageName, Remembered>> {
        lock(&self.histories)
    }

    /// Whether an old answer will do where this went wrong.
    fn may_be_old(&self, error: &RegistryError) -> bool {
        if !matches!(error, RegistryError::Unreachable { .. }) {
            return false;
        }
        *lock(&self.away) = Some(Instant::now());
        self.freshness.stale
    }

    fn file_path(&self, digest: &Digest) -> PathBuf {
        self.folder.join(layout::file_path(digest))
    }

    /// A file that is here or comes just now; one that is not here begins to come. `None` where the registry hasn't it.
    fn file(&self, digest: &Digest) -> Result<Option<Here>, RegistryError> {
        let place = self.file_path(digest);
        let incoming = {
            let mut open = lock(&self.incoming.files);
            while open.len() >= MAX_CONCURRENT_FETCHES && !open.contains_key(digest) {
                open = self.incoming.room.wait(open).unwrap_or_else(PoisonError::into_inner);
            }
            if let Ok(metadata) = fs::metadata(&place) {
                return Ok(Some(Here::Whole(metadata.len())));
            }
            match open.get(digest) {
                Some(incoming) => Arc::clone(incoming),
                None => {
                    let incoming = Arc::new(IncomingFile::new());
                    open.insert(*digest, Arc::clone(&incoming));
                    self.begin(*digest, place, Arc::clone(&incoming));
                    incoming
                }
            }
        };
        let length = incoming.length(&self.remote)?;
        Ok(length.map(|length| Here::Coming(incoming, length)))
    }

    /// Downloads a file for all that wait for it.
    fn begin(&self, digest: Digest, place: PathBuf, incoming: Arc<IncomingFile>) {
        let (remote, all) = (self.remote.clone(), Arc::clone(&self.incoming));
        thread::spawn(move || {
            // Everybody who waits for it is notified.
            let _ = incoming.fetch(&remote, &digest, &place);
            lock(&all.files).remove(&digest);
            all.room.notify_all();
        });
    }

    /// Brings the copy of the list of names up to date.
    fn follow_names(&self) -> Result<PathBuf, RegistryError> {
        let path = self.folder.join(NAMES);
        let mut done = lock(&self.names);
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
        let mut there = open_to_change(path)?;
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
}

impl ReadRegistry for ReadThrough {
    fn name(&self) -> &str {
        self.remote.name()
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        self.remote.facets()
    }

    fn place(&self) -> PathBuf {
        self.remote.url().into()
    }

    fn check(&self) -> Result<(), RegistryError> {
        fs::metadata(&self.folder).map(drop).at("read", &self.folder).map_err(RegistryError::from)
    }

    fn is_on_this_machine(&self) -> bool {
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

    fn prefetch_closure(&self, needs: &[(PackageName, Versions)]) {
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
        Ok(self.file(digest)?.map(|here| match here {
            Here::Whole(size) | Here::Coming(_, size) => size,
        }))
    }

    fn read_file(&self, digest: &Digest, bytes: Range<u64>) -> Result<Box<dyn Read + Send>, RegistryError> {
        let path = self.file_path(digest);
        match self.file(digest)? {
            None => return Err(RegistryError::NoFile { digest: *digest, path: self.place() }),
            Some(Here::Coming(incoming, _)) => return Ok(Box::new(Following::new(incoming, path, &bytes))),
            Some(Here::Whole(_)) => {}
        }
        let mut file = File::open(&path).at("read", &path)?;
        file.seek(SeekFrom::Start(bytes.start)).at("read", &path)?;
        Ok(Box::new(file.take(bytes.end.saturating_sub(bytes.start))))
    }

    fn names(&self) -> Result<Vec<PackageName>, RegistryError> {
        Ok(read_names(&self.follow_names()?)?.into_keys().collect())
    }

    fn name_list_file(&self) -> Result<PathBuf, RegistryError> {
        self.follow_names()
    }
}
