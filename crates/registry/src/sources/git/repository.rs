//! A local bare repository that holds what was fetched from another.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::source::CommitId;
use bibliotax_disk::error::At;
use bibliotax_disk::lock::{Held, lock};
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::{make_folder, write_whole};
use jiff::Timestamp;

use super::process::{Refused, run};
use super::refs::Refs;
use crate::model::error::RegistryError;

/// How long `git` may say nothing before it is ended.
const IDLE_TIMEOUT: Duration = Duration::from_secs(60);

/// Largest list of names that is read, in bytes.
const MAX_REFS_SIZE: usize = 64 << 20;

/// Largest file that is read whole, in bytes.
const MAX_FILE_SIZE: u64 = 1 << 20;

/// What the repository that was fetched from is called in ours.
const REMOTE: &str = "there";

/// A repository somewhere, and what of it is here.
#[derive(Debug, Clone)]
pub struct Repository {
    url: String,
    /// Our own repository.
    place: PathBuf,
    is_offline: bool,
    silence: Duration,
}

/// What is to be fetched of a commit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// All its files.
    All,
    /// Their names; the files are fetched as they are asked for, where the other side can do that.
    Names,
}

impl Repository {
    /// The repository at a URL that was checked, kept in a folder below `cache`.
    pub fn at(url: String, cache: &Path, is_offline: bool, silence: Option<Duration>) -> Self {
        let place = cache.join("git").join(Digest::of(url.as_bytes()).to_string());
        Self { url, place, is_offline, silence: silence.unwrap_or(IDLE_TIMEOUT) }
    }

    /// Where the repository is that ours follows.
    pub fn url(&self) -> &str {
        &self.url
    }

    /// Our own repository's folder.
    pub fn place(&self) -> &Path {
        &self.place
    }

    /// What its names lead to: as it answers now or, offline, as it did last.
    pub fn refs(&self) -> Result<Refs, RegistryError> {
        let known = self.place.join("known-refs");
        if self.is_offline {
            let text =
                read_text(&known, MAX_REFS_SIZE)?.ok_or_else(|| self.offline("its tags and branches"))?;
            return Ok(Refs::read(&text));
        }
        make_folder(&self.place)?;
        let asked = ["ls-remote", "--symref", "--", &self.url, "HEAD", "refs/heads/*", "refs/tags/*"];
        let text = run(&self.place, asked, "", self.silence).map_err(|refused| refused.about(&self.url))?;
        let text = String::from_utf8_lossy(&text).into_owned();
        write_whole(&known, text.as_bytes())?;
        Ok(Refs::read(&text))
    }

    /// Sees that commits are here.
    pub fn fetch(&self, commits: &[&CommitId], wanted: Wanted) -> Result<(), RegistryError> {
        let lacking: Vec<&CommitId> = commits.iter().copied().filter(|commit| !self.has(commit)).collect();
        let Some(first) = lacking.first() else { return Ok(()) };
        if self.is_offline {
            return Err(self.offline(&format!("commit {}", first.short())));
        }
        let _held = self.held(first)?;
        let refspecs = lacking.iter().map(|commit| format!("+{commit}:refs/kept/{commit}"));
        let refspecs: String = refspecs.map(|line| line + "\n").collect();
        let options: &[&str] = match wanted {
            Wanted::All => &["--depth=1"],
            Wanted::Names => &["--depth=1", "--filter=blob:none"],
        };
        match self.fetch_with(options, &refspecs) {
            Err(refused) if is_unable(&refused) => {}
            done => done.map_err(|refused| refused.about(&self.url))?,
        }
        if lacking.iter().all(|commit| self.has(commit)) {
            return Ok(());
        }
        // The other side gives whole histories only, by their names.
        let all = "+refs/heads/*:refs/kept/heads/*\n+refs/tags/*:refs/kept/tags/*\n";
        self.fetch_with(&[], all).map_err(|refused| refused.about(&self.url))?;
        for commit in lacking {
            let kept = format!("refs/kept/{commit}");
            if self.run(&["update-ref", &kept, commit.as_str()], "").is_err() {
                let what = format!("there is no commit {commit} in it");
                return Err(RegistryError::NoCommit { url: self.url.clone(), what });
            }
        }
        Ok(())
    }

