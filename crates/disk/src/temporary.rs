//! Names of temporary files and folders, and the locks on them.

use std::fs::File;
use std::path::Path;

/// How temporary files begin; what a killed process left of them can go.
pub const TEMPORARY: &str = ".bibliotax-";

/// Holds a temporary folder of ours for as long as this lives; nothing where folders can't be held.
pub fn hold_folder(path: &Path) -> Option<File> {
    let folder = File::open(path).ok()?;
    hold(&folder);
    Some(folder)
}

/// Holds a temporary file of ours for as long as it is open.
pub fn hold(file: &File) {
    // Where that fails, its age has to say that it is in use.
    let _ = file.try_lock();
}
