//! The link files of a shelf, written only when their text changes, so that builds stay fresh.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bibliotax_core::links::{Links, file_stem};
use bibliotax_core::lock::Lock;
use bibliotax_core::name::PackageName;
use bibliotax_disk::error::Foreign;
use bibliotax_disk::folder::{Folder, Kind};
use bibliotax_disk::stamp::Stamp;
use bibliotax_disk::temporary::TEMPORARY;

use super::template::Templates;
use super::{Shelf, State};
use crate::error::StoreError;

/// The folder's name on the shelf; no package and no target can have it.
pub(super) const LINKS: &str = "links";

/// Largest file of links that is read, in bytes.
const MAX_SIZE: usize = 256 << 20;

/// What stands between the paths of a variable, as this system has it.
pub const SEPARATOR: char = if cfg!(windows) { ';' } else { ':' };

/// Files by name, with their texts.
pub type LinkFiles = BTreeMap<String, String>;

/// The files that tell these links of a lock: JSON, variables, and what templates make of each.
pub fn link_files(lock: &Lock, links: &[Links], templates: Templates<'_>) -> Result<LinkFiles, StoreError> {
    let mut files = LinkFiles::new();
    for links in links {
        let project = lock.projects.iter().find(|project| project.name == links.project);
        let folder = project.map_or("", |project| project.path.trim_start_matches('.'));
        let stem = links.file_stem();
        // Names, versions and paths: nothing that could fail to be JSON.
        files.insert(format!("{stem}.json"), serde_json::to_string_pretty(links).unwrap_or_default() + "\n");
        files.insert(format!("{stem}.env"), links.as_variables(SEPARATOR));
        let made = templates.rendered(folder, links)?;
        files.extend(made.into_iter().map(|(name, text)| (format!("{stem}.{name}"), text)));
    }
    Ok(files)
}

impl Shelf {
    /// The file that gives a project's links as JSON; there is none where the lock holds nothing for the target.
    pub fn links_file(&self, project: &PackageName, target: Option<&str>) -> PathBuf {
        self.root.join(LINKS).join(json_file(project, target))
    }

    /// A project's links as they are on the shelf, with paths from the root of the disk.
    pub fn links(&self, project: &PackageName, target: Option<&str>) -> Result<Option<Links>, StoreError> {
        let Some(shelf) = self.open()? else { return Ok(None) };
        let Some(folder) = shelf.folder(LINKS)? else { return Ok(None) };
        let Some(text) = folder.read_text(&json_file(project, target), MAX_SIZE)? else { return Ok(None) };
        let Ok(links) = serde_json::from_str::<Links>(&text) else { return Ok(None) };
        let folder = PathBuf::from(self.absolute_project()?);
        Ok(Some(links.with_paths(|path| folder.join(path).to_string_lossy().into_owned())))
    }
}

fn json_file(project: &PackageName, target: Option<&str>) -> String {
    format!("{}.json", file_stem(project, target))
}

/// The places of link files that are about to be made and aren't there yet.
pub(super) struct NewLinks {
    pub new: Vec<String>,
}

/// Looks at what is in the folder of links before anything is written: what is neither ours nor going to be is refused.
pub(super) fn foreign(shelf: &Folder, files: &LinkFiles, state: &State) -> Result<NewLinks, StoreError> {
    let there = match shelf.folder(LINKS)? {
        Some(folder) => folder.names()?,
        None => Vec::new(),
    };
    let is_ours = |name: &String| state.has_made(&place_of(name)) || name.starts_with(TEMPORARY);
    if let Some(name) = there.iter().find(|name| !is_ours(name)) {
        return Err(Foreign::NotOurs.at("replace", shelf.path().join(LINKS).join(name)).into());
    }
    let new = files.keys().filter(|name| !there.contains(name)).map(|name| place_of(name)).collect();
    Ok(NewLinks { new })
}

/// Writes these files, which are all there are, and removes others; the stamp of each, by its place on the shelf.
pub(super) fn write(shelf: &Folder, files: &LinkFiles) -> Result<BTreeMap<String, Stamp>, StoreError> {
    let mut stamps = BTreeMap::new();
    let folder = if files.is_empty() { shelf.folder(LINKS)? } else { Some(shelf.make_folder(LINKS)?) };
    let Some(folder) = folder else { return Ok(stamps) };
    for name in folder.names()?.iter().filter(|name| !files.contains_key(*name)) {
        folder.remove(name)?;
    }
    for (name, text) in files {
        let is_file = folder.entry(name)?.is_some_and(|entry| entry.kind == Kind::File);
        let there = if is_file { folder.read_text(name, MAX_SIZE).ok().flatten() } else { None };
        if there.as_deref() != Some(text.as_str()) {
            if !is_file {
                folder.remove(name)?;
            }
            folder.write_whole(name, text.as_bytes())?;
        }
        let stamp = folder.entry(name)?.map(|entry| entry.changed);
        stamps.insert(place_of(name), stamp.unwrap_or_default());
    }
    Ok(stamps)
}

fn place_of(name: &str) -> String {
    format!("{LINKS}/{name}")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn files(files: &[(&str, &str)]) -> LinkFiles {
        files.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect()
    }

    #[test]
    fn files_are_written_only_where_they_say_something_new_and_others_go() {
        let folder = tempfile::tempdir().unwrap();
        let shelf = Folder::make(folder.path()).unwrap();
        let first = write(&shelf, &files(&[("gate.json", "{}"), ("gate.env", "A=1\n")])).unwrap();
        let second = write(&shelf, &files(&[("gate.json", "{}"), ("gate.mk", "A := 1\n")])).unwrap();
        assert_eq!(first["links/gate.json"], second["links/gate.json"], "a build would run again");
        let mut names = shelf.folder(LINKS).unwrap().unwrap().names().unwrap();
        names.sort();
        assert_eq!(names, ["gate.json", "gate.mk"]);
        assert!(write(&shelf, &LinkFiles::new()).unwrap().is_empty());
    }

    #[test]
    fn what_is_not_ours_is_refused_before_anything_is_written() {
        let folder = tempfile::tempdir().unwrap();
        let shelf = Folder::make(folder.path()).unwrap();
        let wanted = files(&[("gate.json", "{}")]);
        assert_eq!(foreign(&shelf, &wanted, &State::default()).unwrap().new, ["links/gate.json"]);
        std::fs::create_dir(folder.path().join(LINKS)).unwrap();
        std::fs::write(folder.path().join("links/notes.txt"), "mine").unwrap();
        assert!(foreign(&shelf, &wanted, &State::default()).is_err());
    }
}
