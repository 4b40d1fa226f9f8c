//! Puts a package's files on a shelf: by copy-on-write or hard link where the disk can, else by copying.
//!
//! A file of the store that isn't what was unpacked is noticed here, where it would be used: by its size and time, by its bytes
//! where those weren't read for some days, and always while it is copied.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::sync::atomic::{AtomicBool, AtomicU8, Ordering};

use bibliotax_core::card::Archive;
use bibliotax_core::inner_path::as_seen;
use bibliotax_core::lock::Slot;
use bibliotax_core::manifest::LinkWay;
use bibliotax_core::progress::ProgressEvent;
use bibliotax_disk::error::At;
use bibliotax_disk::folder::Folder;
use bibliotax_disk::stamp::Stamp;

use super::DesiredState;
use crate::error::StoreError;
use crate::file_check::{FileCheck, is_same};
use crate::store::Store;
use bibliotax_archive::error::NameElsewhere;
use bibliotax_archive::error::{ArchiveError, RefusedEntries};
use bibliotax_archive::unpack::{Listing, TreeFile, TreePath};

/// The ways that are tried one after the other.
const AUTO: [LinkWay; 3] = [LinkWay::Reflink, LinkWay::Hard, LinkWay::Copy];

/// The same for the system's administrator, who could write through a hard link into the store though its files are read-only.
const AUTO_FOR_ADMINISTRATOR: [LinkWay; 2] = [LinkWay::Reflink, LinkWay::Copy];

/// A package that was built.
pub struct Built {
    /// Its files.
    pub files: Vec<TreeFile>,
    /// Its folders that hold nothing.
    pub empty: Vec<TreePath>,
    /// What people should know of names that systems can't have which it isn't needed on.
    pub elsewhere: Option<ProgressEvent>,
    /// The time that all its files have; those of their archives without it.
    pub time: Option<Stamp>,
}

/// Builds packages from the store. What the disk can't do is tried once, not for every file.
pub struct Linker<'s> {
    store: &'s Store,
    /// The targets whose systems can have every name of a file.
    tolerant: &'s BTreeSet<String>,
    wanted: LinkWay,
    depth: FileCheck,
    /// How many of the ways didn't do.
    in_vain: AtomicU8,
    /// Whether any file was made that is not the store's own.
    has_copied: AtomicBool,
}

impl<'s> Linker<'s> {
    /// A linker from this store to a shelf that is to become this.
    pub fn new(store: &'s Store, aim: &DesiredState<'_, 's>) -> Self {
        let (wanted, depth, tolerant) = (aim.settings.link, aim.depth, aim.tolerant);
        Self { store, tolerant, wanted, depth, in_vain: AtomicU8::new(0), has_copied: AtomicBool::new(false) }
    }

    /// Builds a package in a folder of this name, which must not exist: all its parts in one tree. With a time, that is the time of
    /// all its files, which are copies then.
    pub fn build(
        &self,
        slot: &Slot<'_>,
        work: &Folder,
        name: &str,
        time: Option<Stamp>,
    ) -> Result<Built, StoreError> {
        let package = work.make_folder(name)?;
        let mut built = Built { files: Vec::new(), empty: Vec::new(), elsewhere: None, time };
        let mut paths: HashSet<String> = HashSet::new();
        for file in &slot.files {
            let listing = self.listing(slot, &file.archive())?;
            if slot.files.len() > 1 {
                let twice =
                    listing.files.iter().find(|file| !paths.insert(as_seen(file.path.as_str()).into_owned()));
                if let Some(file) = twice {
                    let (package, path) = (slot.package.name.clone(), file.path.to_string());
                    return Err(StoreError::TwoParts { package, path });
                }
            }
            self.add(slot, &file.archive(), &listing, &Target { package: &package, time })?;
            built.elsewhere = built.elsewhere.or(self.check_names(slot, &listing)?);
            for folder in &listing.empty {
                package.make_folders(folder.as_str())?;
            }
            built.files.extend(listing.files);
            built.empty.extend(listing.empty);
        }
        Ok(built)
    }

