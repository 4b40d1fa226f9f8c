//! The links of a shelf as files, written only where they say something new, so that what is built from them stays fresh.

use std::collections::BTreeMap;
use std::fs;

use bibliotax_core::links::Links;
use bibliotax_disk::error::At;
use bibliotax_disk::tree::remove;
use bibliotax_disk::write::{make_folder, write_whole};

use super::{Shelf, names_in};
use crate::error::StoreError;

/// The folder's name on the shelf; no package and no target can have it.
pub(super) const LINKS: &str = "links";

/// What stands between the paths of a variable, as this system has it.
const SEPARATOR: char = if cfg!(windows) { ';' } else { ':' };

impl Shelf {
    /// Writes the files of these links, which are all there are, and removes others; how many changed.
    pub fn write_links(&self, links: &[Links]) -> Result<usize, StoreError> {
        let folder = self.package(LINKS);
        let mut wanted: BTreeMap<String, String> = BTreeMap::new();
        for links in links {
            // Names, versions and paths: nothing that could fail to be JSON.
            let json = serde_json::to_string_pretty(links).unwrap_or_default() + "\n";
            wanted.insert(format!("{}.json", links.file_stem()), json);
            wanted.insert(format!("{}.env", links.file_stem()), links.as_variables(SEPARATOR));
        }
        let mut changed = 0;
        for name in names_in(&folder)?.into_iter().filter(|name| !wanted.contains_key(name)) {
            remove(&folder.join(name))?;
            changed += 1;
        }
        if !wanted.is_empty() {
            make_folder(&folder)?;
        }
        for (name, text) in &wanted {
            let path = folder.join(name);
            let there = match fs::read(&path) {
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => None,
                read => Some(read.at("read", &path)?),
            };
            if there.as_deref() != Some(text.as_bytes()) {
                write_whole(&path, text.as_bytes())?;
                changed += 1;
            }
        }
        Ok(changed)
    }
}
