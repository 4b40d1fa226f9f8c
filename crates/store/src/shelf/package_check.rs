//! The state of a package's files on a shelf: recorded when it is built, compared before it counts as untouched.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};

use bibliotax_disk::folder::{Folder, Kind};
use bibliotax_disk::stamp::Stamp;
use serde::{Deserialize, Serialize};

use super::link::Built;
use crate::error::StoreError;
use bibliotax_archive::unpack::TreeFile;

/// How closely packages are looked at before they count as untouched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum PackageCheck {
    /// At every folder: files that came, went or were replaced are noticed, and files that were written to are not.
    #[default]
    Folders,
    /// At every file as well, by its size and time.
    Files,
}

/// What is inside a package's folder.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct PackageContents {
    /// When each folder was last changed, by its path inside; the package's own has none.
    pub folders: BTreeMap<String, Stamp>,
    /// The files, as a state has them: JSON that is read only where files are looked at.
    pub files: String,
}

/// A file of a package: its path inside, size, time, and whether it can be run.
#[derive(Serialize, Deserialize)]
struct File<'t>(#[serde(borrow)] Cow<'t, str>, u64, Stamp, bool);

impl PackageContents {
    /// What is inside a package that was just built, as `name` in a folder.
    pub fn of_built(folder: &Folder, name: &str, built: &Built) -> Result<Self, StoreError> {
        let files = &built.files;
        let mut paths: BTreeSet<&str> = BTreeSet::from([""]);
        let in_folders = files.iter().map(|file| file.path.split().0);
        for path in in_folders.chain(built.empty.iter().map(|folder| folder.as_str())) {
            let mut path = path;
            while paths.insert(path) {
                path = path.rsplit_once('/').map_or("", |(above, _)| above);
            }
        }
        let mut folders = BTreeMap::new();
        for path in paths {
            let found = folder.entry_inside(&joined(name, path))?.map(|entry| entry.changed);
            folders.insert(path.to_owned(), found.unwrap_or_default());
        }
        let file = |file: &TreeFile| {
            let modified = built.time.unwrap_or(file.modified);
            serde_json::json!(File(file.path.as_str().into(), file.size, modified, file.executable))
        };
        // Texts and numbers: nothing that could fail to be JSON.
        let files = serde_json::to_string(&files.iter().map(file).collect::<Vec<_>>()).unwrap_or_default();
        Ok(Self { folders, files })
    }
}

/// Whether something of this kind is at a path, last changed then.
pub fn is_as_stamped(folder: &Folder, path: &str, kind: Kind, stamp: Stamp) -> Result<bool, StoreError> {
    let found = folder.entry_inside(path)?;
    Ok(found.is_some_and(|found| found.kind == kind && found.changed == stamp))
}

/// Whether the package `name` in a folder has these folders, untouched since.
pub fn has_folders(
    folder: &Folder,
    name: &str,
    folders: &BTreeMap<String, Stamp>,
) -> Result<bool, StoreError> {
    for (path, stamp) in folders {
        if !is_as_stamped(folder, &joined(name, path), Kind::Folder, *stamp)? {
            return Ok(false);
        }
    }
    Ok(!folders.is_empty())
}

/// Whether the package `name` in a folder has these files by size and time, once its folders are known to be untouched: so no
/// other file is there, and no link on the way.
pub fn has_files(folder: &Folder, name: &str, files: &str) -> Result<bool, StoreError> {
    let Ok(files) = serde_json::from_str::<Vec<File<'_>>>(files) else { return Ok(false) };
    for File(path, size, modified, executable) in files {
        let Some(found) = folder.entry_inside(&joined(name, &path))? else { return Ok(false) };
        let is_as_noted = found.kind == Kind::File
            && (found.size, found.modified) == (size, modified)
            && (!cfg!(unix) || found.is_executable == executable);
        if !is_as_noted {
            return Ok(false);
        }
    }
    Ok(true)
}

fn joined(name: &str, path: &str) -> String {
    if path.is_empty() { name.to_owned() } else { format!("{name}/{path}") }
}
