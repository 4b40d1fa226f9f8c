//! Ways out of a conflict, as texts that manifests would have.

use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Raised, Relaxation, WayOut};
use bibliotax_core::workspace::{Project, Workspace};

use super::is_same;
use crate::failure::Failure;
use crate::workspace::edits::Edits;
use crate::workspace::{ManifestEdits, WorkspaceFolder};

/// A way out with what manifests would say.
#[derive(Debug, Clone)]
pub struct EditedWay {
    /// What to do, in a few words: `change moss-map to 1.2.0`.
    pub title: String,
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
    let title = match (&way.raised, &way.excepted) {
        (Some(raised), _) => {
            raise(&mut texts, raised, declared)?;
            raised_title(raised)
        }
        (None, Some((charter, package))) => {
            texts.open("")?.except_from_charter(charter, package);
            format!("except {package} from {charter}")
        }
        (None, None) => {
            if !relax_all(&mut texts, way, declared)? {
                return Ok(None);
            }
            let titles: Vec<String> =
                way.changes.iter().map(|(need, change)| changed_title(&need.package, change)).collect();
            titles.join(" and ")
        }
    };
    Ok(Some(EditedWay { title, edits: texts.edits() }))
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

fn raised_title(raised: &Raised) -> String {
    let Raised { place, facet, level } = raised;
    if place.is_promise {
        format!("promise {facet} {level}, which is a weaker promise")
    } else {
        format!("put {} at {facet} {level}, if it can be raised", place.name)
    }
}

fn changed_title(package: &PackageName, change: &Relaxation) -> String {
    match change {
        Relaxation::Prereleases => format!("accept pre-releases of {package}"),
        Relaxation::Range(_, version) => format!("change {package} to {version}"),
        Relaxation::WithoutComponents => format!("use {package} without components"),
        Relaxation::Targets(targets) => format!("use {package} only on {}", targets.join(" and ")),
        Relaxation::Drop => format!("remove {package}"),
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