    /// Whether files were made whose bytes are not durable yet, as those of the store are.
    pub fn has_copied(&self) -> bool {
        self.has_copied.load(Ordering::Relaxed)
    }

    fn listing(&self, slot: &Slot<'_>, archive: &Archive) -> Result<Listing, StoreError> {
        let package = || slot.package.name.clone();
        match self.store.listing(&archive.tree())? {
            Some(listing) => Ok(listing),
            None if self.store.has(&archive.tree()) => {
                Err(StoreError::Damaged { package: package(), archive: archive.tree() })
            }
            None => Err(StoreError::Lost { package: package() }),
        }
    }

    /// Fails where the system of a package's target can't have all of its names, or may be any; what people should know of the names
    /// otherwise.
    fn check_names(&self, slot: &Slot<'_>, listing: &Listing) -> Result<Option<ProgressEvent>, StoreError> {
        let Some(NameElsewhere { path, why }) = listing.elsewhere.first() else { return Ok(None) };
        let package = slot.package.name.clone();
        if !slot.target.is_some_and(|target| self.tolerant.contains(target)) {
            let source = ArchiveError::Refused(RefusedEntries::elsewhere(&listing.elsewhere));
            return Err(StoreError::Archive { package, source });
        }
        let (count, first, why) = (listing.elsewhere.len(), path.clone(), why.clone());
        Ok(Some(ProgressEvent::NamesElsewhere { package, count, first, why }))
    }

    /// Adds the files of an archive to a package that is being built, folder by folder.
    fn add(
        &self,
        slot: &Slot<'_>,
        archive: &Archive,
        listing: &Listing,
        target: &Target<'_>,
    ) -> Result<(), StoreError> {
        let digest = archive.tree();
        let damaged = || StoreError::Damaged { package: slot.package.name.clone(), archive: digest };
        let tree = Folder::open(&self.store.tree(&digest))?.ok_or_else(damaged)?;
        let depth = if self.store.was_read_lately(&digest) { self.depth } else { FileCheck::Bytes };
        let mut folders: BTreeMap<&str, Vec<(&str, &TreeFile)>> = BTreeMap::new();
        for file in &listing.files {
            let (folder, name) = file.path.split();
            folders.entry(folder).or_default().push((name, file));
        }
        for (folder, files) in folders {
            let from = tree.folders(folder)?.ok_or_else(damaged)?;
            let to = target.package.make_folders(folder)?;
            for (name, file) in files {
                if !is_whole(&from, name, file, depth)? || !self.put(&from, &to, name, file, target.time)? {
                    return Err(damaged());
                }
            }
        }
        if depth == FileCheck::Bytes {
            self.store.note_read(&digest);
        }
        Ok(())
    }

    /// Puts a file in its place; whether its bytes are right, as far as they were read.
    fn put(
        &self,
        from: &Folder,
        to: &Folder,
        name: &str,
        file: &TreeFile,
        time: Option<Stamp>,
    ) -> Result<bool, StoreError> {
        loop {
            let way = match self.way() {
                // All names of a file have one time.
                LinkWay::Hard if time.is_some() => LinkWay::Copy,
                way => way,
            };
            let facts = Facts { executable: file.executable, modified: time.unwrap_or(file.modified) };
            let put = match way {
                LinkWay::Reflink => {
                    reflink(from, to, name).and_then(|()| protect(to, name, facts)).map(|()| true)
                }
                LinkWay::Hard => from.hard_link(name, to, name).map(|()| true),
                LinkWay::Copy | LinkWay::Auto => {
                    copy(from, to, name, facts).map(|copied| copied == file.blake3)
                }
            };
            match put {
                Err(error) if way != LinkWay::Copy && !is_about_the_file(&error) => {
                    if self.wanted != LinkWay::Auto {
                        return Err(StoreError::NoSuchWay { way, path: to.path().join(name), source: error });
                    }
                    self.give_up(way);
                }
                put => {
                    self.has_copied.fetch_or(way != LinkWay::Hard, Ordering::Relaxed);
                    return Ok(put.at("put on the shelf", to.path().join(name))?);
                }
            }
        }
    }

