//! A kit: one file that carries a lock with all its packages to a machine without a network.
//!
//! ```text
//! kit.json         {"format": 1, "projects": […], "lock": its digest, "targets": […], "archives": …, "bytes": …}
//! bibliotax.lock   the lock, whole
//! cards/<sha256>   the cards of its packages and charters
//! files/<sha256>   their archives, of the chosen targets
//! ```
//!
//! It is a tar archive in just this order, everything sorted and without times: the same lock and targets give the same bytes.
//! What comes out of one counts only if its digest is what the lock says. The lock itself is trusted no more than any other
//! lock: it is the project's own that is installed.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{self, BufWriter, Read, Seek, Write};
use std::path::Path;

use bibliotax_core::card::Archive;
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Target;
use bibliotax_core::lock::{FILE_NAME, Lock, LockedFile, LockedPackage, Scope};
use bibliotax_core::name::{PackageName, TargetName};
use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use bibliotax_core::source::Source;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, write_with};
use serde::{Deserialize, Serialize};

use crate::error::{KitError, StoreError};
use crate::install::{InstallError, OpenedArchive, Supplier};
use crate::store::Store;
use bibliotax_archive::error::ArchiveError;
use bibliotax_archive::pack::header;
use bibliotax_archive::unpack::Checked;

/// The format that this version writes and reads.
const FORMAT: u64 = 1;

/// The entry that says what a kit is.
const HEAD: &str = "kit.json";

/// Largest text that is read from a kit, in bytes, and the most of all cards together.
const MAX_TEXT_SIZE: u64 = 512 << 20;
const MAX_CARD_SIZE: u64 = 16 << 20;

/// What a kit says of itself.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct KitHeader {
    format: u64,
    /// The projects whose packages it carries; empty for all.
    #[serde(default)]
    pub projects: Vec<PackageName>,
    /// The digest of the lock.
    pub lock: Digest,
    /// The targets whose archives it carries; empty for all there are.
    pub targets: Vec<TargetName>,
    /// How many archives.
    pub archives: usize,
    /// Their bytes.
    pub bytes: u64,
}

impl KitHeader {
    fn load(&self) -> KitScope<'_> {
        KitScope { projects: &self.projects, targets: &self.targets }
    }
}

/// What came out of a kit.
#[derive(Debug)]
pub struct OpenedKit {
    /// What it says of itself.
    pub head: KitHeader,
    /// Its lock.
    pub lock: Lock,
    /// The cards by digest, each checked.
    pub cards: BTreeMap<Digest, String>,
    /// How many of its archives the store lacked.
    pub new: usize,
}

/// What of a lock a kit carries; empty lists mean all.
#[derive(Debug, Clone, Copy)]
pub struct KitScope<'a> {
    /// The projects whose packages it carries.
    pub projects: &'a [PackageName],
    /// The targets whose archives it carries.
    pub targets: &'a [TargetName],
}

/// A card that a lock names, of a package or of a charter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockedCard {
    /// Whose it is.
    pub name: PackageName,
    /// Where it comes from.
    pub source: Source,
    /// Its digest.
    pub digest: Digest,
}

impl LockedCard {
    /// The cards of a lock, by digest.
    fn all(lock: &Lock) -> BTreeMap<Digest, Self> {
        let of_packages = lock.packages.iter().filter_map(|package| {
            Some(Self { name: package.name.clone(), source: package.source.clone(), digest: package.card? })
        });
        let of_charters = lock.charters.iter().map(|charter| Self {
            name: charter.name.clone(),
            source: Source::Registry(charter.source.clone()),
            digest: charter.card,
        });
        of_packages.chain(of_charters).map(|card| (card.digest, card)).collect()
    }
}

/// The archives that a kit with this load carries, by digest: of a project without targets those of all machines.
fn archives<'l>(lock: &'l Lock, load: &KitScope<'_>) -> BTreeMap<Digest, (&'l LockedPackage, Archive)> {
    let machine = Target::this_machine();
    let scope = Scope { projects: load.projects, targets: load.targets, without: &[], machine: &machine };
    let packages = lock.packages_for(&scope).into_iter();
    let files = packages.flat_map(|package| package.files.iter().map(move |file| (package, file)));
    let is_wanted = |(package, file): &(&LockedPackage, &LockedFile)| {
        let mut takers = package.targets.iter().filter(|target| file.is_for(target.as_str()));
        load.targets.is_empty() || takers.any(|taker| load.targets.contains(taker))
    };
    files.filter(is_wanted).map(|(package, file)| (file.tree(), (package, file.archive()))).collect()
}

