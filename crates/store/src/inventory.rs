//! What is in the store, who uses it, and what can be removed.
//!
//! A project is noted when something of the store goes onto its shelf; what it uses is what its shelf's state says, read when
//! it matters. A project that was moved or removed uses nothing, and its note goes with the next pruning.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use bibliotax_core::digest::Digest;
use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_disk::remains::{Remains, bytes_of, clear};
use bibliotax_disk::write::{make_folder, write_whole};
use rayon::prelude::*;

use crate::error::StoreError;
use crate::shelf::Shelf;
use crate::store::{Store, is_read_only};
use crate::verify::{FileCheck, is_damaged};
use bibliotax_archive::unpack::Listing;

/// Largest note of a project that is read, in bytes.
const MAX_NOTE_SIZE: usize = 64 << 10;

/// An unpacked archive in the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tree {
    /// The archive.
    pub archive: Digest,
    /// The release that it first came for, where that is known.
    pub of: Option<String>,
    /// How many files it has.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// When it came.
    pub since: SystemTime,
    /// How many projects have it on their shelves.
    pub projects: usize,
}

/// A project whose shelf was made from the store.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Project {
    /// Its folder.
    pub path: PathBuf,
    /// The archives on its shelf.
    pub archives: BTreeSet<Digest>,
}

/// All that the store keeps.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Inventory {
    /// The trees, by digest.
    pub trees: Vec<Tree>,
    /// The projects that are still there, by path.
    pub projects: Vec<Project>,
    /// Bytes of what registries answered.
    pub answers: u64,
    /// What processes that were killed left behind.
    pub remains: Vec<Remains>,
}

/// Which unused trees are to go.
#[derive(Debug, Clone, Copy, Default)]
pub struct Trimming {
    /// Only those that came longer ago than this.
    pub older_than: Option<Duration>,
    /// Only as many as it takes to keep no more bytes than this, the oldest first.
    pub down_to: Option<u64>,
}

impl Store {
    /// Notes that a project's shelf is made from this store.
    pub fn note_project(&self, project: &Path) -> Result<(), StoreError> {
        let path = std::path::absolute(project).at("find", project)?;
        let text = path.to_string_lossy();
        let note = self.notes().join(Digest::of(text.as_bytes()).to_string());
        if note.exists() {
            return Ok(());
        }
        match make_folder(&self.notes()).and_then(|()| write_whole(&note, text.as_bytes())) {
            // Who may only read the store can't trim it either.
            Err(error) if is_read_only(&error) => Ok(()),
            noted => Ok(noted?),
        }
    }

    /// The folders of the projects that have an archive's files on their shelves, but for this one.
    pub fn projects_with(&self, archive: &Digest, but: Option<&Path>) -> Result<Vec<PathBuf>, StoreError> {
        let but = but.map(|path| std::path::absolute(path).at("find", path)).transpose()?;
        let others = self.noted()?.into_iter().filter_map(|(_, project)| project);
        let others = others.filter(|project| Some(&project.path) != but.as_ref());
        let mut having: Vec<PathBuf> =
            others.filter(|project| project.archives.contains(archive)).map(|project| project.path).collect();
        having.sort();
        Ok(having)
    }

    /// Looks through all that is kept.
    pub fn inventory(&self) -> Result<Inventory, StoreError> {
        let mut projects: Vec<Project> =
            self.noted()?.into_iter().filter_map(|(_, project)| project).collect();
        projects.sort_by(|one, other| one.path.cmp(&other.path));
        let mut users: BTreeMap<Digest, usize> = BTreeMap::new();
        for archive in projects.iter().flat_map(|project| &project.archives) {
            *users.entry(*archive).or_default() += 1;
        }
        let mut trees = self
            .trees()?
            .into_par_iter()
            .map(|(archive, since)| {
                let Listing { of, files, .. } = self.listing(&archive)?.unwrap_or_default();
                let projects = users.get(&archive).copied().unwrap_or(0);
                let bytes = files.iter().map(|file| file.size).sum();
                Ok(Tree { archive, of, files: files.len(), bytes, since, projects })
            })
            .collect::<Result<Vec<Tree>, StoreError>>()?;
        trees.sort_by_key(|tree| tree.archive);
        Ok(Inventory { trees, projects, answers: bytes_of(&self.answers()), remains: self.remains() })
    }

    /// Takes trees out, what was left behind, and notes of projects that are gone. Nobody may use the store meanwhile.
    pub fn trim(&self, trees: &[Tree]) -> Result<(), StoreError> {
        trees.iter().try_for_each(|tree| self.discard(&tree.archive))?;
        clear(&self.remains())?;
        for (note, _) in self.noted()?.into_iter().filter(|(_, project)| project.is_none()) {
            fs::remove_file(&note).at("remove", &note)?;
        }
        Ok(())
    }

