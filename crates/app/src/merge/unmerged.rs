//! Merges what git couldn't: the manifests, ticks and locks of a merge, rebase or cherry-pick that stopped.

use std::collections::BTreeSet;

use bibliotax_core::fault::conflict_marker;
use bibliotax_core::lock::FILE_NAME as LOCK;
use bibliotax_core::merge::{MergedLock, Versions, merge_locks, merge_manifests};
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::write_whole;

use super::Settled;
use super::driver::newer_tick;
use super::git::{UnmergedFile, is_tick, working_copy};
use super::resolved::{MergedWorkspace, ResolvedMerge};
use super::sides::lock_sides;
use crate::change::{PlannedChange, Wanted};
use crate::context::Context;
use crate::failure::Failure;
use crate::git::WorkingCopy;
use crate::search_options::SearchOptions;
use crate::workspace::edits::Edits;
use crate::workspace::{LockFile, MAX_LOCK_SIZE, WorkspaceFolder};

/// What a merge comes to.
pub struct Report {
    /// What people call our side and theirs.
    pub sides: [String; 2],
    /// The files that were merged, from the working copy's top.
    pub joined: Vec<String>,
    /// The files that a person has to decide on, each with its keys.
    pub conflicts: Vec<(String, Vec<String>)>,
    /// The locks that were worked out.
    pub locks: Vec<Merged>,
}

/// A lock of merged manifests.
pub struct Merged {
    /// Its path from the working copy's top.
    pub path: String,
    /// What changes with it.
    pub change: PlannedChange,
    /// What became of the packages that both sides moved.
    pub settled: Vec<Settled>,
    /// The packages that have neither side's release.
    pub moved: Vec<(PackageName, Version)>,
}

impl Report {
    /// Whether there was nothing to merge.
    pub fn is_empty(&self) -> bool {
        self.joined.is_empty() && self.conflicts.is_empty() && self.locks.is_empty()
    }
}

/// Merges what git left unmerged, and works out the locks; nothing is written in a dry run.
pub fn merge(options: &SearchOptions, is_dry_run: bool, context: &Context<'_>) -> Result<Report, Failure> {
    let copy = working_copy(context.folder)?;
    let unmerged = copy.unmerged();
    let mut report =
        Report { sides: copy.side_names(), joined: Vec::new(), conflicts: Vec::new(), locks: Vec::new() };
    let mut texts: Vec<(String, String)> = Vec::new();
    for (path, file) in unmerged.iter().filter(|(path, _)| !is_lock(path)) {
        let here = read_text(&copy.top().join(path), MAX_LOCK_SIZE)?;
        if here.as_ref().is_some_and(|text| file.is_decided(text)) {
            report.joined.push(path.clone());
            continue;
        }
        match joined(path, file, &report.sides) {
            Ok(text) => {
                report.joined.push(path.clone());
                texts.push((path.clone(), text));
            }
            Err((text, keys)) => {
                report.conflicts.push((path.clone(), keys));
                // What a person has begun to edit stays.
                let is_begun = here.is_some_and(|here| has_our_markers(&here, &report.sides));
                texts.extend(text.filter(|_| !is_begun).map(|text| (path.clone(), text)));
            }
        }
    }
    if is_dry_run && !texts.is_empty() {
        return Ok(report);
    }
    for (path, text) in &texts {
        write_whole(&copy.top().join(path), text.as_bytes())?;
    }
    if !report.conflicts.is_empty() {
        return Ok(report);
    }
    add(&copy, &report.joined)?;
    let mut locks: BTreeSet<String> = unmerged.keys().filter(|path| is_lock(path)).cloned().collect();
    locks.extend(stale_lock(&copy, context)?);
    for path in locks {
        let file = unmerged.get(&path);
        let lock = merged_lock(&copy, &path, file, options, is_dry_run, context);
        report.locks.push(lock.map_err(|failure| naming(failure, &report.sides))?);
    }
    Ok(report)
}

/// Writes the locks of a merge, and tells git that they are merged.
pub fn apply(report: &Report, context: &Context<'_>) -> Result<(), Failure> {
    let copy = working_copy(context.folder)?;
    for lock in &report.locks {
        lock.change.write(context)?;
        add(&copy, std::slice::from_ref(&lock.path))?;
    }
    Ok(())
}

