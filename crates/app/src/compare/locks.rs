//! Locks by the words that name them: files, kits, and revisions of git.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{FILE_NAME, Lock};
use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_store::kit;

use super::HEAD;
use crate::context::Context;
use crate::failure::Failure;
use crate::git::WorkingCopy;
use crate::workspace::{MAX_LOCK_SIZE, Manifests};

/// The word for a lock without any package.
const NOTHING: &str = "nothing";

/// The two locks that words mean; the one that is there, without a second word.
pub fn both(old: &str, new: Option<&str>, context: &Context<'_>) -> Result<[Lock; 2], Failure> {
    let locks = Locks { folder: context.folder, root: OnceCell::new() };
    let old = locks.named(old)?;
    Ok([old, new.map_or_else(|| locks.present(), |word| locks.named(word))?])
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
    /// The lock that a word names: in a file, in a kit, or in a revision of git.
    fn named(&self, word: &str) -> Result<Lock, Failure> {
        let file = self.folder.join(word);
        if file.is_file() {
            if is_archive(&file)? {
                return Ok(kit::lock_in(&file)?);
            }
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
        let none = |message: String| {
            let advice = format!("`bibliotax compare {NOTHING}` shows everything that is locked as new");
            Err(Failure::new("compare.unknown", message).advice(advice))
        };
        let found = WorkingCopy::find(root).map_err(|_| unknown(": git isn't installed"))?;
        let Some(copy) = found else {
            return none(format!(
                "this project is not in a git repository, so there is no `{word}` to compare with"
            ));
        };
        let path = copy.path_of(&root.join(FILE_NAME));
        if let Some(text) = path.and_then(|path| copy.text(word, &path)) {
            return read(&text, &format!("{word}:{FILE_NAME}"));
        }
        if copy.commit(word).is_some() {
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
    let (charters, projects, packages) = (Vec::new(), Vec::new(), Vec::new());
    Lock { made_from, registries: BTreeMap::new(), charters, projects, packages }
}

fn read(text: &str, name: &str) -> Result<Lock, Failure> {
    Lock::read(text).map_err(|broken| Failure::in_text(name, text, vec![broken.fault]))
}

/// Whether a file is no text, as kits are.
fn is_archive(file: &Path) -> Result<bool, Failure> {
    let mut begin = [0; 512];
    let read = File::open(file).and_then(|mut file| file.read(&mut begin)).at("read", file)?;
    Ok(begin[..read].contains(&0))
}
