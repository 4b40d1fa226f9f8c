//! What git knows of a merge: the files that it couldn't merge, and the commits that it merges.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::path::Path;

use bibliotax_disk::read::read_text;
use bibliotax_store::ledger::FOLDER as TICKS;

use crate::failure::Failure;
use crate::git::WorkingCopy;

/// The folder that cards are in, beside a manifest.
const CARDS: &str = "cards";

/// Largest list or file that is read of git, in bytes.
const MAX_SIZE: usize = 512 << 20;

/// Most commits that are looked at for a version of a lock.
const MAX_COMMITS: &str = "500";

/// A file that git couldn't merge: its texts by their stages, of which some may be missing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UnmergedFile {
    /// The text before.
    pub base: Option<String>,
    /// Ours.
    pub ours: Option<String>,
    /// Theirs.
    pub theirs: Option<String>,
}

/// A file of a commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CommittedFile {
    /// The commit.
    pub commit: String,
    /// Its path there.
    pub path: String,
}

/// The working copy that a folder is in.
pub fn working_copy(folder: &Path) -> Result<WorkingCopy, Failure> {
    WorkingCopy::find(folder)?.ok_or_else(|| {
        Failure::new("merge.no-git", "this folder isn't in a git repository")
            .advice("run it where the merge is, or merge by hand and run `bibliotax resolve`")
    })
}

impl WorkingCopy {
    /// The files that git couldn't merge, by their paths from the top.
    pub fn unmerged(&self) -> BTreeMap<String, UnmergedFile> {
        let listed = self.ask(["ls-files", "--unmerged", "-z"]).unwrap_or_default();
        let mut files: BTreeMap<String, UnmergedFile> = BTreeMap::new();
        for entry in listed.split('\0').filter(|entry| !entry.is_empty()) {
            // MODE OBJECT STAGE TAB PATH
            let Some((about, path)) = entry.split_once('\t') else { continue };
            let mut words = about.split(' ').skip(1);
            let (Some(object), Some(stage)) = (words.next(), words.next()) else { continue };
            if !is_ours(path) {
                continue;
            }
            let text = self.ask(["cat-file", "blob", object]);
            let file = files.entry(path.to_owned()).or_default();
            match stage {
                "1" => file.base = text,
                "2" => file.ours = text,
                _ => file.theirs = text,
            }
        }
        files
    }

    /// The name of an object with this text.
    pub fn object_of(&self, file: &Path) -> Option<String> {
        let named = self.ask([
            OsStr::new("hash-object"),
            OsStr::new("--no-filters"),
            OsStr::new("--"),
            file.as_os_str(),
        ])?;
        Some(named.trim().to_owned())
    }

    /// The file of a commit that is this object.
    pub fn file_of(&self, commit: &str, object: &str) -> Option<CommittedFile> {
        let listed = self.ask(["ls-tree", "-r", "-z", "--full-tree", commit])?;
        let is_object = |entry: &&str| entry.split_whitespace().nth(2) == Some(object);
        let path = listed.split('\0').find(is_object)?.split_once('\t')?.1.to_owned();
        Some(CommittedFile { commit: commit.to_owned(), path })
    }

    /// The files below a folder of a commit, by their paths from there.
    pub fn files_below(&self, commit: &str, folder: &str) -> Vec<String> {
        let args = ["ls-tree", "-r", "-z", "--full-tree", "--name-only", commit];
        let listed = self.ask(args).unwrap_or_default();
        let below = |path: &str| match folder {
            "" => Some(path.to_owned()),
            folder => Some(path.strip_prefix(folder)?.strip_prefix('/')?.to_owned()),
        };
        listed.split('\0').filter(|path| !path.is_empty()).filter_map(below).collect()
    }

    /// The commits that may be merged into the one that is here: as a merge, a rebase, a cherry-pick or a stash names them, then those
    /// that brought an object in.
    pub fn incoming(&self, object: &str) -> Vec<String> {
        // git names the commits of a merge in its environment.
        let named = std::env::vars_os().filter_map(|(name, _)| name.into_string().ok());
        let mut found: Vec<String> =
            named.filter_map(|name| name.strip_prefix("GITHEAD_").map(str::to_owned)).collect();
        for name in ["MERGE_HEAD", "CHERRY_PICK_HEAD", "REBASE_HEAD", "REVERT_HEAD", "refs/stash"] {
            found.extend(self.commit(name));
        }
        found.extend(self.picked());
        let brought = ["log", "--all", "--format=%H", "-n", MAX_COMMITS, "--find-object", object];
        found.extend(self.ask(brought).unwrap_or_default().lines().map(str::to_owned));
        found
    }

    /// The commit that a rebase or a cherry-pick of several is at.
    fn picked(&self) -> Vec<String> {
        let last = |file: &str, place: fn(&[String]) -> Option<&String>| {
            let path = self.ask(["rev-parse", "--git-path", file])?;
            let text = read_text(&self.top().join(path.trim_end()), MAX_SIZE).ok()??;
            let lines: Vec<String> =
                text.lines().filter(|line| !line.starts_with('#')).map(str::to_owned).collect();
            self.commit(place(&lines)?.split_whitespace().nth(1)?)
        };
        let done = last("rebase-merge/done", <[String]>::last);
        done.into_iter().chain(last("sequencer/todo", <[String]>::first)).collect()
    }

    /// The commits that two may have come from: their common ancestors, and what stands before the second one.
    pub fn bases(&self, ours: &str, theirs: &str) -> Vec<String> {
        let before = self.commit(&format!("{theirs}^"));
        self.common(ours, theirs).into_iter().chain(before).collect()
    }

    /// The nearest commits that two have in common.
    pub fn common(&self, ours: &str, theirs: &str) -> Vec<String> {
        let common = self.ask(["merge-base", "--all", ours, theirs]).unwrap_or_default();
        common.lines().map(str::to_owned).collect()
    }

    /// What people call the sides of a merge that was begun: a branch, or the beginning of a commit's name.
    pub fn side_names(&self) -> [String; 2] {
        let heads = ["MERGE_HEAD", "CHERRY_PICK_HEAD", "REBASE_HEAD"];
        let theirs = heads.into_iter().find_map(|head| self.commit(head));
        let named = |commit: &str| {
            let asked = ["name-rev", "--name-only", "--no-undefined", "--refs=refs/heads/*", commit];
            let name = self.ask(asked).map(|name| name.trim().to_owned());
            name.unwrap_or_else(|| commit.chars().take(7).collect())
        };
        let ours =
            self.ask(["symbolic-ref", "--quiet", "--short", "HEAD"]).map(|name| name.trim().to_owned());
        [
            ours.unwrap_or_else(|| "HEAD".to_owned()),
            theirs.map_or_else(|| "theirs".to_owned(), |head| named(&head)),
        ]
    }
}

/// Whether a file is one that this program merges.
pub fn is_ours(path: &str) -> bool {
    use bibliotax_core::{lock, manifest};
    let name = path.rsplit('/').next().unwrap_or_default();
    name == manifest::FILE_NAME || name == lock::FILE_NAME || is_tick(path) || is_card(path)
}

/// Whether a file is the tick of a step that was done.
pub fn is_tick(path: &str) -> bool {
    path.rsplit('/').nth(1) == Some(TICKS)
}

/// Whether a file is a card beside a manifest, where cards usually are.
pub fn is_card(path: &str) -> bool {
    path.ends_with(".toml") && path.rsplit('/').nth(1) == Some(CARDS)
}