fn add(copy: &WorkingCopy, paths: &[String]) -> Result<(), Failure> {
    if paths.is_empty() {
        return Ok(());
    }
    copy.tell(["add", "--"].into_iter().chain(paths.iter().map(String::as_str)))
}

impl UnmergedFile {
    /// Whether a person decided what this file is to be: it has no markers any more, and is no side's alone.
    fn is_decided(&self, here: &str) -> bool {
        let is_of_one_side = [&self.ours, &self.theirs].into_iter().flatten().any(|side| side == here);
        conflict_marker(here).is_none() && !is_of_one_side
    }
}

/// Whether a text has markers that name the sides as we do.
fn has_our_markers(text: &str, sides: &[String; 2]) -> bool {
    let ours = ["ours", sides[0].as_str()].map(|side| format!("<<<<<<< {side}"));
    text.lines().any(|line| ours.iter().any(|own| line == own))
}

fn is_lock(path: &str) -> bool {
    path.rsplit('/').next() == Some(LOCK)
}

/// A file merged; else its text with markers, where it has one, and what a person has to decide.
fn joined(
    path: &str,
    file: &UnmergedFile,
    sides: &[String; 2],
) -> Result<String, (Option<String>, Vec<String>)> {
    let (Some(ours), Some(theirs)) = (&file.ours, &file.theirs) else {
        return Err((None, vec!["it is gone on one side".to_owned()]));
    };
    if is_tick(path) {
        return Ok(newer_tick(ours, theirs).to_owned());
    }
    let versions = Versions { base: file.base.as_deref().unwrap_or_default(), ours, theirs };
    match merge_manifests(versions, sides.each_ref().map(String::as_str)) {
        Some(merged) if merged.conflicts.is_empty() => Ok(merged.text),
        Some(merged) => Err((Some(merged.text), merged.conflicts)),
        None => Err((None, vec!["one side isn't TOML".to_owned()])),
    }
}

/// The lock of the workspace here, where git merged it and it isn't made from the manifests.
fn stale_lock(copy: &WorkingCopy, context: &Context<'_>) -> Result<Option<String>, Failure> {
    let workspace = match WorkspaceFolder::find(context.folder) {
        Err(failure) if failure.code == "manifest.missing" => return Ok(None),
        found => found?,
    };
    let is_stale = !matches!(workspace.lock, LockFile::None) && !workspace.is_locked();
    Ok(if is_stale { copy.path_of(&workspace.root.join(LOCK)) } else { None })
}

fn merged_lock(
    copy: &WorkingCopy,
    path: &str,
    file: Option<&UnmergedFile>,
    options: &SearchOptions,
    is_dry_run: bool,
    context: &Context<'_>,
) -> Result<Merged, Failure> {
    let root = copy.top().join(path);
    let root = root.parent().unwrap_or(copy.top());
    let workspace = WorkspaceFolder::open(root, is_dry_run, context.listener)?;
    let merged = match file {
        Some(UnmergedFile { base, ours, theirs }) => {
            let [base, ours, theirs] = lock_sides([base, ours, theirs].map(Option::as_deref))?;
            merge_locks(&base, &ours, &theirs)
        }
        None => MergedLock {
            packages: workspace.locked().into_owned(),
            charters: workspace.locked_charters().into_owned(),
            both_moved: Vec::new(),
        },
    };
    let merged = MergedWorkspace { workspace: &workspace, declared: &workspace.declared, merged: &merged };
    let ResolvedMerge { declared, resolved, settled, moved, registries } =
        merged.resolve(context.environment, options)?;
    let wanted = Wanted::new(Edits::default(), declared, resolved);
    let change = PlannedChange::new(workspace, wanted, &registries);
    Ok(Merged { path: path.to_owned(), change, settled, moved })
}

/// The same failure, which says what was merged.
fn naming(failure: Failure, [ours, theirs]: &[String; 2]) -> Failure {
    if failure.unsolved.is_none() {
        return failure;
    }
    let message = format!("{ours} and {theirs} don't go together: {}", failure.message);
    Failure { message, ..failure }
}
