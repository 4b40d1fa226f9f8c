//! The machine-wide store of everything fetched, shared by all projects of a person.
//!
//! ```text
//! format              the number of this layout
//! trees/<xx>/<sha256>/files/        an unpacked archive, its files read-only
//! trees/<xx>/<sha256>/archive       the archive itself, where no registry has it: for kits
//! trees/<xx>/<sha256>/listing.json  every file of it with size and digest; its time tells when all bytes were last read
//! incoming/                         what is being unpacked
//! partial/<sha256>                  what came of a large archive that broke off
//! used-by/<sha256 of path>         the folder of a project whose shelf was made from here
//! registries/                       what registries answered
//! .lock                             held shared to use trees, alone to remove some
//! ```
//!
//! A tree appears under its digest by one rename, when its listing and all its bytes are durable: it is there
//! whole or not at all, also after a crash. Any number of processes may add the same tree at once.

use std::fs::{self, File, TryLockError};
use std::io::{self, Read, Seek, Write};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::source::Source;
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::folder::Folder;
use bibliotax_disk::read::read_text;
use bibliotax_disk::remains::{Remains, clear, left_below, left_in};
use bibliotax_disk::temporary::{TEMPORARY, hold_folder};
use bibliotax_disk::tree::{remove, sync_below};
use bibliotax_disk::write::{folder_of, make_folder, open_to_change, write_whole};
use tempfile::TempDir;

use crate::error::StoreError;
use bibliotax_archive::error::{ArchiveError, PackError};
use bibliotax_archive::pack::{write_archive, write_tar};
use bibliotax_archive::select::PackFile;
use bibliotax_archive::unpack::{Listing, TreeFile, unpack};

/// The layout that this version writes and reads.
const FORMAT: &str = "1";

/// The names inside the place of a tree.
const FILES: &str = "files";
const LISTING: &str = "listing.json";
const ARCHIVE: &str = "archive";

/// Largest listing that is read, in bytes: a million files with long names.
const MAX_LISTING_SIZE: usize = 1 << 30;

/// How long the bytes of a tree are taken to be what they were once they were read and were right.
const CHECK_INTERVAL: Duration = Duration::from_hours(7 * 24);

/// The store in a folder.
#[derive(Debug, Clone)]
pub struct Store {
    root: PathBuf,
}

/// A tree that is unpacked and not yet in the store.
#[derive(Debug)]
pub struct Incoming {
    folder: TempDir,
    /// Keeps it from being taken for something that was left behind.
    _held: Option<File>,
    digest: Digest,
    /// How many files it has.
    files: usize,
}

impl Store {
    /// Opens the store in `root`, and makes it if there is none.
    pub fn open(root: &Path) -> Result<Self, StoreError> {
        // What others may have put in place of one of these folders is not followed.
        for name in ["trees", "incoming"] {
            Folder::make(&root.join(name))?;
        }
        for name in ["used-by", "registries"] {
            Folder::open(&root.join(name))?;
        }
        let format = root.join("format");
        match read_text(&format, 1 << 10)? {
            None => write_whole(&format, FORMAT.as_bytes())?,
            Some(found) if found.trim() == FORMAT => {}
            Some(_) => return Err(StoreError::Newer { path: root.to_owned() }),
        }
        Ok(Self { root: root.to_owned() })
    }

    /// Keeps the store from being trimmed for as long as this is held, beside any number of others; nothing where this user
    /// may only read it, and so who may write has to know.
    pub fn in_use(&self, waiting: impl FnOnce()) -> Result<Option<File>, StoreError> {
        match self.held(waiting, File::try_lock_shared, File::lock_shared) {
            Err(StoreError::Disk(error)) if is_read_only(&error) => Ok(None),
            held => {
                let held = held?;
                self.clear_incoming();
                Ok(Some(held))
            }
        }
    }

    /// Keeps everybody from using the store for as long as this is held.
    pub fn alone(&self, waiting: impl FnOnce()) -> Result<File, StoreError> {
        self.held(waiting, File::try_lock, File::lock)
    }