/// What names the trees of the archives that a kit of a lock with this load carries.
pub fn trees(lock: &Lock, load: &KitScope<'_>) -> Vec<Digest> {
    archives(lock, load).into_keys().collect()
}

/// What a kit of a lock with this load says of itself.
pub fn head(lock: &Lock, load: &KitScope<'_>) -> KitHeader {
    let archives = archives(lock, load);
    let bytes = archives.values().map(|(_, archive)| archive.size).sum();
    KitHeader {
        format: FORMAT,
        projects: load.projects.to_vec(),
        lock: lock.digest(),
        targets: load.targets.to_vec(),
        archives: archives.len(),
        bytes,
    }
}

/// Makes a kit of a lock with this load; it is there whole or not at all.
pub fn make<S: Supplier>(
    path: &Path,
    lock: &Lock,
    load: &KitScope<'_>,
    store: &Store,
    supplier: &S,
    card: impl Fn(&LockedCard) -> Result<String, S::Error>,
    listener: &dyn ProgressListener,
) -> Result<KitHeader, InstallError<S::Error>> {
    let head = head(lock, load);
    listener.on_event(&ProgressEvent::Fetching { archives: head.archives, bytes: head.bytes });
    let from = Sources { store, supplier };
    write_with(path, |file| fill(file, path, &head, lock, &from, card, listener))?;
    Ok(head)
}

fn fill<S: Supplier>(
    file: &mut File,
    path: &Path,
    head: &KitHeader,
    lock: &Lock,
    from: &Sources<'_, S>,
    card: impl Fn(&LockedCard) -> Result<String, S::Error>,
    listener: &dyn ProgressListener,
) -> Result<(), InstallError<S::Error>> {
    let mut kit = Writer { tar: tar::Builder::new(BufWriter::new(file)), path };
    // Digests, names and numbers: nothing that could fail to be JSON.
    kit.add_text(HEAD, &(serde_json::to_string(head).unwrap_or_default() + "\n"))?;
    kit.add_text(FILE_NAME, &lock.to_string())?;
    for (digest, locked) in LockedCard::all(lock) {
        let text = card(&locked).map_err(|error| InstallError::Supply(error, Vec::new()))?;
        kit.add_text(&format!("cards/{digest}"), &text)?;
    }
    for (digest, (package, archive)) in archives(lock, &head.load()) {
        listener.on_event(&ProgressEvent::Asked { package: package.name.clone() });
        let opened = from.open(package, &archive, folder_of(path), listener)?;
        kit.add_archive(&digest, package, &archive, opened)?;
        listener.on_event(&ProgressEvent::Arrived { bytes: archive.size });
        listener.on_event(&ProgressEvent::Unpacked { package: package.name.clone(), bytes: archive.size });
    }
    Ok(kit.finish()?)
}

/// Where the archives of a kit come from.
struct Sources<'s, S> {
    store: &'s Store,
    supplier: &'s S,
}

impl<S: Supplier> Sources<'_, S> {
    /// Opens an archive: as it is asked for, or as the store has it where nobody gives it.
    fn open(
        &self,
        package: &LockedPackage,
        archive: &Archive,
        scratch: &Path,
        listener: &dyn ProgressListener,
    ) -> Result<Box<dyn Read + Send>, InstallError<S::Error>> {
        match opened(self.supplier, package, archive, scratch, listener) {
            Err(error) => match self.store.archive(archive)? {
                Some(kept) => Ok(Box::new(kept)),
                None => Err(error),
            },
            opened => opened,
        }
    }
}