    fn way(&self) -> LinkWay {
        match self.wanted {
            LinkWay::Auto => {
                let ways = auto_ways();
                ways[usize::from(self.in_vain.load(Ordering::Relaxed)).min(ways.len() - 1)]
            }
            wanted => wanted,
        }
    }

    /// Tries the next way from now on; other threads may have found out the same.
    fn give_up(&self, way: LinkWay) {
        let tried = auto_ways().iter().take_while(|one| **one != way).count() + 1;
        self.in_vain.fetch_max(u8::try_from(tried).unwrap_or(u8::MAX), Ordering::Relaxed);
    }
}

/// Where a package is built, and the time of all its files, if they get one.
struct Target<'t> {
    package: &'t Folder,
    time: Option<Stamp>,
}

/// What a file on a shelf has beside its contents.
#[derive(Clone, Copy)]
struct Facts {
    executable: bool,
    modified: Stamp,
}

/// The ways that this user tries one after the other.
fn auto_ways() -> &'static [LinkWay] {
    if bibliotax_disk::is_administrator() { &AUTO_FOR_ADMINISTRATOR } else { &AUTO }
}

/// Whether a file of the store is what was unpacked.
fn is_whole(folder: &Folder, name: &str, file: &TreeFile, depth: FileCheck) -> Result<bool, StoreError> {
    match folder.entry(name)? {
        None => Ok(false),
        Some(found) => is_same(folder, name, &found, file, depth),
    }
}

/// Errors that another way would not help with.
fn is_about_the_file(error: &io::Error) -> bool {
    use io::ErrorKind::{AlreadyExists, NotFound, QuotaExceeded, ReadOnlyFilesystem, StorageFull};
    matches!(error.kind(), NotFound | AlreadyExists | StorageFull | QuotaExceeded | ReadOnlyFilesystem)
}

/// Lets a file share the store's blocks. The system's call wants paths; both folders were just opened without following links.
fn reflink(from: &Folder, to: &Folder, name: &str) -> io::Result<()> {
    reflink_copy::reflink(from.path().join(name), to.path().join(name))
}

/// Copies a file of the store; the digest of what was copied.
fn copy(from: &Folder, to: &Folder, name: &str, facts: Facts) -> io::Result<blake3::Hash> {
    let mut source = opened(from, name)?;
    let mut copy = to.create_file(name)?;
    let (mut hasher, mut piece) = (blake3::Hasher::new(), [0; 64 << 10]);
    loop {
        match source.read(&mut piece)? {
            0 => break,
            read => {
                hasher.update(&piece[..read]);
                copy.write_all(&piece[..read])?;
            }
        }
    }
    make_read_only(&copy, facts)?;
    Ok(hasher.finalize())
}

/// Makes a file on the shelf read-only, as the store's are, so that a shelf feels the same on every disk.
fn protect(folder: &Folder, name: &str, facts: Facts) -> io::Result<()> {
    make_read_only(&opened(folder, name)?, facts)
}

fn opened(folder: &Folder, name: &str) -> io::Result<File> {
    let opened = folder.open_file(name).map_err(|error| error.source)?;
    opened.ok_or_else(|| io::ErrorKind::NotFound.into())
}

/// Gives a file its time and mode.
fn make_read_only(shelved: &File, facts: Facts) -> io::Result<()> {
    let mut permissions = shelved.metadata()?.permissions();
    #[cfg(unix)]
    std::os::unix::fs::PermissionsExt::set_mode(
        &mut permissions,
        if facts.executable { 0o555 } else { 0o444 },
    );
    #[cfg(not(unix))]
    permissions.set_readonly(true);
    facts.modified.put_on(shelved)?;
    shelved.set_permissions(permissions)
}
