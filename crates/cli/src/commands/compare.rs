//! `compare`: the difference of two locks, in the terms that a reviewer uses.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use bibliotax_core::compare::{Aspect, Change, compare};
use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{FILE_NAME, Lock, LockedPackage};
use bibliotax_core::name::{ComponentName, PackageName};
use bibliotax_disk::read::read_text;
use bibliotax_present::changes;
use serde_json::json;

use super::settle::NEEDED_OTHERWISE;
use crate::codes::{Exit, exit_of};
use crate::failure::Failure;
use crate::project::{LARGEST_LOCK, Manifests};
use crate::show::{size, table};
use crate::ui::{Ui, clean, style, styled};

/// The word for a lock without any package.
const NOTHING: &str = "nothing";

/// What is compared where nothing is said.
const HEAD: &str = "HEAD";

/// Tell what differs between two locks
///
/// Each of them is a file, or a revision of git (`HEAD`, `main`, a commit) that has the project's lock. Without any, the lock as
/// it is now is compared with that of HEAD. `nothing` is a lock without any package.
///
/// It ends with status 0 whether they differ or not. With --quiet it prints nothing and ends with status 1 where they differ.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax compare\n  bibliotax compare main --markdown\n  bibliotax compare v1.0 v2.0"
)]
pub struct Compare {
    /// The lock before: a file, a revision, or `nothing`
    #[arg(default_value = HEAD)]
    old: String,
    /// The lock after; without it, the one that is there
    new: Option<String>,
    /// Write it as Markdown, for a review
    #[arg(long)]
    markdown: bool,
}

impl Compare {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let old = lock_of(&self.old, here)?;
        let new = match &self.new {
            Some(word) => lock_of(word, here)?,
            None => present_lock(here)?,
        };
        let found = compare(Some(&old), &new);
        let members = Members::between(&old, &new);
        let differs = !found.is_empty() || !members.is_same();
        let is_otherwise = !differs && (old.packages != new.packages || old.members != new.members);
        if ui.is_quiet() {
            return Ok(if differs || is_otherwise { exit_of("check.findings") } else { Exit::Done });
        }
        if is_otherwise {
            ui.answer(NEEDED_OTHERWISE);
        } else if !differs {
            ui.answer("no difference");
        } else if self.markdown {
            ui.answer(markdown(&found, &members, &old, &new));
        } else {
            show(ui, &found, &members, &old, &new);
        }
        let result = || {
            json!({ "changes": changes::as_json(&found, &new), "size": [total(&old), total(&new)],
            "needed-otherwise": is_otherwise, "members": { "added": members.added, "gone": members.gone } })
        };
        ui.report("compare", result);
        Ok(Exit::Done)
    }
}

/// The lock that a word means: of a file that there is, or of a revision of git.
fn lock_of(word: &str, here: &Path) -> Result<Lock, Failure> {
    let file = here.join(word);
    if file.is_file() {
        let text = read_text(&file, LARGEST_LOCK)?.unwrap_or_default();
        return read(&text, word);
    }
    if word == NOTHING {
        return Ok(empty_lock());
    }
    lock_at(word, here)
}

/// The lock in a revision of git.
fn lock_at(word: &str, here: &Path) -> Result<Lock, Failure> {
    let unknown = |why: &str| {
        let failure =
            Failure::new("compare.unknown", format!("`{word}` is no file here, and no revision of git{why}"));
        failure.mend("name a file, a branch, a tag or a commit: `bibliotax compare main`")
    };
    if word.starts_with('-') || word.contains(char::is_control) {
        return Err(unknown(""));
    }
    let root = Manifests::find(here)?.root;
    let asked = |args: &[&str]| {
        let asked = Command::new("git").args(args).current_dir(&root).output();
        asked.map_err(|_| unknown(": git is not on this machine"))
    };
    let object = format!("{word}:./{FILE_NAME}");
    let found = asked(&["cat-file", "blob", &object])?;
    if found.status.success() {
        return read(&String::from_utf8_lossy(&found.stdout), &format!("{word}:{FILE_NAME}"));
    }
    let none = |message: String| {
        let mend = format!("`bibliotax compare {NOTHING}` shows all that is locked, as if it were new");
        Err(Failure::new("compare.unknown", message).mend(mend))
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
        return none(format!("nothing was committed here yet, so there is no {FILE_NAME} to compare with"));
    }
    Err(unknown(""))
}

/// A lock without any package or project.
fn empty_lock() -> Lock {
    let inputs = Digest::of(b"");
    Lock { inputs, registries: BTreeMap::new(), members: Vec::new(), packages: Vec::new() }
}

/// The lock as it is now.
fn present_lock(here: &Path) -> Result<Lock, Failure> {
    let root = Manifests::find(here)?.root;
    let text = read_text(&root.join(FILE_NAME), LARGEST_LOCK)?;
    let missing = || {
        Failure::new("lock.missing", format!("there is no {FILE_NAME} yet"))
            .mend("`bibliotax install` makes it")
    };
    read(&text.ok_or_else(missing)?, FILE_NAME)
}

fn read(text: &str, name: &str) -> Result<Lock, Failure> {
    Lock::read(text).map_err(|broken| Failure::in_text(name, text, vec![broken.fault]))
}

