//! Files that are old or new after any crash, never between.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

use crate::error::{At, DiskError, Result};
use crate::folder::TEMPORARY;
use crate::remains::hold;

/// Writes a file whole: to a temporary file beside it, synced, then renamed over it, and the folder synced.
///
/// After a crash at any moment the file has its old contents or the new ones.
pub fn write_whole(path: &Path, contents: &[u8]) -> Result<()> {
    write_with(path, |file| file.write_all(contents).at("write", path))
}

/// The same with contents that `write` writes; where it fails, nothing is there that wasn't.
pub fn write_with<E: From<DiskError>>(
    path: &Path,
    write: impl FnOnce(&mut File) -> std::result::Result<(), E>,
) -> std::result::Result<(), E> {
    let folder = folder_of(path);
    let mut staged = tempfile::Builder::new().prefix(TEMPORARY).tempfile_in(folder).at("write in", folder)?;
    hold(staged.as_file());
    write(staged.as_file_mut())?;
    keep_mode(path, staged.as_file()).at("write", path)?;
    staged.as_file().sync_all().at("write", path)?;
    staged.persist(path).map_err(|error| error.error).at("write", path)?;
    Ok(sync_folder(folder)?)
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

/// Gives the new file the mode of the one that it replaces or, where it is new, what files usually get.
#[cfg(unix)]
fn keep_mode(path: &Path, staged: &File) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let mode = match fs::metadata(path) {
        Ok(old) => old.permissions().mode(),
        Err(_) => 0o666 & !umask(),
    };
    staged.set_permissions(fs::Permissions::from_mode(mode))
}

#[cfg(not(unix))]
fn keep_mode(_: &Path, _: &File) -> std::io::Result<()> {
    Ok(())
}

/// The process's file mode mask, which can only be read by setting it.
#[cfg(unix)]
fn umask() -> u32 {
    static MASK: std::sync::LazyLock<u32> = std::sync::LazyLock::new(|| {
        let mask = rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
        rustix::process::umask(mask);
        mask.bits()
    });
    *MASK
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

    #[test]
    fn a_folder_that_is_not_there_is_told_with_its_path() {
        let error = write_whole(Path::new("/nowhere/at/all"), b"").unwrap_err();
        assert_eq!(error.refusal(), crate::Refusal::Missing);
        assert!(error.to_string().contains("/nowhere/at"), "{error}");
    }
}
