//! Has git merge manifests and locks with this program: lines in `.gitattributes`, which a team commits, and the configuration of a
//! repository, which each person makes.

use std::path::{Path, PathBuf};

use bibliotax_core::{lock, manifest};
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::write_whole;
use bibliotax_store::ledger::FOLDER as TICKS;

use super::git::working_copy;
use crate::context::Context;
use crate::failure::Failure;
use crate::git::WorkingCopy;
use crate::workspace::Manifests;

/// The file that says which files are merged how.
const ATTRIBUTES: &str = ".gitattributes";

/// Largest such file that is read, in bytes.
const MAX_SIZE: usize = 4 << 20;

/// What git calls the driver.
const DRIVER: &str = "bibliotax";

/// What is done so that git merges by meaning, or is no longer.
#[derive(Debug, Clone)]
pub struct SetUp {
    /// The file of attributes, as people read it.
    pub attributes: String,
    /// The lines that it gets, or loses.
    pub lines: Vec<String>,
    /// The settings that the repository gets, or loses.
    pub settings: Vec<(String, String)>,
    copy: WorkingCopy,
    place: PathBuf,
    text: String,
    is_undo: bool,
}

impl SetUp {
    /// Whether there is nothing to do.
    pub fn is_done(&self) -> bool {
        self.lines.is_empty() && self.settings.is_empty()
    }
}

/// The lines of attributes.
fn lines() -> Vec<String> {
    let files = [
        manifest::FILE_NAME.to_owned(),
        lock::FILE_NAME.to_owned(),
        format!("{TICKS}/*"),
        "cards/*.toml".to_owned(),
    ];
    files.into_iter().map(|file| format!("{file} merge={DRIVER}")).collect()
}

/// What is to be done so that git merges by meaning with the program at this place, or with `undoes`, what is to be taken back.
pub fn plan(program: &Path, undoes: bool, context: &Context<'_>) -> Result<SetUp, Failure> {
    let copy = working_copy(context.folder)?;
    let root = Manifests::find(context.folder)?.root;
    let place = root.join(ATTRIBUTES);
    let text = read_text(&place, MAX_SIZE)?.unwrap_or_default();
    let has = |line: &String| text.lines().any(|own| own.trim() == line);
    let lines = lines().into_iter().filter(|line| has(line) == undoes).collect();
    let wanted = [
        (format!("merge.{DRIVER}.name"), "manifests and locks by meaning".to_owned()),
        (
            format!("merge.{DRIVER}.driver"),
            format!("{} merge --driver %O %A %B %P", called(program, context)),
        ),
    ];
    let is_set = |(key, value): &(String, String)| {
        let own = copy.ask(["config", "--local", "--get", key]).map(|own| own.trim_end().to_owned());
        if undoes { own.is_none() } else { own.as_ref() == Some(value) }
    };
    let settings = wanted.into_iter().filter(|setting| !is_set(setting)).collect();
    let attributes = pathdiff::diff_paths(&place, context.folder).unwrap_or_else(|| place.clone());
    let attributes = attributes.display().to_string();
    Ok(SetUp { attributes, lines, settings, copy, place, text, is_undo: undoes })
}

/// Does it.
pub fn apply(set_up: &SetUp) -> Result<(), Failure> {
    let copy = &set_up.copy;
    if !set_up.lines.is_empty() {
        write_attributes(set_up)?;
    }
    for (key, value) in &set_up.settings {
        match set_up.is_undo {
            true => copy.tell(["config", "--local", "--unset-all", key.as_str()])?,
            false => copy.tell(["config", "--local", key.as_str(), value.as_str()])?,
        }
    }
    if set_up.is_undo {
        // The section stays behind empty; where it has more, that isn't ours.
        let rest = copy.ask(["config", "--local", "--get-regexp", &format!("^merge\\.{DRIVER}\\.")]);
        if rest.is_none() {
            let _ = copy.ask(["config", "--local", "--remove-section", &format!("merge.{DRIVER}")]);
        }
    }
    Ok(())
}

fn write_attributes(set_up: &SetUp) -> Result<(), Failure> {
    if !set_up.is_undo {
        let end = if set_up.text.is_empty() || set_up.text.ends_with('\n') { "" } else { "\n" };
        let text = format!("{}{end}{}\n", set_up.text, set_up.lines.join("\n"));
        return Ok(write_whole(&set_up.place, text.as_bytes())?);
    }
    let is_ours = |line: &&str| set_up.lines.iter().any(|own| line.trim() == own);
    let rest: Vec<&str> = set_up.text.split_inclusive('\n').filter(|line| !is_ours(line)).collect();
    if rest.is_empty() {
        std::fs::remove_file(&set_up.place)
            .map_err(|error| bibliotax_disk::DiskError::new("remove", &set_up.place, error).into())
    } else {
        Ok(write_whole(&set_up.place, rest.concat().as_bytes())?)
    }
}

/// How git's shell calls a program: by its name, where that leads to it.
fn called(program: &Path, context: &Context<'_>) -> String {
    let whole = std::fs::canonicalize(program).ok();
    let is_found = program.file_name().is_some_and(|name| {
        let mut folders = std::env::split_paths(&context.environment.program_folders);
        let first = folders.find_map(|folder| std::fs::canonicalize(folder.join(name)).ok());
        first.is_some() && first == whole
    });
    match program.file_name() {
        Some(name) if is_found => name.to_string_lossy().into_owned(),
        _ => format!("'{}'", program.to_string_lossy().replace('\\', "/").replace('\'', "'\\''")),
    }
}

/// Whether git merges by meaning in this working copy; `None` where the team doesn't want it to.
pub fn is_set_up(root: &Path) -> Option<bool> {
    let text = read_text(&root.join(ATTRIBUTES), MAX_SIZE).ok().flatten()?;
    let wanted = lines();
    let is_ours = |line: &str| wanted.iter().any(|own| line.trim() == own);
    let copy = text.lines().any(is_ours).then(|| working_copy(root).ok()).flatten()?;
    Some(copy.ask(["config", "--get", &format!("merge.{DRIVER}.driver")]).is_some())
}
