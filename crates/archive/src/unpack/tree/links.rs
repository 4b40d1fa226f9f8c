//! Links of an archive, which become copies: of a file, or of a folder that is small.

use std::fs;

use bibliotax_core::inner_path::InnerPath;
use bibliotax_disk::error::At;
use bibliotax_disk::stamp::Stamp;

use super::{TreeFile, TreePath, TreeWriter};
use crate::error::{ArchiveError, EntryProblem};

/// Longest chain of links to links.
const MAX_CHAIN_LEN: usize = 16;

/// Most files, and most bytes, that come of all links to folders.
const MAX_COPIED_FILES: usize = 2000;
const MAX_COPIED_BYTES: u64 = 64 << 20;

/// A link of an archive.
pub(super) struct Link {
    /// Where it is.
    pub path: InnerPath,
    /// Its target as the archive has it, for messages.
    pub shown: String,
    /// Its target in the tree.
    pub target: String,
}

impl TreeWriter {
    /// Puts copies in the place of all links.
    pub(super) fn copy_links(&mut self) -> Result<(), ArchiveError> {
        let mut to_folders = Vec::new();
        for link in self.links.keys().cloned().collect::<Vec<_>>() {
            match self.end_of(&link) {
                Some(end) if self.files.contains_key(&end) => self.copy_file(&end, &link)?,
                Some(end) if self.is_folder(&end) => to_folders.push((link, end)),
                _ => self.refuse_link(&link, |target| EntryProblem::Link { target }),
            }
        }
        self.copy_folders(to_folders)
    }

    /// Copies folders in an order in which each is complete; those in a circle are refused.
    fn copy_folders(&mut self, mut links: Vec<(String, String)>) -> Result<(), ArchiveError> {
        let (mut files, mut bytes) = (0, 0);
        while !links.is_empty() {
            let open: Vec<String> = links.iter().map(|(link, _)| link.clone()).collect();
            let is_complete = |(_, end): &(String, String)| !open.iter().any(|link| is_below(link, end));
            let (ready, waiting): (Vec<_>, Vec<_>) = links.into_iter().partition(is_complete);
            if ready.is_empty() {
                let why = "contains the link";
                waiting.iter().for_each(|(link, _)| self.refuse_folder(link, why));
                return Ok(());
            }
            for (link, end) in ready {
                let below = self.files_below(&end);
                files += below.len();
                bytes += below.iter().map(|path| self.files[path].size).sum::<u64>();
                if files > MAX_COPIED_FILES || bytes > MAX_COPIED_BYTES {
                    self.refuse_folder(&link, "is too large to be copied");
                    continue;
                }
                for path in below {
                    self.copy_file(&path, &format!("{link}{}", &path[end.len()..]))?;
                }
            }
            links = waiting;
        }
        Ok(())
    }

    /// What is at the end of a chain of links, also where a folder on the way is one; `None` for a circle.
    fn end_of(&self, link: &str) -> Option<String> {
        let mut path = self.links.get(link)?.target.clone();
        for _ in 0..MAX_CHAIN_LEN {
            let folders = path.match_indices('/').map(|(at, _)| at).chain([path.len()]);
            let through = folders.into_iter().find_map(|at| Some((at, self.links.get(&path[..at])?)));
            match through {
                Some((at, further)) => path = format!("{}{}", further.target, &path[at..]),
                None => return Some(path),
            }
        }
        None
    }

    fn is_folder(&self, path: &str) -> bool {
        self.folders.contains(path) || !self.files_below(path).is_empty()
    }

    fn files_below(&self, folder: &str) -> Vec<String> {
        let inside = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        let from = self.files.range(inside.clone()..).map(|(path, _)| path);
        from.take_while(|path| path.starts_with(&inside)).cloned().collect()
    }

    /// Gives a file a second name.
    fn copy_file(&mut self, file: &str, name: &str) -> Result<(), ArchiveError> {
        let Some(path) = self.checked(name) else { return Ok(()) };
        let (from, to) = (self.folder.join(file), self.folder.join(path.as_str()));
        if let Some(folder) = to.parent() {
            fs::create_dir_all(folder).at("make the folder", folder)?;
        }
        fs::hard_link(&from, &to).or_else(|_| fs::copy(&from, &to).map(|_| ())).at("write", &to)?;
        let modified = Stamp::of(&fs::symlink_metadata(&to).at("look at", &to)?);
        let copy = TreeFile { path: TreePath(path), modified, ..self.files[file].clone() };
        self.files.insert(name.to_owned(), copy);
        Ok(())
    }

    fn refuse_folder(&mut self, link: &str, why: &'static str) {
        self.refuse_link(link, |target| EntryProblem::FolderLink { target, why });
    }

    fn refuse_link(&mut self, link: &str, problem: impl FnOnce(String) -> EntryProblem) {
        let target = self.links.get(link).map(|link| link.shown.clone()).unwrap_or_default();
        self.refused.add(link.to_owned(), problem(target));
    }
}

/// Whether a path is in a folder, or is it; all is in the folder without a name.
fn is_below(path: &str, folder: &str) -> bool {
    folder.is_empty() || path == folder || path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}
