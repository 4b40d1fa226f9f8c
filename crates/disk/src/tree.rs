//! Whole folders: removing them, and making their content durable.

use std::fs;
use std::io;
use std::path::Path;

use crate::error::{At, Result};

/// Removes a file, a link or a folder with all that is in it, read-only folders included; fine if there is none.
pub fn remove(path: &Path) -> Result<()> {
    let Ok(metadata) = fs::symlink_metadata(path) else { return Ok(()) };
    let removed = if metadata.is_dir() { remove_folder(path) } else { fs::remove_file(path) };
    match removed {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        removed => removed.at("remove", path),
    }
}

fn remove_folder(path: &Path) -> io::Result<()> {
    match fs::remove_dir_all(path) {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {
            make_writable(path)?;
            fs::remove_dir_all(path)
        }
        removed => removed,
    }
}

/// Lets the person write in every folder of a tree, so that what is in them can be removed.
fn make_writable(path: &Path) -> io::Result<()> {
    let mut permissions = fs::symlink_metadata(path)?.permissions();
    #[cfg(unix)]
    std::os::unix::fs::PermissionsExt::set_mode(&mut permissions, 0o700);
    #[cfg(not(unix))]
    permissions.set_readonly(false);
    fs::set_permissions(path, permissions)?;
    for entry in fs::read_dir(path)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            make_writable(&entry.path())?;
        }
    }
    Ok(())
}

/// Up to so many files it is quicker to sync each than all that anybody wrote on the same file system.
const SYNC_EACH_UP_TO: usize = 16;

/// Makes durable the files (so many in all) that were written below these folders of one file system.
pub fn sync_below(folders: &[&Path], files: usize) -> Result<()> {
    match folders.first() {
        Some(first) if files > SYNC_EACH_UP_TO => sync_file_system(first),
        _ => folders.iter().try_for_each(|folder| sync_each(folder)),
    }
}

/// Makes durable all that was written on the file system that holds `path`.
#[cfg(target_os = "linux")]
pub fn sync_file_system(path: &Path) -> Result<()> {
    let folder = fs::File::open(path).at("sync", path)?;
    rustix::fs::syncfs(&folder).map_err(io::Error::from).at("sync", path)
}

/// Makes durable all that was written below `path`.
#[cfg(not(target_os = "linux"))]
pub fn sync_file_system(path: &Path) -> Result<()> {
    sync_each(path)
}

fn sync_each(path: &Path) -> Result<()> {
    for entry in fs::read_dir(path).at("sync", path)? {
        let entry = entry.at("sync", path)?;
        let kind = entry.file_type().at("sync", entry.path())?;
        if kind.is_dir() {
            sync_each(&entry.path())?;
        } else if kind.is_file() {
            fs::File::open(entry.path()).and_then(|file| file.sync_all()).at("sync", entry.path())?;
        }
    }
    crate::write::sync_folder(path)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn removes_read_only_folders_links_and_what_is_not_there() {
        let folder = tempfile::tempdir().unwrap();
        let tree = folder.path().join("tree");
        fs::create_dir_all(tree.join("a/b")).unwrap();
        fs::write(tree.join("a/b/file"), "x").unwrap();
        let mut permissions = fs::metadata(tree.join("a/b")).unwrap().permissions();
        permissions.set_readonly(true);
        fs::set_permissions(tree.join("a/b"), permissions).unwrap();
        remove(&tree).unwrap();
        remove(&tree).unwrap();
        assert!(!tree.exists());
    }
}