    /// Whether a commit is one of those that a branch is made of, whose newest one is `head`: a repository may give away commits that
    /// are on none of its branches.
    pub fn is_on_branch(
        &self,
        commit: &CommitId,
        branch: &str,
        head: &CommitId,
    ) -> Result<bool, RegistryError> {
        if self.is_offline {
            return Err(self.offline(&format!("the history of {branch}")));
        }
        let _held = self.held(head)?;
        // Commits alone, without files or their names; all of the history where the other side can't do that.
        let refspec = format!("+refs/heads/{branch}:refs/branches/{branch}\n");
        match self.fetch_with(&["--filter=tree:0"], &refspec) {
            Err(refused) if is_unable(&refused) => self.fetch_with(&[], &refspec),
            done => done,
        }
        .map_err(|refused| refused.about(&self.url))?;
        let reached = self.run(&["rev-list", &format!("refs/branches/{branch}")], "");
        let reached = reached.map_err(|refused| refused.about(&self.url))?;
        Ok(String::from_utf8_lossy(&reached).lines().any(|line| line == commit.as_str()))
    }

    /// A commit and all that it was built on; what is here of it where nobody may be asked.
    pub fn history(&self, commit: &CommitId) -> Result<BTreeSet<String>, RegistryError> {
        if !self.is_offline {
            make_folder(&self.place)?;
            let _held = self.held(commit)?;
            // Commits alone, and all of them: what is here may be the last one only.
            let whole = ["--filter=tree:0", "--depth=2147483647"];
            let refspec = format!("+{commit}:refs/kept/{commit}\n");
            match self.fetch_with(&whole, &refspec) {
                Err(refused) if is_unable(&refused) => {
                    let all = "+refs/heads/*:refs/kept/heads/*\n+refs/tags/*:refs/kept/tags/*\n";
                    self.fetch_with(&whole[1..], all)
                }
                done => done,
            }
            .map_err(|refused| refused.about(&self.url))?;
        }
        let reached = self.run(&["rev-list", commit.as_str()], "");
        let reached = reached.map_err(|refused| refused.about(&self.url))?;
        Ok(String::from_utf8_lossy(&reached).lines().map(str::to_owned).collect())
    }

    /// Whether a commit was followed by another one, as far as that one is here.
    pub fn is_before(&self, commit: &CommitId, later: &str) -> Result<bool, RegistryError> {
        let is_commit = later.len() >= 40 && later.chars().all(|c| c.is_ascii_hexdigit());
        Ok(is_commit && self.run(&["merge-base", "--is-ancestor", commit.as_str(), later], "").is_ok())
    }

    /// Sees that files are here whose names may be all that was fetched, by the names of their objects.
    pub fn fetch_files(&self, commit: &CommitId, objects: &[&str]) -> Result<(), RegistryError> {
        let asked = ["rev-list", "--objects", "--missing=print", "--no-walk", commit.as_str()];
        let known = self.run(&asked, "").map_err(|refused| refused.about(&self.url))?;
        let known = String::from_utf8_lossy(&known).into_owned();
        let missing: BTreeSet<&str> = known.lines().filter_map(|line| line.strip_prefix('?')).collect();
        let missing: String =
            objects.iter().filter(|object| missing.contains(*object)).map(|o| format!("{o}\n")).collect();
        if missing.is_empty() {
            return Ok(());
        }
        if self.is_offline {
            return Err(self.offline(&format!("files of commit {}", commit.short())));
        }
        let _held = self.held(commit)?;
        let fetched = self.fetch_with(&["--filter=blob:none"], &missing);
        fetched.map_err(|refused| refused.about(&self.url))
    }

    fn fetch_with(&self, options: &[&str], refspecs: &str) -> Result<(), Refused> {
        let usual = [
            "-c",
            "fetch.negotiationAlgorithm=noop",
            "fetch",
            "--no-tags",
            "--no-write-fetch-head",
            "--no-recurse-submodules",
            "--progress",
        ];
        let args = usual.iter().chain(options).chain(&["--stdin", REMOTE]).copied();
        run(&self.place, args, refspecs, self.silence).map(drop)
    }

    /// Whether a commit and the names of its files are here.
    pub fn has(&self, commit: &CommitId) -> bool {
        let kept = format!("refs/kept/{commit}");
        self.place.join("HEAD").is_file()
            && self.run(&["rev-parse", "--verify", "--quiet", &kept], "").is_ok()
    }

    /// The text of a file; `None` where there is none, or it is no text.
    pub fn text(&self, commit: &CommitId, path: &str) -> Result<Option<String>, RegistryError> {
        self.text_up_to(commit, path, MAX_FILE_SIZE)
    }