    /// The archives whose trees are not what their listings say, every byte read.
    pub fn damaged(&self) -> Result<Vec<Digest>, StoreError> {
        let trees = self.trees()?;
        let looked = trees
            .into_par_iter()
            .map(|(archive, _)| Ok((archive, is_damaged(&archive, self, FileCheck::Bytes)?)));
        let looked = looked.collect::<Result<Vec<(Digest, bool)>, StoreError>>()?;
        Ok(looked.into_iter().filter(|(_, is_damaged)| *is_damaged).map(|(archive, _)| archive).collect())
    }

    /// The notes of projects; of those that are gone nothing but the note.
    fn noted(&self) -> Result<Vec<(PathBuf, Option<Project>)>, StoreError> {
        let mut noted = Vec::new();
        for entry in fs::read_dir(self.notes()).into_iter().flatten().flatten() {
            let Some(text) = read_text(&entry.path(), MAX_NOTE_SIZE)? else { continue };
            let path = PathBuf::from(text);
            let state = Shelf::of(&path).state().unwrap_or_default();
            let archives: BTreeSet<Digest> =
                state.packages.into_values().flat_map(|package| package.archives).collect();
            let is_there = !archives.is_empty();
            noted.push((entry.path(), is_there.then_some(Project { path, archives })));
        }
        Ok(noted)
    }

    /// The archives whose trees are here, with the times of their coming.
    fn trees(&self) -> Result<Vec<(Digest, SystemTime)>, StoreError> {
        let mut trees = Vec::new();
        let root = self.trees_folder();
        for bin in fs::read_dir(&root).at("read", &root)?.flatten() {
            for tree in fs::read_dir(bin.path()).into_iter().flatten().flatten() {
                let archive = tree.file_name().to_str().and_then(|name| name.parse::<Digest>().ok());
                let since = tree.metadata().and_then(|metadata| metadata.modified()).ok();
                trees.extend(archive.zip(since));
            }
        }
        Ok(trees)
    }
}

impl Inventory {
    /// The bytes of all trees.
    pub fn bytes(&self) -> u64 {
        self.trees.iter().map(|tree| tree.bytes).sum()
    }

    /// The bytes of the trees that a project uses.
    pub fn bytes_used_by(&self, project: &Project) -> u64 {
        let used = self.trees.iter().filter(|tree| project.archives.contains(&tree.archive));
        used.map(|tree| tree.bytes).sum()
    }

    /// The bytes that processes that were killed left behind.
    pub fn bytes_left_behind(&self) -> u64 {
        self.remains.iter().map(|remains| remains.bytes).sum()
    }

    /// The trees that no project uses.
    pub fn unused(&self) -> impl Iterator<Item = &Tree> {
        self.trees.iter().filter(|tree| tree.projects == 0)
    }

    /// The unused trees that are to go, the oldest first.
    pub fn prunable(&self, trimming: Trimming, now: SystemTime) -> Vec<Tree> {
        let age = |tree: &Tree| now.duration_since(tree.since).unwrap_or_default();
        let is_old = |tree: &&Tree| trimming.older_than.is_none_or(|least| age(tree) >= least);
        let mut unused: Vec<Tree> = self.unused().filter(is_old).cloned().collect();
        unused.sort_by_key(|tree| (tree.since, tree.archive));
        let mut left = self.bytes();
        unused.retain(|tree| {
            let is_wanted = trimming.down_to.is_none_or(|most| left > most);
            left -= if is_wanted { tree.bytes } else { 0 };
            is_wanted
        });
        unused
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_nobody_uses_goes_and_the_oldest_first() {
        let day = Duration::from_secs(24 * 60 * 60);
        let now = SystemTime::UNIX_EPOCH + 100 * day;
        let tree = |name: &str, age: u32, bytes: u64, projects: usize| Tree {
            archive: Digest::of(name.as_bytes()),
            of: None,
            files: 1,
            bytes,
            since: now - age * day,
            projects,
        };
        let (used, old, older, new) =
            (tree("a", 90, 50, 1), tree("b", 40, 10, 0), tree("c", 60, 20, 0), tree("d", 1, 30, 0));
        let trees = vec![used, old.clone(), older.clone(), new.clone()];
        let inventory = Inventory { trees, ..Inventory::default() };
        let goes = |older_than: Option<u32>, down_to: Option<u64>| {
            inventory.prunable(Trimming { older_than: older_than.map(|days| days * day), down_to }, now)
        };
        assert_eq!(goes(None, None), [older.clone(), old.clone(), new]);
        assert_eq!(goes(Some(30), None), [older.clone(), old.clone()]);
        assert_eq!(goes(None, Some(90)).len(), 1);
        assert_eq!(goes(None, Some(85)), [older.clone(), old]);
        assert_eq!(goes(Some(50), Some(0)), [older]);
        assert!(goes(None, Some(110)).is_empty());
    }
}
