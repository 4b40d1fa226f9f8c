//! The links of a shelf as files, written only where they say something new, so that what is built from them stays fresh.

use std::collections::BTreeMap;
use std::fs;
use std::path::PathBuf;

use bibliotax_core::links::{Links, file_stem};
use bibliotax_core::name::PackageName;
use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_disk::stamp::{self, Stamp};
use bibliotax_disk::tree::remove;
use bibliotax_disk::write::{make_folder, write_whole};

use super::template::Template;
use super::{Shelf, names_in};
use crate::error::StoreError;

/// The folder's name on the shelf; no package and no target can have it.
pub(super) const LINKS: &str = "links";

/// Largest file of links that is read, in bytes.
const LARGEST: usize = 256 << 20;

/// What stands between the paths of a variable, as this system has it.
pub const SEPARATOR: char = if cfg!(windows) { ';' } else { ':' };

/// Files by name, with their texts.
pub type LinkFiles = BTreeMap<String, String>;

/// The files that tell these links: JSON, variables, and what the project's own templates make of each.
pub fn link_files(links: &[Links], templates: &[Template]) -> Result<LinkFiles, StoreError> {
    let mut files = LinkFiles::new();
    for links in links {
        let stem = links.file_stem();
        // Names, versions and paths: nothing that could fail to be JSON.
        files.insert(format!("{stem}.json"), serde_json::to_string_pretty(links).unwrap_or_default() + "\n");
        files.insert(format!("{stem}.env"), links.as_variables(SEPARATOR));
        for template in templates {
            files.insert(format!("{stem}.{}", template.name), template.render(links)?);
        }
    }
    Ok(files)
}

impl Shelf {
    /// The file that gives a project's links as JSON; there is none where the lock holds nothing for the target.
    pub fn links_file(&self, project: &PackageName, target: Option<&str>) -> PathBuf {
        self.package(LINKS).join(format!("{}.json", file_stem(project, target)))
    }

    /// A project's links as they are on the shelf, with paths from the root of the disk.
    pub fn links(&self, project: &PackageName, target: Option<&str>) -> Result<Option<Links>, StoreError> {
        let Some(text) = read_text(&self.links_file(project, target), LARGEST)? else { return Ok(None) };
        let Ok(links) = serde_json::from_str::<Links>(&text) else { return Ok(None) };
        let folder = PathBuf::from(self.absolute_project()?);
        Ok(Some(links.with_paths(|path| folder.join(path).to_string_lossy().into_owned())))
    }

    /// Writes these files, which are all there are, and removes others; the stamp of each, by its place on the shelf.
    pub fn write_links(&self, files: &LinkFiles) -> Result<BTreeMap<String, Stamp>, StoreError> {
        let folder = self.package(LINKS);
        for name in names_in(&folder)?.into_iter().filter(|name| !files.contains_key(name)) {
            remove(&folder.join(name))?;
        }
        if !files.is_empty() {
            make_folder(&folder)?;
        }
        let mut stamps = BTreeMap::new();
        for (name, text) in files {
            let path = folder.join(name);
            let there = match fs::read(&path) {
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
                read => Some(read.at("read", &path)?),
            };
            if there.as_deref() != Some(text.as_bytes()) {
                write_whole(&path, text.as_bytes())?;
            }
            stamps.insert(format!("{LINKS}/{name}"), stamp::of_file(&path)?.unwrap_or_default());
        }
        Ok(stamps)
    }
}
