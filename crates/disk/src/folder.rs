//! Folders held open, for places that others may change: the shelf, the steps, the store.
//!
//! Everything in a [`Folder`] is reached through its handle, one name at a time, and no link is followed. So nothing that
//! is in a clone or on a shared disk can redirect a write or a removal, even if it changes meanwhile.

use std::fs::{File, TryLockError};
use std::io::{self, Write};
use std::path::{Component, Path, PathBuf};

use cap_fs_ext::{DirExt, FollowSymlinks, OpenOptionsFollowExt};
use cap_std::ambient_authority;
use cap_std::fs::{Dir, OpenOptions};

use crate::error::{At, DiskError, Foreign, Result};
use crate::lock::Held;
use crate::stamp::Stamp;
use crate::temporary::{TEMPORARY, hold};
use crate::write::folder_of;

/// A folder that is held open.
#[derive(Debug)]
pub struct Folder {
    dir: Dir,
    path: PathBuf,
}

/// What an entry of a folder is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A device, a pipe or the like.
    Other,
}

/// An entry of a folder, itself and not what it may lead to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry {
    /// What it is.
    pub kind: Kind,
    /// Its length in bytes.
    pub size: u64,
    /// When its contents were last changed, as its writer may have set.
    pub modified: Stamp,
    /// When anything of it was last changed, which nobody can set: a copy of it never has the same. The same as `modified` on
    /// systems that don't know it.
    pub changed: Stamp,
    /// Whether its owner may run it; always true on systems that don't know.
    pub is_executable: bool,
}

impl Folder {
    /// Opens a folder; `None` if there is nothing. The way to it may lead over links, its own name may be none.
    pub fn open(path: &Path) -> Result<Option<Self>> {
        let Some(name) = path.file_name() else { return Self::ambient(path) };
        let Some(parent) = Self::ambient(folder_of(path))? else { return Ok(None) };
        Ok(parent.enter(name)?.map(|dir| Self { dir, path: path.to_owned() }))
    }

    /// Opens a folder, and makes it and those above it if there is none.
    pub fn make(path: &Path) -> Result<Self> {
        if let Some(folder) = Self::open(path)? {
            return Ok(folder);
        }
        std::fs::create_dir_all(path).at("make the folder", path)?;
        Self::open(path)?.ok_or_else(|| DiskError::new("open", path, io::ErrorKind::NotFound.into()))
    }

    /// A folder that the person named; links on the way are followed.
    fn ambient(path: &Path) -> Result<Option<Self>> {
        match Dir::open_ambient_dir(path, ambient_authority()) {
            Ok(dir) => Ok(Some(Self { dir, path: path.to_owned() })),
            Err(error) if is_missing(&error) => Ok(None),
            Err(error) => Err(error).at("open", path),
        }
    }

    /// Where it is, for messages.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A folder in it; `None` if there is nothing of this name.
    pub fn folder(&self, name: &str) -> Result<Option<Self>> {
        let name = self.checked(name)?;
        Ok(self.enter(name)?.map(|dir| Self { dir, path: self.path.join(name) }))
    }