/// Opens an archive. Where several places may have it, it is fetched and checked first, so that wrong bytes of one of them don't
/// end up in the kit and the next one is asked.
fn opened<S: Supplier>(
    supplier: &S,
    package: &LockedPackage,
    archive: &Archive,
    scratch: &Path,
    listener: &dyn ProgressListener,
) -> Result<Box<dyn Read + Send>, InstallError<S::Error>> {
    let mut failed = None;
    for place in 0..supplier.places(package, archive) {
        let OpenedArchive { bytes, from } = match supplier.open(package, archive, place, 0) {
            Ok(opened) => opened,
            Err(error) => {
                failed = failed.or(Some(InstallError::Supply(error, Vec::new())));
                continue;
            }
        };
        let Some(from) = from else { return Ok(bytes) };
        let mut checked = Checked::new(bytes, archive);
        let mut file = tempfile::tempfile_in(scratch).at("write in", scratch)?;
        let copied = io::copy(&mut checked, &mut file);
        match checked.finish() {
            Ok(()) => {
                copied.and_then(|_| file.rewind()).at("write in", scratch)?;
                return Ok(Box::new(file));
            }
            Err(source) => {
                listener.on_event(&ProgressEvent::WrongBytes { package: package.name.clone(), from });
                failed = Some(StoreError::Archive { package: package.name.clone(), source }.into());
            }
        }
    }
    Err(failed.unwrap_or_else(|| StoreError::Lost { package: package.name.clone() }.into()))
}

struct Writer<'p, W: Write> {
    tar: tar::Builder<W>,
    path: &'p Path,
}

impl<W: Write> Writer<'_, W> {
    fn add_text(&mut self, name: &str, text: &str) -> Result<(), StoreError> {
        let added = self.tar.append_data(&mut header(text.len() as u64, false), name, text.as_bytes());
        Ok(added.at("write", self.path)?)
    }

    fn add_archive(
        &mut self,
        digest: &Digest,
        package: &LockedPackage,
        archive: &Archive,
        opened: impl Read,
    ) -> Result<(), StoreError> {
        let mut checked = Checked::new(opened, archive);
        let added =
            self.tar.append_data(&mut header(archive.size, false), format!("files/{digest}"), &mut checked);
        let whole = checked.finish();
        let unusable = |source| StoreError::Archive { package: package.name.clone(), source };
        // Bytes that are wrong explain why they could not be added better than the adding does.
        whole.map_err(unusable)?;
        Ok(added.at("write", self.path)?)
    }

    fn finish(self) -> Result<(), StoreError> {
        let path = self.path;
        Ok(self.tar.into_inner().and_then(|mut inner| inner.flush()).at("write", path)?)
    }
}

/// The lock that a kit was made from; nothing of its packages is read.
pub fn lock_in(path: &Path) -> Result<Lock, StoreError> {
    let file = File::open(path).at("read", path)?;
    let mut tar = tar::Archive::new(io::BufReader::new(file));
    let mut entries = tar.entries().map_err(|_| KitError::NoKit)?;
    let head = read_head(entries.next())?;
    read_lock(entries.next(), &head)
}

/// Takes the packages of a kit into the store. What it holds beside those of its lock is refused.
pub fn open(path: &Path, store: &Store, listener: &dyn ProgressListener) -> Result<OpenedKit, StoreError> {
    let file = File::open(path).at("read", path)?;
    let mut tar = tar::Archive::new(io::BufReader::new(file));
    let mut entries = tar.entries().map_err(|_| KitError::NoKit)?;
    let head = read_head(entries.next())?;
    listener.on_event(&ProgressEvent::Fetching { archives: head.archives, bytes: head.bytes });
    let _held = store.in_use(|| listener.on_event(&ProgressEvent::Waiting))?;
    let lock = read_lock(entries.next(), &head)?;
    let mut opening = Opening::new(&lock, &head, store, listener);
    for entry in entries {
        let mut entry = entry.map_err(|_| KitError::CutShort)?;
        let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
        opening.take(&name, &mut entry)?;
    }
    let (cards, new) = opening.finish()?;
    Ok(OpenedKit { head, lock, cards, new })
}

type Entry<'a, R> = Option<io::Result<tar::Entry<'a, R>>>;

fn read_head<R: Read>(entry: Entry<'_, R>) -> Result<KitHeader, StoreError> {
    let mut entry = entry.and_then(Result::ok).filter(|entry| *entry.path_bytes() == *HEAD.as_bytes());
    let text = text_of(entry.as_mut().ok_or(KitError::NoKit)?, MAX_CARD_SIZE)?;
    /// As much as says whether the rest can be read.
    #[derive(Deserialize)]
    struct Format {
        format: u64,
    }
    let format: Format = serde_json::from_str(&text).map_err(|_| KitError::NoKit)?;
    if format.format > FORMAT {
        return Err(KitError::Newer { format: format.format }.into());
    }
    Ok(serde_json::from_str(&text).map_err(|_| KitError::NoKit)?)
}