/// The projects that are on one side only.
struct Members<'l> {
    added: Vec<&'l PackageName>,
    gone: Vec<&'l PackageName>,
}

impl<'l> Members<'l> {
    fn between(old: &'l Lock, new: &'l Lock) -> Self {
        let beyond = |one: &'l Lock, other: &Lock| -> Vec<&'l PackageName> {
            let names = one.members.iter().map(|member| &member.name);
            names.filter(|name| !other.members.iter().any(|member| member.name == **name)).collect()
        };
        Self { added: beyond(new, old), gone: beyond(old, new) }
    }

    fn is_same(&self) -> bool {
        self.added.is_empty() && self.gone.is_empty()
    }

    fn told(&self) -> Vec<String> {
        let told = |what: &str, names: &[&PackageName]| {
            let names: Vec<&str> = names.iter().map(|name| name.as_str()).collect();
            (!names.is_empty()).then(|| format!("{what} {}", names.join(", ")))
        };
        [told("new in the workspace:", &self.added), told("gone from the workspace:", &self.gone)]
            .into_iter()
            .flatten()
            .collect()
    }
}

/// One change in words: what became of the package, its name, versions, size, licence, and what else is worth a look.
fn cells(change: &Change<'_>) -> [String; 6] {
    let package = change.package();
    let both = |told: fn(&LockedPackage) -> String| match (change.old, change.new) {
        (Some(old), Some(new)) if told(old) != told(new) => format!("{} -> {}", told(old), told(new)),
        _ => told(package),
    };
    [
        changes::word(&change.kind).to_owned(),
        package.name.to_string(),
        both(|package| package.version.to_string()),
        both(|package| size(package.size())),
        clean(&both(license)),
        clean(&aspects(change)),
    ]
}

fn license(package: &LockedPackage) -> String {
    package.license.as_ref().map_or_else(|| "licence not stated".to_owned(), ToString::to_string)
}

/// What a reviewer should look at beside the version.
fn aspects(change: &Change<'_>) -> String {
    let (Some(old), Some(new)) = (change.old, change.new) else {
        let package = change.package();
        let is_plain = package.source.registry().is_some();
        return if is_plain { String::new() } else { format!("from {}", package.source) };
    };
    let source = |package: &LockedPackage| {
        if package.replaced {
            format!("{}, which stands in for it", package.source)
        } else {
            package.source.to_string()
        }
    };
    let components = |package: &LockedPackage| {
        package.components.iter().map(ComponentName::as_str).collect::<Vec<_>>().join(", ")
    };
    let told = |aspect: &Aspect| match aspect {
        Aspect::Source => Some(format!("source: {} -> {}", source(old), source(new))),
        Aspect::Contents => Some("other contents under the same version".to_owned()),
        Aspect::Components => Some(format!("components: {} -> {}", components(old), components(new))),
        Aspect::Steps => Some("other things to be done by hand".to_owned()),
        // It has a column of its own.
        Aspect::License => None,
    };
    change.aspects().iter().filter_map(told).collect::<Vec<_>>().join("; ")
}

fn total(lock: &Lock) -> u64 {
    lock.packages.iter().map(LockedPackage::size).sum()
}

/// How much all archives weigh, before and after.
fn sizes(old: &Lock, new: &Lock) -> String {
    let (before, after) = (total(old), total(new));
    if before == after { size(after) } else { format!("{} -> {}", size(before), size(after)) }
}

fn show(ui: &Ui, found: &[Change<'_>], members: &Members<'_>, old: &Lock, new: &Lock) {
    members.told().iter().for_each(|line| ui.answer(line));
    if found.is_empty() {
        return;
    }
    ui.answer(format!(
        "{}: {}; archives {}",
        styled(style::STRONG, "lock"),
        changes::tally(found),
        sizes(old, new)
    ));
    let row = |change: &Change<'_>| {
        let [kind, rest @ ..] = cells(change);
        [format!(" {}", styled(changes::look(&change.kind), kind))].into_iter().chain(rest).collect()
    };
    ui.answer(table(ui, found.iter().map(row)));
}

/// The same for a review: a heading, and a table where there is something to list.
fn markdown(found: &[Change<'_>], members: &Members<'_>, old: &Lock, new: &Lock) -> String {
    let mut lines = vec![
        format!(
            "### {FILE_NAME}: {}",
            if found.is_empty() { "members".to_owned() } else { changes::tally(found) }
        ),
        String::new(),
    ];
    lines.extend(members.told().iter().map(|line| format!("{}\n", escaped(line))));
    if !found.is_empty() {
        lines.push("| | package | version | size | licence | |".to_owned());
        lines.push("|---|---|---|---|---|---|".to_owned());
        let row = |change: &Change<'_>| {
            let cells = cells(change).map(|cell| escaped(&cell.replace(" -> ", " → ")));
            format!("| {} |", cells.join(" | "))
        };
        lines.extend(found.iter().map(row));
        lines.push(format!("\nArchives: {}", sizes(old, new).replace(" -> ", " → ")));
    }
    lines.join("\n")
}

/// A text as Markdown takes it for what it is, also in a table.
fn escaped(text: &str) -> String {
    let escape = |c: char| if "\\`*_[]<>|~#".contains(c) { format!("\\{c}") } else { c.to_string() };
    text.chars().map(escape).collect()
}