    /// A folder in it, made if there is none.
    pub fn make_folder(&self, name: &str) -> Result<Self> {
        let path = self.path.join(self.checked(name)?);
        if let Some(folder) = self.folder(name)? {
            return Ok(folder);
        }
        match self.dir.create_dir(name) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => {
                Err(error).at("make the folder", &path)?;
            }
            _ => {}
        }
        self.folder(name)?.ok_or_else(|| DiskError::new("open", &path, io::ErrorKind::NotFound.into()))
    }

    /// A folder some levels down, its parts separated by `/`, all made if need be.
    pub fn make_folders(&self, inner: &str) -> Result<Self> {
        let mut parts = inner.split('/').filter(|part| !part.is_empty());
        let first = parts.next().map(|part| self.make_folder(part)).transpose()?;
        let first = first.map_or_else(|| self.again(), Ok)?;
        parts.try_fold(first, |folder, part| folder.make_folder(part))
    }

    /// A folder some levels down, its parts separated by `/`; `None` if there is none.
    pub fn folders(&self, inner: &str) -> Result<Option<Self>> {
        let mut folder = self.again()?;
        for part in inner.split('/').filter(|part| !part.is_empty()) {
            let Some(next) = folder.folder(part)? else { return Ok(None) };
            folder = next;
        }
        Ok(Some(folder))
    }

    /// The same folder, held once more.
    pub fn again(&self) -> Result<Self> {
        Ok(Self { dir: self.dir.try_clone().at("open", &self.path)?, path: self.path.clone() })
    }

    fn enter(&self, name: impl AsRef<Path>) -> Result<Option<Dir>> {
        let name = name.as_ref();
        let error = match self.dir.open_dir_nofollow(name) {
            Ok(dir) => return Ok(Some(dir)),
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => error,
        };
        let path = self.path.join(name);
        match self.dir.symlink_metadata(name) {
            Ok(found) if found.is_symlink() => Err(Foreign::Link.at("use", path)),
            Ok(found) if !found.is_dir() => Err(Foreign::NoFolder.at("use", path)),
            _ => Err(error).at("open", path),
        }
    }

    /// The names of everything in it, in no order.
    pub fn names(&self) -> Result<Vec<String>> {
        let name = |entry: io::Result<cap_std::fs::DirEntry>| {
            Ok(entry.at("read", &self.path)?.file_name().to_string_lossy().into_owned())
        };
        self.dir.entries().at("read", &self.path)?.map(name).collect()
    }

    /// What is there under a name; `None` if nothing is.
    pub fn entry(&self, name: &str) -> Result<Option<Entry>> {
        let name = self.checked(name)?;
        match self.looked_at(name) {
            Ok(found) => Ok(Some(found)),
            Err(error) if is_missing(&error) => Ok(None),
            Err(error) => Err(error).at("look at", self.path.join(name)),
        }
    }

    /// What is there under a path of names with `/` between them; `None` if nothing is. Folders on the way may be links: for who
    /// knows that they are none.
    pub fn entry_inside(&self, path: &str) -> Result<Option<Entry>> {
        for name in path.split('/') {
            self.checked(name)?;
        }
        match self.looked_at(path) {
            Ok(found) => Ok(Some(found)),
            Err(error) if is_missing(&error) => Ok(None),
            Err(error) => Err(error).at("look at", self.path.join(path)),
        }
    }

    /// The name was checked, so that one call of the system is enough: a shelf looks at each of its packages in this way.
    #[cfg(unix)]
    fn looked_at(&self, name: &str) -> io::Result<Entry> {
        use rustix::fs::{AtFlags, statat};
        Ok(Entry::of(&statat(&self.dir, name, AtFlags::SYMLINK_NOFOLLOW)?))
    }

    #[cfg(not(unix))]
    fn looked_at(&self, name: &str) -> io::Result<Entry> {
        self.dir.symlink_metadata(name).map(|found| Entry::of(&found))
    }

    /// Opens a file to read it; `None` if there is none. A link or anything else is an error.
    pub fn open_file(&self, name: &str) -> Result<Option<File>> {
        match self.entry(name)?.map(|entry| entry.kind) {
            None => return Ok(None),
            Some(Kind::File) => {}
            Some(Kind::Link) => return Err(Foreign::Link.at("read", self.path.join(name))),
            Some(_) => return Err(Foreign::NotOurs.at("read", self.path.join(name))),
        }
        let opened = self.dir.open_with(name, OpenOptions::new().read(true).follow(FollowSymlinks::No));
        opened.at("read", self.path.join(name)).map(|file| Some(file.into_std()))
    }

    /// The text of a file; `None` if there is none. Over `limit` bytes or no UTF-8 is an error of kind `InvalidData`.
    pub fn read_text(&self, name: &str, limit: usize) -> Result<Option<String>> {
        let Some(file) = self.open_file(name)? else { return Ok(None) };
        crate::read::text_of(file, limit).at("read", self.path.join(name)).map(Some)
    }

    /// Writes a file whole: old or new after any crash, never between. What stands there under its name is replaced, a link
    /// itself and not what it leads to.
    pub fn write_whole(&self, name: &str, contents: &[u8]) -> Result<()> {
        let path = self.path.join(self.checked(name)?);
        let (temporary, mut file) = self.temporary().at("write in", &self.path)?;
        let written = file.write_all(contents).and_then(|()| file.sync_all());
        let written = written.and_then(|()| self.dir.rename(&temporary, &self.dir, name));
        if written.is_err() {
            // What it leaves behind is cleared by the next run, too.
            let _ = self.dir.remove_file(&temporary);
        }
        written.at("write", &path)?;
        self.sync()
    }

    fn temporary(&self) -> io::Result<(String, File)> {
        loop {
            let name = format!("{TEMPORARY}{:016x}", fastrand::u64(..));
            match self.dir.open_with(&name, OpenOptions::new().write(true).create_new(true)) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                opened => {
                    let file = opened?.into_std();
                    hold(&file);
                    return Ok((name, file));
                }
            }
        }
    }

    /// Makes a file that must not be there yet.
    pub fn create_file(&self, name: &str) -> io::Result<File> {
        let created = self.dir.open_with(name, OpenOptions::new().write(true).create_new(true));
        created.map(cap_std::fs::File::into_std)
    }

    /// Gives a file a second name in another folder.
    pub fn hard_link(&self, name: &str, to: &Self, to_name: &str) -> io::Result<()> {
        self.dir.hard_link(name, &to.dir, to_name)
    }

    /// Moves something to another folder of the same disk; `false` if there is nothing of this name.
    pub fn rename(&self, name: &str, to: &Self, to_name: &str) -> Result<bool> {
        let (name, to_name) = (self.checked(name)?, to.checked(to_name)?);
        match self.dir.rename(name, &to.dir, to_name) {
            Ok(()) => Ok(true),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
            Err(error) => Err(error).at("move", self.path.join(name)),
        }
    }

    /// Removes a file, a link, or a folder with all that is in it, read-only folders included; fine if there is nothing.
    pub fn remove(&self, name: &str) -> Result<()> {
        let Some(entry) = self.entry(name)? else { return Ok(()) };
        let removed = match entry.kind {
            Kind::Folder => self.remove_folder(name),
            _ => self.dir.remove_file_or_symlink(name),
        };
        match removed {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            removed => removed.at("remove", self.path.join(name)),
        }
    }

    /// Removes a folder that is empty; whether it is gone.
    pub fn remove_if_empty(&self, name: &str) -> bool {
        self.dir.remove_dir(name).is_ok()
    }

    fn remove_folder(&self, name: &str) -> io::Result<()> {
        match self.dir.remove_dir_all(name) {
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
                make_writable(&self.dir, Path::new(name))?;
                self.dir.remove_dir_all(name)
            }
            removed => removed,
        }
    }

    /// Takes the lock on a file in it, which is made for the purpose; calls `waiting` once if another process holds it.
    pub fn lock(&self, name: &str, waiting: impl FnOnce()) -> Result<Held> {
        let path = self.path.join(self.checked(name)?);
        let mut options = OpenOptions::new();
        options.create(true).truncate(false).write(true).follow(FollowSymlinks::No);
        let opened = self.dir.open_with(name, &options);
        let is_link = || self.entry(name).ok().flatten().is_some_and(|entry| entry.kind == Kind::Link);
        let file = match opened {
            Err(_) if is_link() => return Err(Foreign::Link.at("lock", &path)),
            opened => opened.at("lock", &path)?.into_std(),
        };
        match file.try_lock() {
            Ok(()) => {}
            Err(TryLockError::WouldBlock) => {
                waiting();
                file.lock().at("lock", &path)?;
            }
            Err(TryLockError::Error(error)) => Err(error).at("lock", &path)?,
        }
        Ok(Held::by(file))
    }

    /// Makes the names in it durable: new, renamed and removed ones.
    pub fn sync(&self) -> Result<()> {
        // Other systems can't open a folder for this and order their names themselves.
        if cfg!(unix) {
            self.to_sync().and_then(|folder| folder.sync_all()).at("sync", &self.path)?;
        }
        Ok(())
    }

    /// Makes durable all that was written on the disk that it is on.
    #[cfg(target_os = "linux")]
    pub fn sync_disk(&self) -> Result<()> {
        let folder = self.to_sync().at("sync", &self.path)?;
        rustix::fs::syncfs(&folder).map_err(io::Error::from).at("sync", &self.path)
    }

    /// Makes durable all that was written in it.
    #[cfg(not(target_os = "linux"))]
    pub fn sync_disk(&self) -> Result<()> {
        crate::tree::sync_file_system(&self.path)
    }

    /// The folder as a file: its own handle only leads to what is in it.
    fn to_sync(&self) -> io::Result<File> {
        self.dir.open(".").map(cap_std::fs::File::into_std)
    }

    /// A name that stays in this folder: one part of a path, and neither `.` nor `..`.
    fn checked<'n>(&self, name: &'n str) -> Result<&'n str> {
        let mut parts = Path::new(name).components();
        let is_one =
            matches!((parts.next(), parts.next()), (Some(Component::Normal(part)), None) if part == name);
        if is_one && !name.contains(['/', '\0']) {
            return Ok(name);
        }
        let error = io::Error::new(io::ErrorKind::InvalidInput, "this isn't a file name");
        Err(DiskError::new("use", self.path.join(name), error))
    }
}