fn read_lock<R: Read>(entry: Entry<'_, R>, head: &KitHeader) -> Result<Lock, StoreError> {
    let mut entry = entry.and_then(Result::ok).ok_or(KitError::CutShort)?;
    let text = text_of(&mut entry, MAX_TEXT_SIZE)?;
    let lock = Lock::read(&text).map_err(|fault| KitError::BadLock { why: fault.fault.message })?;
    if lock.digest() != head.lock {
        return Err(KitError::BadLock { why: "it isn't the lock that the kit was made from".into() }.into());
    }
    Ok(lock)
}

fn text_of(entry: &mut impl Read, limit: u64) -> Result<String, KitError> {
    let mut text = String::new();
    let read = entry.take(limit + 1).read_to_string(&mut text);
    match read {
        Ok(read) if read as u64 <= limit => Ok(text),
        Ok(_) => Err(KitError::TooMuch),
        Err(_) => Err(KitError::CutShort),
    }
}

/// What is left to come out of a kit.
struct Opening<'o> {
    store: &'o Store,
    listener: &'o dyn ProgressListener,
    archives: BTreeMap<Digest, (&'o LockedPackage, Archive)>,
    wanted_cards: BTreeSet<Digest>,
    cards: BTreeMap<Digest, String>,
    card_bytes: u64,
    new: usize,
}

impl<'o> Opening<'o> {
    fn new(lock: &'o Lock, head: &KitHeader, store: &'o Store, listener: &'o dyn ProgressListener) -> Self {
        let wanted_cards = LockedCard::all(lock).into_keys().collect();
        let archives = archives(lock, &head.load());
        Self { store, listener, archives, wanted_cards, cards: BTreeMap::new(), card_bytes: 0, new: 0 }
    }

    fn take(&mut self, name: &str, entry: &mut impl Read) -> Result<(), StoreError> {
        let (folder, digest) = name.split_once('/').unwrap_or_default();
        let digest: Digest = digest.parse().map_err(|_| KitError::Strange { entry: name.to_owned() })?;
        match folder {
            "cards" if self.wanted_cards.remove(&digest) => Ok(self.take_card(digest, entry)?),
            "files" => match self.archives.remove(&digest) {
                Some((package, archive)) => self.take_archive(package, &archive, entry),
                None => Err(KitError::Strange { entry: name.to_owned() }.into()),
            },
            _ => Err(KitError::Strange { entry: name.to_owned() }.into()),
        }
    }

    fn take_card(&mut self, digest: Digest, entry: &mut impl Read) -> Result<(), KitError> {
        let text = text_of(entry, MAX_CARD_SIZE)?;
        self.card_bytes += text.len() as u64;
        if Digest::of(text.as_bytes()) != digest {
            return Err(KitError::WrongCard { digest });
        }
        if self.card_bytes > MAX_TEXT_SIZE {
            return Err(KitError::TooMuch);
        }
        self.cards.insert(digest, text);
        Ok(())
    }

    fn take_archive(
        &mut self,
        package: &LockedPackage,
        archive: &Archive,
        entry: &mut impl Read,
    ) -> Result<(), StoreError> {
        let name = &package.name;
        let unusable = |source| match source {
            ArchiveError::Disk(error) => StoreError::Disk(error),
            // An entry is as long as its archive, unless the kit ends in it.
            ArchiveError::WrongSize { .. } | ArchiveError::BrokeOff { .. } => KitError::CutShort.into(),
            source => StoreError::Archive { package: name.clone(), source },
        };
        if self.store.has(&archive.tree()) {
            // It exists already; that the kit's own bytes are right is worth knowing all the same.
            Checked::new(entry, archive).finish().map_err(unusable)?;
        } else {
            let received = self.store.receive(entry, archive, package).map_err(unusable)?;
            self.store.keep(vec![received])?;
            self.new += 1;
        }
        self.listener.on_event(&ProgressEvent::Arrived { bytes: archive.size });
        self.listener.on_event(&ProgressEvent::Unpacked { package: name.clone(), bytes: archive.size });
        Ok(())
    }

    /// The cards, and how many archives were new.
    fn finish(self) -> Result<(BTreeMap<Digest, String>, usize), StoreError> {
        if !self.archives.is_empty() || !self.wanted_cards.is_empty() {
            return Err(KitError::CutShort.into());
        }
        Ok((self.cards, self.new))
    }
}
