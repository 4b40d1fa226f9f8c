//! `compare`: the difference of two locks, each from a file or from a revision of git.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::Command;

use bibliotax_core::compare::{Change, compare};
use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{FILE_NAME, Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_disk::read::read_text;

use crate::context::Context;
use crate::failure::Failure;
use crate::workspace::{MAX_LOCK_SIZE, Manifests};

/// The word for a lock without any package.
const NOTHING: &str = "nothing";

/// What is compared where nothing is said.
pub const HEAD: &str = "HEAD";

/// Two locks.
pub struct Report {
    /// The lock before.
    pub old: Lock,
    /// The lock after.
    pub new: Lock,
}

/// The projects that are on one side only.
pub struct ProjectChanges<'r> {
    /// Those that are new.
    pub added: Vec<&'r PackageName>,
    /// Those that are gone.
    pub gone: Vec<&'r PackageName>,
}

impl Report {
    /// The packages that differ.
    pub fn changes(&self) -> Vec<Change<'_>> {
        compare(Some(&self.old), &self.new)
    }

    /// The projects that are on one side only.
    pub fn projects(&self) -> ProjectChanges<'_> {
        ProjectChanges { added: beyond(&self.new, &self.old), gone: beyond(&self.old, &self.new) }
    }

    /// Whether only targets or purposes of packages differ.
    pub fn differs_in_reasons(&self) -> bool {
        self.old.packages != self.new.packages || self.old.projects != self.new.projects
    }

    /// The bytes of all archives, before and after.
    pub fn sizes(&self) -> (u64, u64) {
        let total = |lock: &Lock| lock.packages.iter().map(LockedPackage::size).sum();
        (total(&self.old), total(&self.new))
    }
}

impl ProjectChanges<'_> {
    /// Whether both sides have the same projects.
    pub fn is_empty(&self) -> bool {
        self.added.is_empty() && self.gone.is_empty()
    }
}

/// The projects that one lock has beyond another.
fn beyond<'r>(one: &'r Lock, other: &Lock) -> Vec<&'r PackageName> {
    let names = one.projects.iter().map(|project| &project.name);
    names.filter(|name| !other.projects.iter().any(|project| project.name == **name)).collect()
}

/// Reads the locks that two words mean; the one that is there, without a second word.
pub fn report(old: &str, new: Option<&str>, context: &Context<'_>) -> Result<Report, Failure> {
    let locks = Locks { folder: context.folder, root: OnceCell::new() };
    let old = locks.named(old)?;
    let new = new.map_or_else(|| locks.present(), |word| locks.named(word))?;
    Ok(Report { old, new })
}

/// The lock that a word names: in a file, or in a revision of git.
pub fn lock_named(word: &str, context: &Context<'_>) -> Result<Lock, Failure> {
    Locks { folder: context.folder, root: OnceCell::new() }.named(word)
}

/// Locks by the words that name them.
struct Locks<'c> {
    folder: &'c Path,
    /// The workspace's folder, once it was needed.
    root: OnceCell<PathBuf>,
}

impl Locks<'_> {
    /// The lock that a word names: in a file, or in a revision of git.
    fn named(&self, word: &str) -> Result<Lock, Failure> {
        let file = self.folder.join(word);
        if file.is_file() {
            let text = read_text(&file, MAX_LOCK_SIZE)?.unwrap_or_default();
            return read(&text, word);
        }
        if word == NOTHING {
            return Ok(empty_lock());
        }
        self.committed(word)
    }

    /// The lock in a revision of git.
    fn committed(&self, word: &str) -> Result<Lock, Failure> {
        let unknown = |why: &str| {
            let failure = Failure::new(
                "compare.unknown",
                format!("`{word}` is neither a file here nor a git revision{why}"),
            );
            failure.advice("name a file, a branch, a tag or a commit: `bibliotax compare main`")
        };
        if word.starts_with('-') || word.contains(char::is_control) {
            return Err(unknown(""));
        }
        let root = self.root()?;
        let asked = |args: &[&str]| {
            let asked = Command::new("git").args(args).current_dir(root).output();
            asked.map_err(|_| unknown(": git isn't installed"))
        };
        let object = format!("{word}:./{FILE_NAME}");
        let found = asked(&["cat-file", "blob", &object])?;
        if found.status.success() {
            return read(&String::from_utf8_lossy(&found.stdout), &format!("{word}:{FILE_NAME}"));
        }
        let none = |message: String| {
            let advice = format!("`bibliotax compare {NOTHING}` shows everything that is locked as new");
            Err(Failure::new("compare.unknown", message).advice(advice))
        };
        if !asked(&["rev-parse", "--git-dir"])?.status.success() {
            return none(format!(
                "this project is not in a git repository, so there is no `{word}` to compare with"
            ));
        }
        if asked(&["rev-parse", "--quiet", "--verify", &format!("{word}^{{commit}}")])?.status.success() {
            return none(format!("there is no {FILE_NAME} in `{word}`: it was not committed there"));
        }
        if word == HEAD {
            return none(format!(
                "nothing was committed here yet, so there is no {FILE_NAME} to compare with"
            ));
        }
        Err(unknown(""))
    }

    /// The lock as it is now.
    fn present(&self) -> Result<Lock, Failure> {
        let text = read_text(&self.root()?.join(FILE_NAME), MAX_LOCK_SIZE)?;
        let missing = || {
            Failure::new("lock.missing", format!("there is no {FILE_NAME} yet"))
                .advice("`bibliotax install` creates it")
        };
        read(&text.ok_or_else(missing)?, FILE_NAME)
    }

    /// The workspace's folder.
    fn root(&self) -> Result<&Path, Failure> {
        if let Some(root) = self.root.get() {
            return Ok(root);
        }
        let root = Manifests::find(self.folder)?.root;
        Ok(self.root.get_or_init(|| root))
    }
}

/// A lock without any package or project.
fn empty_lock() -> Lock {
    let made_from = Digest::of(b"");
    Lock { made_from, registries: BTreeMap::new(), projects: Vec::new(), packages: Vec::new() }
}

fn read(text: &str, name: &str) -> Result<Lock, Failure> {
    Lock::read(text).map_err(|broken| Failure::in_text(name, text, vec![broken.fault]))
}