impl Entry {
    // The fields are of other types on other systems.
    #[cfg(unix)]
    #[allow(
        clippy::useless_conversion,
        clippy::unnecessary_cast,
        reason = "they are of other types elsewhere"
    )]
    fn of(found: &rustix::fs::Stat) -> Self {
        use rustix::fs::{FileType, Mode};
        let kind = match FileType::from_raw_mode(found.st_mode) {
            FileType::Symlink => Kind::Link,
            FileType::Directory => Kind::Folder,
            FileType::RegularFile => Kind::File,
            _ => Kind::Other,
        };
        Self {
            kind,
            size: u64::try_from(found.st_size).unwrap_or_default(),
            modified: Stamp::of_parts(found.st_mtime as i64, found.st_mtime_nsec as i64),
            changed: Stamp::of_parts(found.st_ctime as i64, found.st_ctime_nsec as i64),
            is_executable: Mode::from_raw_mode(found.st_mode).contains(Mode::XUSR),
        }
    }

    #[cfg(not(unix))]
    fn of(found: &cap_std::fs::Metadata) -> Self {
        let kind = match found.file_type() {
            kind if kind.is_symlink() => Kind::Link,
            kind if kind.is_dir() => Kind::Folder,
            kind if kind.is_file() => Kind::File,
            _ => Kind::Other,
        };
        let modified = found.modified().map(cap_std::time::SystemTime::into_std);
        let modified = modified.map_or_else(|_| Stamp::default(), Stamp::at);
        Self { kind, size: found.len(), modified, changed: modified, is_executable: true }
    }
}

