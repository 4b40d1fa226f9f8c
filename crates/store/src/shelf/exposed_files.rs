//! The files behind what packages expose: of packages on a shelf by the store's listings, of folders by what is there.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_archive::select::select_part;
use bibliotax_core::exposes::{Exposed, expanded};
use bibliotax_core::links::PackageFiles;
use bibliotax_core::lock::Slot;

use crate::store::Store;

/// The folders that the parts of a package are published from, inside its own, by that folder and the target that takes them; `""` is
/// no target.
pub type PartFolders = BTreeMap<(String, String), Vec<String>>;

/// Knows the files of packages in a workspace.
pub struct ExposedFiles<'s> {
    store: &'s Store,
    root: PathBuf,
    parts: &'s PartFolders,
}

impl<'s> ExposedFiles<'s> {
    /// The files of packages in this store, and in the folders of the workspace in `root`.
    pub fn new(store: &'s Store, root: &Path, parts: &'s PartFolders) -> Self {
        Self { store, root: root.to_owned(), parts }
    }

    /// Where a path of a package is in the folder that it is used in: what comes of a part is in that part's folder.
    fn place(&self, folder: &str, parts: &[String], path: String) -> String {
        let folder = self.root.join(folder);
        if folder.join(&path).exists() {
            return path;
        }
        let in_parts = parts.iter().map(|part| format!("{part}/{path}"));
        in_parts.into_iter().find(|path| folder.join(path).exists()).unwrap_or(path)
    }

    /// The files of a folder and of its parts, by their paths in the package, with where they are in the folder.
    fn files_in(&self, folder: &str, parts: &[String]) -> BTreeMap<String, String> {
        let folder = self.root.join(folder);
        let below = |part: &str| {
            // What can't be read has nothing to expose; the build tells.
            let selection = select_part(&folder.join(part), None).unwrap_or_default();
            selection.files.into_iter().map(|file| file.path.to_string()).collect::<Vec<_>>()
        };
        let mut files: BTreeMap<String, String> =
            below("").into_iter().map(|path| (path.clone(), path)).collect();
        for part in parts {
            files.extend(below(part).into_iter().map(|path| (path.clone(), format!("{part}/{path}"))));
        }
        files
    }
}

impl PackageFiles for ExposedFiles<'_> {
    fn on_shelf(&self, slot: &Slot<'_>, exposed: &[Exposed]) -> Vec<String> {
        if !has_patterns(exposed) {
            return expanded(exposed, &[]);
        }
        let listings = slot.files.iter().filter_map(|file| self.store.listing(&file.tree()).ok().flatten());
        let files = listings.flat_map(|listing| listing.files).map(|file| file.path.to_string());
        expanded(exposed, &files.collect::<Vec<_>>())
    }

    fn in_folder(&self, folder: &str, target: Option<&str>, exposed: &[Exposed]) -> Vec<String> {
        let key = (folder.to_owned(), target.unwrap_or_default().to_owned());
        let parts = self.parts.get(&key).map(Vec::as_slice).unwrap_or_default();
        if !has_patterns(exposed) {
            let found = expanded(exposed, &[]).into_iter();
            return found.map(|path| self.place(folder, parts, path)).collect();
        }
        let files = self.files_in(folder, parts);
        let found = expanded(exposed, &files.keys().cloned().collect::<Vec<_>>()).into_iter();
        found.map(|path| files.get(&path).cloned().unwrap_or(path)).collect()
    }
}

fn has_patterns(exposed: &[Exposed]) -> bool {
    exposed.iter().any(|exposed| matches!(exposed, Exposed::Files(_)))
}