    /// The same of a file with at most so many bytes.
    pub fn text_up_to(
        &self,
        commit: &CommitId,
        path: &str,
        most: u64,
    ) -> Result<Option<String>, RegistryError> {
        let Some(object) = self.object(commit, path)? else { return Ok(None) };
        self.fetch_files(commit, &[&object])?;
        let size = self.run(&["cat-file", "-s", &object], "").map_err(|refused| refused.about(&self.url))?;
        let size: u64 = String::from_utf8_lossy(&size).trim().parse().unwrap_or(u64::MAX);
        if size > most {
            return Ok(None);
        }
        let text =
            self.run(&["cat-file", "blob", &object], "").map_err(|refused| refused.about(&self.url))?;
        Ok(String::from_utf8(text).ok())
    }

    /// The name of a file's object.
    fn object(&self, commit: &CommitId, path: &str) -> Result<Option<String>, RegistryError> {
        let listed = self.run(&["ls-tree", "-z", commit.as_str(), "--", path], "");
        let listed = listed.map_err(|refused| refused.about(&self.url))?;
        let line = String::from_utf8_lossy(&listed).into_owned();
        let object = line.split('\0').next().and_then(|line| line.split_once('\t')?.0.split(' ').nth(2));
        let is_file = line.starts_with("100");
        Ok(object.filter(|_| is_file).map(str::to_owned))
    }

    /// When a commit was made.
    pub fn time(&self, commit: &CommitId) -> Result<Timestamp, RegistryError> {
        let shown = self.run(&["log", "-1", "--no-show-signature", "--format=%ct", commit.as_str()], "");
        let shown = shown.map_err(|refused| refused.about(&self.url))?;
        let seconds = String::from_utf8_lossy(&shown).trim().parse().unwrap_or(0);
        Ok(Timestamp::from_second(seconds).unwrap_or(Timestamp::UNIX_EPOCH))
    }

    /// The lines of `git ls-tree` for all that is in a commit, or in a folder of it; `None` if there is no such folder.
    pub fn names(
        &self,
        commit: &CommitId,
        subfolder: Option<&InnerPath>,
    ) -> Result<Option<Vec<u8>>, RegistryError> {
        let tree = subfolder.map_or_else(|| commit.to_string(), |subfolder| format!("{commit}:{subfolder}"));
        match self.run(&["ls-tree", "-r", "-z", &tree], "") {
            Err(refused)
                if subfolder.is_some()
                    && (refused.says("Not a valid object") || refused.says("not a tree")) =>
            {
                Ok(None)
            }
            listed => listed.map(Some).map_err(|refused| refused.about(&self.url)),
        }
    }

    pub(super) fn run(&self, args: &[&str], input: &str) -> Result<Vec<u8>, Refused> {
        run(&self.place, args, input, self.silence)
    }

    /// Makes our own repository where it doesn't exist yet, and keeps other processes from it.
    fn held(&self, commit: &CommitId) -> Result<Held, RegistryError> {
        make_folder(&self.place)?;
        let held = lock(&self.place.join("bibliotax.lock"), || ())?;
        if self.place.join("HEAD").is_file() && self.place.join("followed").is_file() {
            return Ok(held);
        }
        let digest = if commit.as_str().len() == 64 { "sha256" } else { "sha1" };
        let set = |args: &[&str]| self.run(args, "").map_err(|refused| refused.about(&self.url));
        set(&["init", "--quiet", "--bare", "--template=", &format!("--object-format={digest}"), "."])?;
        set(&["config", "--local", &format!("remote.{REMOTE}.url"), &self.url])?;
        // What is lacking is fetched by us, all at once, or not at all.
        set(&["config", "--local", &format!("remote.{REMOTE}.promisor"), "true"])?;
        let followed = self.place.join("followed");
        fs::write(&followed, &self.url).at("write", &followed)?;
        Ok(held)
    }

    fn offline(&self, what: &str) -> RegistryError {
        RegistryError::GitOffline { url: self.url.clone(), what: what.to_owned() }
    }
}

/// Whether the other side can't give single commits, or part of a history.
fn is_unable(refused: &Refused) -> bool {
    [
        "unadvertised object",
        "not our ref",
        "shallow capabilities",
        "does not support --depth",
        "does not support shallow",
    ]
    .iter()
    .any(|words| refused.says(words))
}