fn is_missing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

/// Lets the person write in every folder of a tree, so that what is in them can be removed.
fn make_writable(parent: &Dir, name: &Path) -> io::Result<()> {
    let mut permissions = parent.symlink_metadata(name)?.permissions();
    #[cfg(unix)]
    cap_std::fs::PermissionsExt::set_mode(&mut permissions, 0o700);
    #[cfg(not(unix))]
    permissions.set_readonly(false);
    parent.set_permissions(name, permissions)?;
    let dir = parent.open_dir_nofollow(name)?;
    for entry in dir.entries()? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            make_writable(&dir, Path::new(&entry.file_name()))?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> (tempfile::TempDir, Folder) {
        let at = tempfile::tempdir().unwrap();
        let folder = Folder::make(&at.path().join("shelf")).unwrap();
        (at, folder)
    }

    #[test]
    fn names_that_lead_elsewhere_reach_nothing() {
        let (at, folder) = folder();
        std::fs::write(at.path().join("outside"), "x").unwrap();
        for name in ["../outside", "..", ".", "", "/etc/passwd", "a/b", "a\0b"] {
            assert!(folder.folder(name).is_err(), "{name:?}");
            assert!(folder.make_folder(name).is_err(), "{name:?}");
            assert!(folder.entry(name).is_err() && folder.remove(name).is_err(), "{name:?}");
            assert!(folder.write_whole(name, b"x").is_err() && folder.lock(name, || ()).is_err(), "{name:?}");
            assert!(folder.rename(name, &folder, "b").is_err(), "{name:?}");
        }
        assert!(folder.make_folders("a/../../b").is_err());
        assert_eq!(std::fs::read_to_string(at.path().join("outside")).unwrap(), "x");
        assert_eq!(std::fs::read_dir(at.path()).unwrap().count(), 2);
    }

    #[cfg(unix)]
    #[test]
    fn links_are_never_followed_only_replaced() {
        use std::os::unix::fs::symlink;
        let (at, folder) = folder();
        let treasure = at.path().join("treasure");
        std::fs::create_dir(&treasure).unwrap();
        std::fs::write(treasure.join("gold"), "x").unwrap();
        for name in ["links", "lock"] {
            symlink(&treasure, folder.path().join(name)).unwrap();
        }
        symlink(treasure.join("gold"), folder.path().join("state")).unwrap();
        symlink(treasure.join("new"), folder.path().join("new")).unwrap();
        assert_eq!(folder.folder("links").unwrap_err().refusal(), crate::Refusal::Foreign);
        assert!(folder.make_folder("links").is_err() && folder.lock("new", || ()).is_err());
        assert!(folder.read_text("state", 10).is_err());
        folder.write_whole("state", b"mine").unwrap();
        folder.remove("links").unwrap();
        assert!(Folder::open(&folder.path().join("lock")).is_err());
        assert_eq!(std::fs::read_to_string(treasure.join("gold")).unwrap(), "x");
        assert_eq!(std::fs::read_dir(&treasure).unwrap().count(), 1);
        assert_eq!(folder.read_text("state", 10).unwrap().unwrap(), "mine");
    }

    #[test]
    fn a_tree_goes_with_its_read_only_folders_and_is_told_by_a_stamp_that_cannot_be_set() {
        let (_at, folder) = folder();
        let inner = folder.make_folders("bed/row").unwrap();
        inner.write_whole("moss", b"green").unwrap();
        let before = folder.entry("bed").unwrap().unwrap();
        let file = File::open(folder.path().join("bed")).unwrap();
        before.modified.put_on(&file).unwrap();
        let after = folder.entry("bed").unwrap().unwrap();
        assert_eq!((before.kind, before.modified), (Kind::Folder, after.modified));
        let mut permissions = std::fs::metadata(folder.path().join("bed/row")).unwrap().permissions();
        permissions.set_readonly(true);
        std::fs::set_permissions(folder.path().join("bed/row"), permissions).unwrap();
        folder.remove("bed").unwrap();
        folder.remove("bed").unwrap();
        assert_eq!(folder.names().unwrap(), [""; 0]);
    }
}
