//! The link files of a shelf, written only when their text changes, so that builds stay fresh.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bibliotax_core::digest::Digest;
use bibliotax_core::links::{BuildPlace, LinkSettings, LinkedPackage, Links, STAMPS, build_files, file_stem};
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

/// The file that is written whenever something of the links changed, for builds to depend on.
const STAMP: &str = "stamp";

/// Largest file of links that is read, in bytes.
const MAX_SIZE: usize = 256 << 20;

/// What stands between the paths of a variable, as this system has it.
pub const SEPARATOR: char = if cfg!(windows) { ';' } else { ':' };

/// Files by name, which may be in a folder, with their texts.
pub type LinkFiles = BTreeMap<String, String>;

/// The files that tell these links of a lock, for a workspace in `root`: JSON, variables, those for build tools, and what templates
/// make of each.
pub fn link_files(
    lock: &Lock,
    links: &[Links],
    root: &str,
    settings: &LinkSettings,
    templates: Templates<'_>,
) -> Result<LinkFiles, StoreError> {
    let mut files = LinkFiles::new();
    for links in links {
        let project = lock.projects.iter().find(|project| project.name == links.project);
        let folder = project.map_or("", |project| project.path.trim_start_matches('.'));
        let stem = links.file_stem();
        let mut made: Vec<(String, String)> = Vec::new();
        let up = "../".repeat(folder.split('/').filter(|name| !name.is_empty()).count());
        for tool in settings.tools_of(&links.project) {
            let place = BuildPlace { root, up: &up, separator: SEPARATOR };
            made.extend(build_files(*tool, links, &place)?);
        }
        let of_templates = templates.rendered(folder, links)?.into_iter();
        made.extend(of_templates.map(|(name, text)| (name.to_owned(), text)));
        let mut told = links.clone();
        if made.is_empty() {
            // Nobody asks for stamps.
            told.packages.iter_mut().for_each(|package| package.stamp = None);
        }
        files.extend(told.packages.iter().filter_map(stamp));
        // Names, versions and paths: nothing that could fail to be JSON.
        files.insert(format!("{stem}.json"), serde_json::to_string_pretty(&told).unwrap_or_default() + "\n");
        files.insert(format!("{stem}.env"), told.as_variables(SEPARATOR));
        files.extend(made.into_iter().map(|(name, text)| (format!("{stem}.{name}"), text)));
    }
    if !files.is_empty() {
        files.insert(STAMP.to_owned(), whole_stamp(&files, links));
    }
    Ok(files)
}

/// The stamp of all links: another one whenever a package or a file of links is another one, and so written anew.
fn whole_stamp(files: &LinkFiles, links: &[Links]) -> String {
    let mut told = String::new();
    for package in links.iter().flat_map(|links| &links.packages) {
        told.extend([package.name.as_str(), " ", package.version.as_str(), "\n"]);
        told.extend(package.sha256.iter().map(|digest| format!(" {digest}\n")));
    }
    files.iter().for_each(|(name, text)| told.extend([name.as_str(), "\n", text.as_str(), "\n"]));
    format!("{}\n", Digest::of(told.as_bytes()))
}

/// The stamp of a package: written anew, and so newer than all that was built before, whenever the package changed or the shelf is new.
fn stamp(package: &LinkedPackage) -> Option<(String, String)> {
    let name = package.stamp.as_ref()?.rsplit('/').next()?;
    let digests: String = package.sha256.iter().map(|digest| format!(" {digest}")).collect();
    Some((format!("{STAMPS}/{name}"), format!("{} {}{digests}\n", package.name, package.version)))
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
    let made = state.all_places().collect::<Vec<_>>();
    let is_ours = |name: &String| {
        let (place, inside) = (place_of(name), format!("{}/", place_of(name)));
        made.iter().any(|made| *made == place || made.starts_with(&inside)) || name.starts_with(TEMPORARY)
    };
    if let Some(name) = there.iter().find(|name| !is_ours(name)) {
        return Err(Foreign::NotOurs.at("replace", shelf.path().join(LINKS).join(name)).into());
    }
    let is_new = |name: &&String| !state.has_made(&place_of(name));
    let new = files.keys().filter(is_new).map(|name| place_of(name)).collect();
    Ok(NewLinks { new })
}

/// Writes these files, which are all there are, and removes others; the stamp of each, by its place on the shelf.
pub(super) fn write(shelf: &Folder, files: &LinkFiles) -> Result<BTreeMap<String, Stamp>, StoreError> {
    let mut stamps = BTreeMap::new();
    let folder = if files.is_empty() { shelf.folder(LINKS)? } else { Some(shelf.make_folder(LINKS)?) };
    let Some(folder) = folder else { return Ok(stamps) };
    let mut inside: BTreeMap<&str, BTreeMap<&str, &str>> = BTreeMap::new();
    for (name, text) in files {
        let (within, name) = name.split_once('/').unwrap_or(("", name));
        inside.entry(within).or_default().insert(name, text);
    }
    let on_top = inside.get("").cloned().unwrap_or_default();
    for name in folder.names()? {
        if !on_top.contains_key(name.as_str()) && !inside.contains_key(name.as_str()) {
            folder.remove(&name)?;
        }
    }
    for (within, files) in inside {
        let held = if within.is_empty() { folder.again()? } else { folder_there(&folder, within)? };
        if !within.is_empty() {
            for name in held.names()?.iter().filter(|name| !files.contains_key(name.as_str())) {
                held.remove(name)?;
            }
        }
        for (name, text) in files {
            let stamp = write_one(&held, name, text)?;
            let name = if within.is_empty() { name.to_owned() } else { format!("{within}/{name}") };
            stamps.insert(place_of(&name), stamp);
        }
    }
    Ok(stamps)
}

/// A folder of this name in the folder of links, in place of anything else that is there.
fn folder_there(links: &Folder, name: &str) -> Result<Folder, StoreError> {
    if links.entry(name)?.is_some_and(|entry| entry.kind != Kind::Folder) {
        links.remove(name)?;
    }
    Ok(links.make_folder(name)?)
}

/// Writes a file unless it says that already; its stamp.
fn write_one(folder: &Folder, name: &str, text: &str) -> Result<Stamp, StoreError> {
    let is_file = folder.entry(name)?.is_some_and(|entry| entry.kind == Kind::File);
    let there = if is_file { folder.read_text(name, MAX_SIZE).ok().flatten() } else { None };
    if there.as_deref() != Some(text) {
        if !is_file {
            folder.remove(name)?;
        }
        folder.write_whole(name, text.as_bytes())?;
    }
    Ok(folder.entry(name)?.map(|entry| entry.changed).unwrap_or_default())
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
        let nested = ("gate.pkg-config/dew.pc", "Name: dew\n");
        write(&shelf, &files(&[("gate.json", "{}"), nested, ("gate.pkg-config/old.pc", "")])).unwrap();
        let second = write(&shelf, &files(&[("gate.json", "{}"), ("gate.mk", "A := 1\n"), nested])).unwrap();
        assert_eq!(first["links/gate.json"], second["links/gate.json"], "a build would run again");
        let mut names = shelf.folder(LINKS).unwrap().unwrap().names().unwrap();
        names.sort();
        assert_eq!(names, ["gate.json", "gate.mk", "gate.pkg-config"]);
        assert_eq!(shelf.folders("links/gate.pkg-config").unwrap().unwrap().names().unwrap(), ["dew.pc"]);
        assert!(second.contains_key("links/gate.pkg-config/dew.pc"));
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
