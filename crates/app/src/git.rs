//! git, as far as commands look into the repository that they are in.

use std::ffi::OsStr;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use crate::failure::Failure;

/// A working copy.
#[derive(Debug, Clone)]
pub struct WorkingCopy {
    /// Its top folder.
    top: PathBuf,
}

impl WorkingCopy {
    /// The working copy that a folder is in; nothing where it is in none.
    pub fn find(folder: &Path) -> Result<Option<Self>, Failure> {
        let asked = run(folder, ["rev-parse", "--show-toplevel"])?;
        let top = PathBuf::from(text_of(&asked).trim_end_matches(['\n', '\r']));
        Ok(asked.status.success().then_some(Self { top }))
    }

    /// Its top folder.
    pub fn top(&self) -> &Path {
        &self.top
    }

    /// What git prints, where it can do what it is asked.
    pub fn ask<S: AsRef<OsStr>>(&self, args: impl IntoIterator<Item = S>) -> Option<String> {
        let asked = run(&self.top, args).ok()?;
        asked.status.success().then(|| text_of(&asked))
    }

    /// Has git do something; what it says where it can't.
    pub fn tell<S: AsRef<OsStr>>(&self, args: impl IntoIterator<Item = S>) -> Result<(), Failure> {
        let asked = run(&self.top, args)?;
        if asked.status.success() {
            return Ok(());
        }
        let said = String::from_utf8_lossy(&asked.stderr).trim().to_owned();
        Err(Failure::new("git.refused", format!("git refused: {said}")))
    }

    /// The text of a file of a commit.
    pub fn text(&self, commit: &str, path: &str) -> Option<String> {
        self.ask(["cat-file", "blob", &format!("{commit}:{path}")])
    }

    /// The commit that a name means.
    pub fn commit(&self, name: &str) -> Option<String> {
        let asked = self.ask(["rev-parse", "--quiet", "--verify", &format!("{name}^{{commit}}")])?;
        Some(asked.trim().to_owned())
    }

    /// The path of a file from the top, with `/` between its parts; nothing where it isn't inside.
    pub fn path_of(&self, file: &Path) -> Option<String> {
        let whole = |path: &Path| std::fs::canonicalize(path).ok();
        let (top, folder) = (whole(&self.top)?, whole(file.parent()?)?);
        let inside: PathBuf = folder.strip_prefix(&top).ok()?.join(file.file_name()?);
        let parts = inside.components().map(|part| part.as_os_str().to_string_lossy().into_owned());
        Some(parts.collect::<Vec<_>>().join("/"))
    }
}

fn run<S: AsRef<OsStr>>(folder: &Path, args: impl IntoIterator<Item = S>) -> Result<Output, Failure> {
    let ran = Command::new("git").args(args).current_dir(folder).output();
    ran.map_err(|_| Failure::new("git.missing", "git isn't installed").advice("install git"))
}

fn text_of(output: &Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}
