//! Ways out of a conflict, as texts that manifests would have.

use bibliotax_core::manifest::Need;
use bibliotax_core::resolve::{Relaxation, WayOut};
use bibliotax_core::workspace::{Project, Workspace};

use super::{as_commands, is_same};
use crate::failure::{Failure, Way};
use crate::workspace::edits::Edits;
use crate::workspace::{ManifestEdits, WorkspaceFolder};

/// The ways that can be done in manifests, each with what these would say. What `declared` says is what their texts say now.
pub fn as_edits(
    ways: &[WayOut],
    workspace: &WorkspaceFolder,
    declared: &Workspace,
) -> Result<Vec<(Way, Edits)>, Failure> {
    let mut found = Vec::new();
    for way in ways.iter().filter(|way| way.raised.is_none() && way.excepted.is_none()) {
        let Some(shown) = as_commands(std::slice::from_ref(way), workspace, declared).pop() else { continue };
        if let Some(edits) = edits_of(way, workspace, declared)? {
            found.push((shown, edits));
        }
    }
    Ok(found)
}

/// What manifests would say; `None` where a need isn't found.
fn edits_of(
    way: &WayOut,
    workspace: &WorkspaceFolder,
    declared: &Workspace,
) -> Result<Option<Edits>, Failure> {
    let mut texts = ManifestEdits::of(workspace);
    for (problem_need, change) in &way.changes {
        let project = declared.projects.get(problem_need.by);
        let need = project.and_then(|project| {
            let need = project.manifest.needs.iter().find(|need| is_same(need, problem_need))?;
            Some((project, need))
        });
        let Some((project, need)) = need else { return Ok(None) };
        relax(&mut texts, (project, need), change, declared)?;
    }
    Ok(Some(texts.edits()))
}

/// Changes a need where it is written.
fn relax(
    texts: &mut ManifestEdits<'_>,
    (project, need): (&Project, &Need),
    change: &Relaxation,
    declared: &Workspace,
) -> Result<(), Failure> {
    let (purpose, package) = (need.purpose.as_ref(), &need.package);
    match change {
        Relaxation::Range(range, _) if need.is_shared => texts.open("")?.set_shared(package, range),
        Relaxation::Range(range, _) => match &need.family {
            Some(family) => {
                // A project's own range of a family comes before the workspace's.
                let own = project.manifest.families.contains_key(family);
                let folder = if own || declared.projects.len() == 1 { project.folder.as_str() } else { "" };
                texts.open(folder)?.set_family(family, range);
            }
            None => texts.open(&project.folder)?.set_need(purpose, package, range),
        },
        Relaxation::Prereleases => texts.open(&project.folder)?.accept_prereleases(purpose, package),
        Relaxation::WithoutComponents => texts.open(&project.folder)?.take_bare(purpose, package),
        Relaxation::Targets(targets) => texts.open(&project.folder)?.only_for(purpose, package, targets),
        Relaxation::Drop => _ = texts.open(&project.folder)?.remove_need(purpose, package),
    }
    Ok(())
}
