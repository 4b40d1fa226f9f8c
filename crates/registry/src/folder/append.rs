//! Writing to a registry: files by their digest, and events at the end of a package's history.

use std::fs::{self, File, OpenOptions};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;

use bibliotax_core::card::Event;
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::exclusive;
use bibliotax_disk::tree::sync_file_system;
use bibliotax_disk::write::{folder_of, make_folder, sync_folder};
use tempfile::NamedTempFile;

use super::Folder;
use crate::error::RegistryError;

/// A file on its way into a registry: hashed while it is written, kept under its digest at the end.
pub struct Staged {
    file: NamedTempFile,
    hasher: Hasher,
    size: u64,
}

impl Write for Staged {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.hasher.update(&bytes[..written]);
        self.size += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Staged {
    /// The digest of what was written so far.
    pub fn digest(&self) -> Digest {
        self.hasher.clone().finish()
    }
}

impl Folder {
    /// Begins a new file.
    pub fn stage(&self) -> Result<Staged, RegistryError> {
        let folder = self.root.join("files");
        let file =
            tempfile::Builder::new().prefix(".staged-").tempfile_in(&folder).at("write in", &folder)?;
        Ok(Staged { file, hasher: Hasher::default(), size: 0 })
    }

    /// Keeps a staged file, durably; its digest and size.
    pub fn keep(&self, staged: Staged) -> Result<(Digest, u64), RegistryError> {
        let wrong = |error| DiskError::new("write in", self.root.join("files"), error);
        staged.file.as_file().sync_all().map_err(wrong)?;
        let kept = self.keep_for_now(staged)?;
        sync_folder(folder_of(&self.file_path(&kept.0)))?;
        Ok(kept)
    }

    /// Keeps a staged file; its digest and size. It is durable only after [`Folder::sync`].
    pub fn keep_for_now(&self, staged: Staged) -> Result<(Digest, u64), RegistryError> {
        let digest = staged.hasher.finish();
        let path = self.file_path(&digest);
        make_folder(folder_of(&path))?;
        let placed = match staged.file.persist_noclobber(&path) {
            Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists => {
                return Ok((digest, staged.size));
            }
            Err(error) => Err(error.error).at("write", &path)?,
            Ok(file) => file,
        };
        let mut permissions = placed.metadata().at("write", &path)?.permissions();
        make_readable(&mut permissions);
        fs::set_permissions(&path, permissions).at("write", &path)?;
        Ok((digest, staged.size))
    }

    /// A new file with these bytes.
    pub fn stage_bytes(&self, bytes: &[u8]) -> Result<Staged, RegistryError> {
        let mut staged = self.stage()?;
        staged.write_all(bytes).at("write in", self.root.join("files"))?;
        Ok(staged)
    }

    /// Whether there is a file with this digest.
    pub fn has_file(&self, digest: &Digest) -> bool {
        self.file_path(digest).is_file()
    }

    /// Makes durable all files that were kept for now.
    pub fn sync(&self) -> Result<(), RegistryError> {
        Ok(sync_file_system(&self.root.join("files"))?)
    }

    /// Appends the events that `decide` makes of a package's history as it stands, while no other process
    /// can change it; how many they were.
    ///
    /// What the events name has to be durable before, so that no event names a file that a crash can lose.
    pub fn append<E: From<RegistryError>>(
        &self,
        package: &PackageName,
        decide: impl FnOnce(&History) -> Result<Vec<Event>, E>,
    ) -> Result<usize, E> {
        let path = self.history_path(package);
        let (mut file, history) = self.open_for_appending(package, &path)?;
        let events = decide(&history)?;
        write_events(&mut file, &events).at("write", &path).map_err(RegistryError::from)?;
        sync_folder(folder_of(&path)).map_err(RegistryError::from)?;
        Ok(events.len())
    }

    /// Appends lines to a package's history that is `before` and nothing else.
    ///
    /// What they name has to be durable before.
    pub fn append_text(&self, package: &PackageName, before: &str, lines: &str) -> Result<(), RegistryError> {
        let path = self.history_path(package);
        let (mut file, _) = self.open_for_appending(package, &path)?;
        if self.history_text(package)?.unwrap_or_default() != before {
            return Err(RegistryError::NoMirror { package: package.clone() });
        }
        History::read(package, &format!("{before}{lines}"), None).map_err(|source| {
            RegistryError::BrokenHistory { package: package.clone(), path: path.clone(), source }
        })?;
        file.write_all(lines.as_bytes()).and_then(|()| file.sync_all()).at("write", &path)?;
        Ok(sync_folder(folder_of(&path))?)
    }

    /// The history of a package, locked, without the remains of a publisher that died, at its end.
    fn open_for_appending(
        &self,
        package: &PackageName,
        path: &Path,
    ) -> Result<(File, History), RegistryError> {
        let wrong = |error: io::Error| DiskError::new("write", path, error);
        make_folder(folder_of(path))?;
        let mut file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .read(true)
            .write(true)
            .open(path)
            .map_err(wrong)?;
        exclusive(&file, || ()).map_err(wrong)?;
        let mut text = String::new();
        file.read_to_string(&mut text).map_err(wrong)?;
        let whole = text.rfind('\n').map_or(0, |end| end + 1);
        if whole < text.len() {
            file.set_len(whole as u64).map_err(wrong)?;
        }
        file.seek(SeekFrom::Start(whole as u64)).map_err(wrong)?;
        let broken =
            |source| RegistryError::BrokenHistory { package: package.clone(), path: path.to_owned(), source };
        let history = History::read(package, &text[..whole], None).map_err(broken)?;
        Ok((file, history))
    }
}

fn write_events(file: &mut File, events: &[Event]) -> io::Result<()> {
    let mut lines = Vec::new();
    for event in events {
        serde_json::to_writer(&mut lines, event)?;
        lines.push(b'\n');
    }
    file.write_all(&lines)?;
    file.sync_all()
}

#[cfg(unix)]
fn make_readable(permissions: &mut fs::Permissions) {
    std::os::unix::fs::PermissionsExt::set_mode(permissions, 0o644);
}

#[cfg(not(unix))]
fn make_readable(_: &mut fs::Permissions) {}
