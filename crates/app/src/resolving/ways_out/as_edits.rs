//! Ways out of a conflict, as texts that manifests would have.

use bibliotax_core::manifest::Need;
use bibliotax_core::resolve::{Raised, Relaxation, WayOut};
use bibliotax_core::workspace::{Project, Workspace};

use super::{as_commands, is_same};
use crate::failure::Failure;
use crate::workspace::edits::Edits;
use crate::workspace::{ManifestEdits, WorkspaceFolder};

/// A way out with what manifests would say.
#[derive(Debug, Clone)]
pub struct EditedWay {
    /// What it does, in a few words: `changes moss-map to 1.2.0`.
    pub effect: String,
    /// The manifests.
    pub edits: Edits,
}

/// The ways that can be done in manifests. What `declared` says is what their texts say now.
pub fn as_edits(
    ways: &[WayOut],
    workspace: &WorkspaceFolder,
    declared: &Workspace,
) -> Result<Vec<EditedWay>, Failure> {
    let mut found = Vec::new();
    for way in ways {
        found.extend(as_edit(way, workspace, declared)?);
    }
    Ok(found)
}

fn as_edit(
    way: &WayOut,
    workspace: &WorkspaceFolder,
    declared: &Workspace,
) -> Result<Option<EditedWay>, Failure> {
    let mut texts = ManifestEdits::of(workspace);
    let effect = match (&way.raised, &way.excepted) {
        (Some(raised), _) => {
            raise(&mut texts, raised, declared)?;
            raised_effect(raised)
        }
        (None, Some((charter, package))) => {
            texts.open("")?.except_from_charter(charter, package);
            format!("excepts {package} from {charter}")
        }
        (None, None) => {
            let Some(shown) = as_commands(std::slice::from_ref(way), workspace, declared).pop() else {
                return Ok(None);
            };
            if !relax_all(&mut texts, way, declared)? {
                return Ok(None);
            }
            shown.note
        }
    };
    Ok(Some(EditedWay { effect, edits: texts.edits() }))
}

/// Puts a target at another level, in each manifest that declares it, or what a project promises.
fn raise(texts: &mut ManifestEdits<'_>, raised: &Raised, declared: &Workspace) -> Result<(), Failure> {
    let Raised { place, facet, level } = raised;
    if place.is_promise {
        let promises = |project: &&Project| project.name().as_str() == place.name;
        if let Some(project) = declared.projects.iter().find(promises) {
            texts.open(&project.folder)?.set_level(None, facet, level);
        }
        return Ok(());
    }
    let folders = declared.projects.iter().map(|project| project.folder.as_str());
    for folder in folders.chain([""]) {
        texts.open(folder)?.set_level(Some(&place.name), facet, level);
    }
    Ok(())
}

fn raised_effect(raised: &Raised) -> String {
    let Raised { place, facet, level } = raised;
    if place.is_promise {
        format!("promises {facet} {level}, which is a weaker promise")
    } else {
        format!("puts {} at {facet} {level}, if it can be raised", place.name)
    }
}

/// Changes the needs that a way changes; whether all of them were found.
fn relax_all(texts: &mut ManifestEdits<'_>, way: &WayOut, declared: &Workspace) -> Result<bool, Failure> {
    for (problem_need, change) in &way.changes {
        let project = declared.projects.get(problem_need.by);
        let need = project.and_then(|project| {
            let need = project.manifest.needs.iter().find(|need| is_same(need, problem_need))?;
            Some((project, need))
        });
        let Some((project, need)) = need else { return Ok(false) };
        relax(texts, (project, need), change, declared)?;
    }
    Ok(true)
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
