//! git's merge driver: it gets the three versions of one file, and leaves what they come to in place of ours.

use std::path::{Path, PathBuf};

use bibliotax_core::lock::FILE_NAME as LOCK;
use bibliotax_core::merge::{MergedLock, Versions, merge_lines, merge_locks, merge_manifests};
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::write_whole;
use serde_json::Value;

use super::Settled;
use super::git::{is_tick, working_copy};
use super::resolved::{MergedWorkspace, ResolvedMerge};
use super::sides::{LockFiles, Texts, is_manifest, lock_sides, merged_texts};
use crate::context::Context;
use crate::failure::Failure;
use crate::search_options::SearchOptions;
use crate::workspace::edits::Edits;
use crate::workspace::{MAX_LOCK_SIZE, WorkspaceFolder};

/// The files that git gives.
#[derive(Debug, Clone)]
pub struct Request {
    /// The version before.
    pub base: PathBuf,
    /// Ours, which the result takes the place of.
    pub ours: PathBuf,
    /// Theirs.
    pub theirs: PathBuf,
    /// The path of the file from the working copy's top.
    pub path: String,
}

/// What became of the file.
pub enum Report {
    /// The lock holds what both sides chose, and is made from the merged manifests.
    Locked {
        /// What became of the packages that both sides moved.
        settled: Vec<Settled>,
        /// The packages that have neither side's release.
        moved: Vec<(PackageName, Version)>,
    },
    /// The lock holds what both sides chose, and nobody has seen whether that goes together; why not.
    Unfinished(String),
    /// All that both sides changed is there.
    Joined,
    /// These keys are as neither side has them alone: a person has to decide.
    Conflicts(Vec<String>),
}

/// Merges one file in place of ours. In an unclean end, it has markers.
pub fn merge_file(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let name = request.path.rsplit('/').next().unwrap_or_default();
    if name == LOCK {
        return merge_lock_file(request, context);
    }
    let read = |path: &Path| Ok::<_, Failure>(read_text(path, MAX_LOCK_SIZE)?.unwrap_or_default());
    let (base, ours, theirs) = (read(&request.base)?, read(&request.ours)?, read(&request.theirs)?);
    if is_tick(&request.path) {
        write_whole(&request.ours, newer_tick(&ours, &theirs).as_bytes())?;
        return Ok(Report::Joined);
    }
    let versions = Versions { base: &base, ours: &ours, theirs: &theirs };
    let names = ["ours", "theirs"];
    let Some(merged) = merge_manifests(versions, names) else {
        // One of them is no manifest: by lines, as git does it.
        return match merge_lines(versions) {
            Ok(text) => {
                write_whole(&request.ours, text.as_bytes()).map(|()| Report::Joined).map_err(Failure::from)
            }
            Err(text) => {
                write_whole(&request.ours, text.as_bytes())?;
                Ok(Report::Conflicts(vec![request.path.clone()]))
            }
        };
    };
    write_whole(&request.ours, merged.text.as_bytes())?;
    Ok(if merged.conflicts.is_empty() { Report::Joined } else { Report::Conflicts(merged.conflicts) })
}

/// Of two ticks of one step, the one for the newer release.
pub fn newer_tick<'t>(ours: &'t str, theirs: &'t str) -> &'t str {
    let version = |text: &str| -> Option<Version> {
        serde_json::from_str::<Value>(text).ok()?.get("version")?.as_str()?.parse().ok()
    };
    if version(theirs) > version(ours) { theirs } else { ours }
}

fn merge_lock_file(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let read = |path: &Path| {
        Ok::<_, Failure>(read_text(path, MAX_LOCK_SIZE)?.filter(|text| !text.trim().is_empty()))
    };
    let texts = [read(&request.base)?, read(&request.ours)?, read(&request.theirs)?];
    let Ok([base, ours, theirs]) = lock_sides(texts.each_ref().map(Option::as_deref)) else {
        return mark_lines(request, &texts);
    };
    let merged = merge_locks(&base, &ours, &theirs);
    let why = match finished(request, &merged, context) {
        Ok(ResolvedMerge { resolved, settled, moved, .. }) => {
            write_whole(&request.ours, resolved.lock.to_string().as_bytes())?;
            return Ok(Report::Locked { settled, moved });
        }
        Err(why) => why,
    };
    let Some(lock) = merged.unfinished(&base, &ours, &theirs) else {
        return mark_lines(request, &texts);
    };
    write_whole(&request.ours, lock.to_string().as_bytes())?;
    Ok(Report::Unfinished(why))
}

/// Leaves markers, which `merge` and `resolve` understand.
fn mark_lines(request: &Request, texts: &[Option<String>; 3]) -> Result<Report, Failure> {
    let [base, ours, theirs] = texts.each_ref().map(|text| text.as_deref().unwrap_or_default());
    let text = merge_lines(Versions { base, ours, theirs }).unwrap_or_else(|marked| marked);
    write_whole(&request.ours, text.as_bytes())?;
    Ok(Report::Conflicts(vec![request.path.clone()]))
}

/// The lock of the merged manifests; why it can't be worked out here.
fn finished(request: &Request, merged: &MergedLock, context: &Context<'_>) -> Result<ResolvedMerge, String> {
    let copy = working_copy(context.folder).map_err(|failure| failure.message)?;
    let files = LockFiles { base: &request.base, ours: &request.ours, theirs: &request.theirs };
    let texts = merged_texts(&copy, &files).ok_or("the manifests aren't merged yet")?;
    let folder = request.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let root = copy.top().join(folder);
    let workspace = WorkspaceFolder::find(&root).map_err(|failure| failure.message)?;
    // A project that stands on its own below the workspace is none of its projects.
    if texts.keys().any(|path| is_manifest(path) && !root.join(path).is_file()) {
        return Err("it has projects that aren't here yet".to_owned());
    }
    let edits = edits_of(&workspace, texts);
    let declared = workspace.edited(&edits).map_err(|failure| failure.message)?;
    let merged = MergedWorkspace { workspace: &workspace, declared: &declared, merged };
    let resolved = merged.resolve(context.environment, &SearchOptions::default());
    resolved.map_err(|failure| [vec![failure.message], failure.because].concat().join(" "))
}

/// The texts that differ from those here, as edits of the workspace's manifests and cards.
fn edits_of(workspace: &WorkspaceFolder, texts: Texts) -> Edits {
    let mut edits = Edits::default();
    for (path, text) in texts {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
        if is_manifest(&path) {
            let here = workspace.manifests.in_folder(folder);
            if here.is_some_and(|file| file.text != text) {
                edits.manifests.insert(folder.to_owned(), text);
            }
            continue;
        }
        let (of, cards) = folder.rsplit_once('/').unwrap_or(("", folder));
        let way = format!("{cards}/{name}");
        let here = workspace.manifests.in_folder(of);
        if here.is_some_and(|file| file.card(&way) != Some(text.as_str())) {
            edits.cards.insert((of.to_owned(), way), text);
        }
    }
    edits
}
