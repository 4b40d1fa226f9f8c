//! Writes to a registry: files by digest, and events at the end of a package's history.

use std::fs::{self, File};
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::Path;

use bibliotax_core::digest::Digest;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::exclusive;
use bibliotax_disk::write::{folder_of, make_folder, open_to_change, sync_folder};

use super::Folder;
use crate::model::error::RegistryError;
use crate::model::history_limits::lines_to_append;
use crate::model::staging::Staged;
use crate::model::storage::{Decide, ReadRegistry, read_history};

impl Folder {
    pub(super) fn keep_staged(
        &self,
        staged: Staged,
        is_durable: bool,
    ) -> Result<(Digest, u64), RegistryError> {
        let (digest, size) = (staged.digest(), staged.size());
        let path = self.file_path(&digest);
        let file = staged.into_file();
        if is_durable {
            file.as_file().sync_all().at("write", &path)?;
        }
        make_folder(folder_of(&path))?;
        let placed = match file.persist_noclobber(&path) {
            Err(error) if error.error.kind() == io::ErrorKind::AlreadyExists => return Ok((digest, size)),
            Err(error) => Err(error.error).at("write", &path)?,
            Ok(file) => file,
        };
        let mut permissions = placed.metadata().at("write", &path)?.permissions();
        make_readable(&mut permissions);
        fs::set_permissions(&path, permissions).at("write", &path)?;
        if is_durable {
            sync_folder(folder_of(&path))?;
        }
        Ok((digest, size))
    }

    pub(super) fn append_events(
        &self,
        package: &PackageName,
        decide: &mut Decide<'_>,
    ) -> Result<usize, RegistryError> {
        let path = self.history_path(package);
        let (mut file, there, history) = self.open_for_appending(package, &path)?;
        let events = decide(&history)?;
        let lines = lines_to_append(package, there, &events)?;
        file.write_all(lines.as_bytes()).and_then(|()| file.sync_all()).at("write", &path)?;
        sync_folder(folder_of(&path))?;
        Ok(events.len())
    }

    pub(super) fn append_lines(
        &self,
        package: &PackageName,
        before: &str,
        lines: &str,
    ) -> Result<(), RegistryError> {
        let path = self.history_path(package);
        let (mut file, ..) = self.open_for_appending(package, &path)?;
        if self.history_text(package)?.unwrap_or_default() != before {
            return Err(RegistryError::NoMirror { package: package.clone() });
        }
        read_history(package, &format!("{before}{lines}"), None, || path.clone())?;
        file.write_all(lines.as_bytes()).and_then(|()| file.sync_all()).at("write", &path)?;
        Ok(sync_folder(folder_of(&path))?)
    }

    /// The history of a package, locked, without the remains of a publisher that died, at its end; its length, and what it says.
    fn open_for_appending(
        &self,
        package: &PackageName,
        path: &Path,
    ) -> Result<(File, usize, History), RegistryError> {
        let wrong = |error: io::Error| DiskError::new("write", path, error);
        make_folder(folder_of(path))?;
        let mut file = open_to_change(path)?;
        exclusive(&file, || ()).map_err(wrong)?;
        let mut text = String::new();
        file.read_to_string(&mut text).map_err(wrong)?;
        let whole = text.rfind('\n').map_or(0, |end| end + 1);
        if whole < text.len() {
            file.set_len(whole as u64).map_err(wrong)?;
        }
        file.seek(SeekFrom::Start(whole as u64)).map_err(wrong)?;
        let history = read_history(package, &text[..whole], None, || path.to_owned())?;
        Ok((file, whole, history))
    }
}

#[cfg(unix)]
fn make_readable(permissions: &mut fs::Permissions) {
    std::os::unix::fs::PermissionsExt::set_mode(permissions, 0o644);
}

#[cfg(not(unix))]
fn make_readable(_: &mut fs::Permissions) {}
