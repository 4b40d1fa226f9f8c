//! Shows and runs the commands of the demo, and shows files as in an editor.

use std::cell::Cell;
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use bibliotax_core::digest::Digest;
use bibliotax_disk::error::At;
use bibliotax_disk::write::{folder_of, make_folder, write_whole};
use similar::{ChangeTag, TextDiff};

use super::served::Served;
use super::world::World;
use crate::ui::{Ui, style, styled};
use bibliotax_app::failure::Failure;

/// Tells a story in a world.
pub struct Teller<'a> {
    pub ui: &'a Ui,
    pub world: &'a World,
    pub served: Served,
    /// Whether nothing is shown: what a chapter needs from those before it is done without a word.
    pub is_silent: Cell<bool>,
}

impl Teller<'_> {
    fn say(&self, line: impl AsRef<str>) {
        if !self.is_silent.get() {
            self.ui.say(line);
        }
    }

    /// Shows what somebody changed in a file with an editor.
    fn show_edit(&self, project: &str, file: &str, old: &str, new: &str) {
        self.say(format!("\n{} {}", styled(style::STRONG, "edit"), quoted(&Path::new(project).join(file))));
        for change in TextDiff::from_lines(old, new).iter_all_changes() {
            let line = change.value().trim_end();
            match change.tag() {
                ChangeTag::Equal => {}
                _ if line.is_empty() => {}
                ChangeTag::Delete => self.say(styled(style::BAD, format!("- {line}"))),
                ChangeTag::Insert => self.say(styled(style::GOOD, format!("+ {line}"))),
            }
        }
    }

    /// Copies files of a project into another.
    pub fn copy(&self, project: &str, other: &str, files: &[&str]) -> Result<(), Failure> {
        for file in files {
            let (from, to) = (self.path(project).join(file), self.path(other).join(file));
            make_folder(folder_of(&to))?;
            fs::copy(&from, &to).at("copy", &from)?;
        }
        Ok(())
    }

    /// Adds lines to a project's manifest, as somebody would in an editor.
    pub fn add_lines(&self, project: &str, lines: &str) -> Result<(), Failure> {
        self.edit(project, "bibliotax.toml", |text| Ok(text + lines))
    }

    /// Changes a file of a project, and shows how.
    pub fn edit(
        &self,
        project: &str,
        file: &str,
        change: impl FnOnce(String) -> Result<String, Failure>,
    ) -> Result<(), Failure> {
        let path = self.path(project).join(file);
        let old = fs::read_to_string(&path).at("read", &path)?;
        let new = change(old.clone())?;
        self.show_edit(project, file, &old, &new);
        Ok(write_whole(&path, new.as_bytes())?)
    }

    /// Replaces something in a file, as somebody would in an editor.
    pub fn replace_in(&self, project: &str, file: &str, this: &str, that: &str) -> Result<(), Failure> {
        self.edit(project, file, |text| {
            if text.contains(this) {
                return Ok(text.replace(this, that));
            }
            Err(Failure::new("defect", format!("{file} of {project} has no `{this}`")))
        })
    }

    pub fn heading(&self, text: &str) {
        self.say(format!("\n{}", styled(style::STRONG, text)));
    }

    pub fn text(&self, text: &str) {
        self.say(format!("\n{text}"));
    }

    pub fn shell(&self, line: &str) {
        self.say(format!("\n{} {line}", styled(style::GOOD, "$")));
    }

    /// Shows a command and runs it as a process of its own; anything but the expected end is a defect.
    pub fn run(&self, project: &str, args: &[&str], expected: i32) -> Result<(), Failure> {
        self.run_with(project, args, &[], expected)
    }

    pub fn run_with(
        &self,
        project: &str,
        args: &[&str],
        variables: &[(&str, &OsStr)],
        expected: i32,
    ) -> Result<(), Failure> {
        self.shell(&format!("bibliotax {}", words(args)));
        let (program, mut command) = self.command(project, args)?;
        command.envs(variables.iter().copied());
        if self.ui.is_json() || self.ui.is_quiet() || self.is_silent.get() {
            command.stdout(Stdio::null()).stderr(Stdio::null());
        }
        let status = command.status().at("run", &program)?;
        if status.code() == Some(expected) {
            return Ok(());
        }
        Err(self.defect(&format!("`bibliotax {}` ended with {status} instead of {expected}", words(args))))
    }

    /// Runs a command without showing it; what it said.
    pub fn said(&self, project: &str, args: &[&str]) -> Result<String, Failure> {
        let (program, mut command) = self.command(project, args)?;
        let output = command.output().at("run", &program)?;
        if !output.status.success() {
            return Err(self.defect(&format!("`bibliotax {}` ended with {}", words(args), output.status)));
        }
        Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned())
    }

    fn command(&self, project: &str, args: &[&str]) -> Result<(PathBuf, Command), Failure> {
        let program = std::env::current_exe().at("find", "the program")?;
        let mut command = Command::new(&program);
        command.args(args).current_dir(self.path(project)).env("BIBLIOTAX_STORE", self.world.store());
        Ok((program, command))
    }

    pub fn defect(&self, what: &str) -> Failure {
        Failure::new("defect", what).advice(format!("the demo's folder is {}", self.world.root.display()))
    }

    pub fn show(&self, project: &str, file: &str, lines: usize) -> Result<(), Failure> {
        self.shell(&format!("head -n {lines} {file}"));
        let path = self.path(project).join(file);
        let text = fs::read_to_string(&path).at("read", &path)?;
        let width = self.ui.terminal_width().unwrap_or(usize::MAX);
        for line in text.lines().take(lines) {
            let short: String = line.chars().take(width).collect();
            self.say(short);
        }
        Ok(())
    }

    /// Compares the shelves of two projects, file by file.
    pub fn compare_shelves(&self, one: &str, other: &str) -> Result<(), Failure> {
        let [ours, theirs] = [one, other].map(|project| digests(&self.path(project).join("shelf")));
        let (ours, theirs) = (ours?, theirs?);
        if ours != theirs {
            return Err(Failure::new("defect", "the colleague's shelf differs from the first"));
        }
        self.text(&format!("Both shelves hold the same {} files, byte for byte.", ours.len()));
        Ok(())
    }

    pub fn path(&self, project: &str) -> PathBuf {
        self.world.root.join(project)
    }
}

/// Path and digest of every file below a folder, hidden ones at its top aside.
fn digests(folder: &Path) -> Result<Vec<(PathBuf, Digest)>, Failure> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(current) = open.pop() {
        for entry in fs::read_dir(&current).at("read", &current)? {
            let path = entry.at("read", &current)?.path();
            let is_ours =
                current == folder && path.file_name().is_some_and(|n| n.to_string_lossy().starts_with('.'));
            if path.is_dir() && !is_ours {
                open.push(path);
            } else if !is_ours {
                let bytes = fs::read(&path).at("read", &path)?;
                let inside = path.strip_prefix(folder).unwrap_or(&path).to_owned();
                found.push((inside, Digest::of(&bytes)));
            }
        }
    }
    found.sort();
    Ok(found)
}

/// Words as a shell wants them.
pub fn words(words: &[&str]) -> String {
    words.iter().map(|word| shown(word)).collect::<Vec<_>>().join(" ")
}

/// A word as a shell wants it.
fn shown(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./=".contains(c);
    if word.chars().all(plain) { word.to_owned() } else { format!("\"{word}\"") }
}

pub fn quoted(path: &Path) -> String {
    shown(&path.display().to_string())
}