    fn held(
        &self,
        waiting: impl FnOnce(),
        try_lock: impl FnOnce(&File) -> Result<(), TryLockError>,
        lock: impl FnOnce(&File) -> io::Result<()>,
    ) -> Result<File, StoreError> {
        let path = self.root.join(".lock");
        let file = open_to_change(&path)?;
        match try_lock(&file) {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                waiting();
                lock(&file).at("lock", &path)?;
            }
            Err(TryLockError::Error(error)) => Err(error).at("lock", &path)?,
        }
        Ok(file)
    }

    /// Where the trees are.
    pub(crate) fn trees_folder(&self) -> PathBuf {
        self.root.join("trees")
    }

    /// Where projects are noted.
    pub(crate) fn notes(&self) -> PathBuf {
        self.root.join("used-by")
    }

    /// Where what registries answered is kept.
    pub fn answers(&self) -> PathBuf {
        self.root.join("registries")
    }

    /// Where the store is.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// Whether a tree is here.
    pub fn has(&self, archive: &Digest) -> bool {
        self.place_of(archive).is_dir()
    }

    /// The folder of an archive's tree.
    pub fn tree(&self, archive: &Digest) -> PathBuf {
        self.place_of(archive).join(FILES)
    }

    /// What is in an archive's tree; `None` if it isn't here, or its listing is damaged.
    pub fn listing(&self, archive: &Digest) -> Result<Option<Listing>, StoreError> {
        let text = match read_text(&self.place_of(archive).join(LISTING), MAX_LISTING_SIZE) {
            Err(error) if error.source.kind() == io::ErrorKind::InvalidData => None,
            read => read?,
        };
        Ok(text.and_then(|text| serde_json::from_str(&text).ok()))
    }

    /// Whether all bytes of a tree were read lately, and were what they should be: when it was unpacked, or since.
    pub fn was_read_lately(&self, archive: &Digest) -> bool {
        let noted =
            fs::metadata(self.place_of(archive).join(LISTING)).and_then(|metadata| metadata.modified());
        // A time that is still to come says nothing.
        noted.is_ok_and(|noted| noted.elapsed().is_ok_and(|since| since < CHECK_INTERVAL))
    }

    /// Notes that all bytes of a tree were just read and are right. Who may not write there reads them again next time.
    pub fn note_read(&self, archive: &Digest) {
        let listing = File::open(self.place_of(archive).join(LISTING));
        let _ = listing.and_then(|listing| listing.set_modified(SystemTime::now()));
    }

    /// Unpacks an archive of a package, ready to be kept.
    pub fn receive(
        &self,
        archive: impl Read,
        file: &Archive,
        of: &LockedPackage,
    ) -> Result<Incoming, ArchiveError> {
        let (folder, held) = self.aside("tree-")?;
        let tree = folder.path().join(FILES);
        make_folder(&tree)?;
        let kept = match keeps_archive(of, file) {
            true => Some(File::create(folder.path().join(ARCHIVE)).at("write in", folder.path())?),
            false => None,
        };
        let of = Some(format!("{} {}", of.name, of.version));
        let listing = Listing { of, ..unpack(Kept { archive, kept }, file, &tree)? };
        // A listing has nothing that could fail to be JSON.
        let text = serde_json::to_vec(&listing).unwrap_or_default();
        fs::write(folder.path().join(LISTING), text).at("write in", folder.path())?;
        Ok(Incoming { folder, _held: held, digest: file.tree(), files: listing.files.len() })
    }

    /// The bytes of an archive, as they were received or, where that gives the same, as they are packed again from its files; `None`
    /// where neither can be had. They are to be checked as any others.
    pub fn archive(&self, archive: &Archive) -> Result<Option<File>, StoreError> {
        let place = self.place_of(&archive.tree());
        match File::open(place.join(ARCHIVE)) {
            Ok(kept) => return Ok(Some(kept)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            Err(error) => Err(error).at("read", place.join(ARCHIVE))?,
        }
        let is_whole = archive.strip.is_none() && archive.selection.is_all();
        let Some(listing) = self.listing(&archive.tree())?.filter(|_| is_whole) else { return Ok(None) };
        Ok(self.packed_again(&listing, archive).ok().flatten())
    }

    /// The files of a listing as an archive of this format; `None` where that is another one than was received.
    fn packed_again(&self, listing: &Listing, archive: &Archive) -> Result<Option<File>, PackError> {
        let tree = self.tree(&archive.tree());
        let file = |file: &TreeFile| PackFile {
            path: (*file.path).clone(),
            from: tree.join(file.path.as_str()),
            size: file.size,
            executable: file.executable,
        };
        let files: Vec<PackFile> = listing.files.iter().map(file).collect();
        let scratch = self.root.join("incoming");
        let into = tempfile::tempfile_in(&scratch).at("write in", &scratch)?;
        let mut made = match archive.format {
            ArchiveFormat::Tar => write_tar(&files, into)?,
            ArchiveFormat::TarZst => write_archive(&files, into)?,
            _ => return Ok(None),
        };
        made.rewind().at("read", &scratch)?;
        let mut hasher = Hasher::default();
        io::copy(&mut made, &mut hasher).at("read", &scratch)?;
        made.rewind().at("read", &scratch)?;
        Ok((hasher.finish() == archive.sha256).then_some(made))
    }

    /// Makes what was received durable and keeps it.
    pub fn keep(&self, incoming: Vec<Incoming>) -> Result<(), StoreError> {
        if incoming.is_empty() {
            return Ok(());
        }
        let files = incoming.iter().map(|tree| tree.files).sum();
        let folders: Vec<&Path> = incoming.iter().map(|tree| tree.folder.path()).collect();
        sync_below(&folders, files)?;
        incoming.into_iter().try_for_each(|tree| self.place(tree))
    }

    fn place(&self, incoming: Incoming) -> Result<(), StoreError> {
        let place = self.place_of(&incoming.digest);
        Folder::make(folder_of(&place))?;
        // Only its owner can look into a temporary folder; a tree is for all who can look into the store.
        open_to_all(incoming.folder.path())?;
        match fs::rename(incoming.folder.path(), &place) {
            Ok(()) => {
                let _ = incoming.folder.keep();
                Ok(())
            }
            // Another process kept the same tree in the meantime.
            Err(_) if place.is_dir() => Ok(()),
            Err(error) => Err(DiskError::new("move into the store", &place, error).into()),
        }
    }

    /// Takes a tree out, because it is damaged.
    pub fn discard(&self, archive: &Digest) -> Result<(), StoreError> {
        self.remove_whole(&self.place_of(archive))
    }

    /// Takes out what registries answered, and what came from repositories and archives elsewhere; all of it can be asked for
    /// again.
    pub fn discard_answers(&self) -> Result<(), StoreError> {
        self.remove_whole(&self.answers())
    }

    /// Removes a folder of the store, out of its place in one step, so that nobody meets half of it.
    fn remove_whole(&self, place: &Path) -> Result<(), StoreError> {
        let (aside, _held) = self.aside("gone-")?;
        match fs::rename(place, aside.path().join("tree")) {
            Err(error) if error.kind() != io::ErrorKind::NotFound => Err(error).at("remove", place)?,
            _ => Ok(remove(aside.path())?),
        }
    }

    /// A temporary folder for what is on its way in or out.
    fn aside(&self, prefix: &str) -> Result<(TempDir, Option<File>), DiskError> {
        let incoming = self.root.join("incoming");
        let made = tempfile::Builder::new().prefix(prefix).tempdir_in(&incoming).at("write in", &incoming)?;
        let held = hold_folder(made.path());
        Ok((made, held))
    }

    /// What processes that were killed left behind, and nobody holds.
    pub fn remains(&self) -> Vec<Remains> {
        let is_temporary = |name: &str| name.starts_with(TEMPORARY) || name.starts_with(".tmp");
        let mut remains = left_in(&self.root.join("incoming"), |_| true);
        remains.extend(self.partials());
        remains.extend(left_in(&self.root, is_temporary));
        remains.extend(left_in(&self.notes(), is_temporary));
        remains.extend(left_below(&self.answers(), &is_temporary));
        remains
    }

    /// Clears trees that processes that were killed left half unpacked.
    pub(crate) fn clear_incoming(&self) {
        // Whatever keeps one, it will be tried again.
        let _ = clear(&left_in(&self.root.join("incoming"), |_| true));
        let _ = clear(&self.old_partials());
    }

    fn place_of(&self, archive: &Digest) -> PathBuf {
        self.root.join("trees").join(archive.folder()).join(archive.to_string())
    }
}

/// Whether an archive is kept beside its files: one that no registry has and that can't be packed again.
fn keeps_archive(package: &LockedPackage, file: &Archive) -> bool {
    matches!(package.source, Source::Archive(_)) || file.url.is_some()
}

/// An archive that is kept while it is read.
struct Kept<R> {
    archive: R,
    kept: Option<File>,
}

impl<R: Read> Read for Kept<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = self.archive.read(buffer)?;
        self.kept.as_mut().map_or(Ok(()), |kept| kept.write_all(&buffer[..read]))?;
        Ok(read)
    }
}

/// Whether a disk refused because this user may only read.
pub(crate) fn is_read_only(error: &DiskError) -> bool {
    matches!(error.source.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem)
}

#[cfg(unix)]
fn open_to_all(folder: &Path) -> Result<(), DiskError> {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).at("open up", folder)
}

#[cfg(not(unix))]
fn open_to_all(_: &Path) -> Result<(), DiskError> {
    Ok(())
}
