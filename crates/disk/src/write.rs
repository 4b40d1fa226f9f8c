//! Writes files that are old or new after any crash, never something between.

use std::fs::{self, File, OpenOptions, Permissions};
use std::io::{self, Write};
use std::path::Path;

use crate::error::{At, DiskError, Result};
use crate::temporary::{TEMPORARY, hold};

/// Writes a file whole: to a temporary file beside it, synced, then renamed over it, and the folder synced.
///
/// After a crash at any moment the file has its old contents or the new ones.
pub fn write_whole(path: &Path, contents: &[u8]) -> Result<()> {
    write_with(path, |file| file.write_all(contents).at("write", path))
}

/// Writes what somebody asked for where they said: a file whole, but straight into a device or a pipe, which nothing may replace.
pub fn write_output(path: &Path, contents: &[u8]) -> Result<()> {
    if !is_stream(path) {
        return write_whole(path, contents);
    }
    let mut stream = OpenOptions::new().write(true).open(path).at("write", path)?;
    stream.write_all(contents).at("write", path)
}

/// The same as [`write_whole`] with contents that `write` writes; where it fails, nothing is there that wasn't.
pub fn write_with<E: From<DiskError>>(
    path: &Path,
    write: impl FnOnce(&mut File) -> std::result::Result<(), E>,
) -> std::result::Result<(), E> {
    if is_stream(path) {
        let error = io::Error::new(io::ErrorKind::InvalidInput, "it is a device or a pipe, not a file");
        return Err(DiskError::new("replace", path, error).into());
    }
    let folder = folder_of(path);
    let mut builder = tempfile::Builder::new();
    let mode = mode_of(path);
    builder.prefix(TEMPORARY);
    #[cfg(unix)]
    builder.permissions(mode.clone().unwrap_or_else(usual_mode));
    let mut staged = builder.tempfile_in(folder).at("write in", folder)?;
    hold(staged.as_file());
    write(staged.as_file_mut())?;
    if let Some(mode) = mode {
        // What the process's mask took off when it was made.
        staged.as_file().set_permissions(mode).at("write", path)?;
    }
    staged.as_file().sync_all().at("write", path)?;
    staged.persist(path).map_err(|error| error.error).at("write", path)?;
    Ok(sync_folder(folder)?)
}

/// Whether something is there that is neither file nor folder.
fn is_stream(path: &Path) -> bool {
    fs::metadata(path).is_ok_and(|found| !found.is_file() && !found.is_dir())
}

/// Opens a file to read and change it; makes it where there is none, and leaves its contents.
pub fn open_to_change(path: &Path) -> Result<File> {
    OpenOptions::new().create(true).truncate(false).read(true).write(true).open(path).at("write", path)
}

/// Makes a folder and those above it.
pub fn make_folder(path: &Path) -> Result<()> {
    fs::create_dir_all(path).at("make the folder", path)
}

/// Makes the names in a folder durable: new, renamed and removed ones.
pub fn sync_folder(path: &Path) -> Result<()> {
    // Other systems can't open a folder for this and order their names themselves.
    if cfg!(unix) {
        File::open(path).and_then(|folder| folder.sync_all()).at("sync", path)?;
    }
    Ok(())
}

/// The folder that holds a path; the current one for a bare name.
pub fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// The mode of the file that is replaced, which the new one gets from the beginning.
fn mode_of(path: &Path) -> Option<Permissions> {
    let there = fs::metadata(path).ok().filter(|_| cfg!(unix))?;
    Some(there.permissions())
}

/// The mode that new files usually get, before the process's mask.
#[cfg(unix)]
fn usual_mode() -> Permissions {
    std::os::unix::fs::PermissionsExt::from_mode(0o666)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn replaces_a_file_and_leaves_nothing_beside_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.txt");
        write_whole(&path, b"one").unwrap();
        write_whole(&path, b"two").unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"two");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
    }

    #[cfg(unix)]
    #[test]
    fn a_file_keeps_its_mode_and_a_new_one_has_that_of_any_new_file() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        let (path, other) = (folder.path().join("a.txt"), folder.path().join("b.txt"));
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode();
        write_whole(&path, b"one").unwrap();
        fs::write(&other, b"one").unwrap();
        assert_eq!(mode(&path), mode(&other));
        for kept in [0o600, 0o666, 0o755] {
            fs::set_permissions(&path, Permissions::from_mode(kept)).unwrap();
            write_whole(&path, b"two").unwrap();
            assert_eq!(mode(&path) & 0o777, kept);
        }
    }

    #[test]
    fn a_folder_that_is_not_there_is_told_with_its_path() {
        let error = write_whole(Path::new("/nowhere/at/all"), b"").unwrap_err();
        assert_eq!(error.refusal(), crate::Refusal::Missing);
        assert!(error.to_string().contains("/nowhere/at"), "{error}");
    }
}
