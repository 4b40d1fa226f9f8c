//! `drop`: the reverse of `need`.

use bibliotax_core::manifest::{self, Need};
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::workspace::Project;

use crate::change::{PlannedChange, plan_edits};
use crate::context::Context;
use crate::failure::Failure;
use crate::search_options::SearchOptions;
use crate::workspace::edits::Edits;
use crate::workspace::{ManifestEdits, ProjectWords, WorkspaceFolder};

/// What is dropped.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The packages.
    pub packages: Vec<String>,
    /// The projects that need them no longer.
    pub projects: ProjectWords,
    /// Only the needs for this purpose.
    pub purpose: Option<String>,
    /// How the rest is resolved.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// A drop, worked out and not yet done.
pub struct Plan {
    /// What changes.
    pub change: PlannedChange,
    dropped: Vec<PackageName>,
}

/// A dropped package that is still in the lock.
pub struct Stays<'p> {
    /// The package.
    pub package: &'p PackageName,
    /// The packages that need it; none where it is needed for another purpose.
    pub needed_by: Vec<&'p PackageName>,
}

impl Plan {
    /// The dropped packages that stay in the lock.
    pub fn stay(&self) -> Vec<Stays<'_>> {
        let lock = self.change.lock();
        let staying = self.dropped.iter().filter(|package| lock.package(package).is_some());
        staying.map(|package| Stays { package, needed_by: lock.needed_by(package) }).collect()
    }
}

/// Works out what dropping packages comes to.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let workspace = WorkspaceFolder::open(context.folder, request.is_dry_run, context.listener)?;
    workspace.sound_lock()?;
    let is_charter = |word: &&String| {
        request.purpose.is_none()
            && workspace.declared.charters.iter().any(|charter| charter.name.as_str() == *word)
    };
    let (charters, words): (Vec<&String>, Vec<&String>) = request.packages.iter().partition(is_charter);
    let projects = if words.is_empty() { Vec::new() } else { request.projects.to_change(&workspace)? };
    let charters: Vec<PackageName> =
        charters.into_iter().map(|word| Failure::read_word(word)).collect::<Result<_, _>>()?;
    let needs = words
        .into_iter()
        .map(|word| declared(&workspace, &projects, request.purpose.as_deref(), word))
        .collect::<Result<Vec<_>, _>>()?;
    let edits = without(&workspace, needs.iter().flatten(), &charters)?;
    let dropped = needs.iter().filter_map(|needs| Some(needs.first()?.1.package.clone())).collect();
    Ok(Plan { change: plan_edits(workspace, edits, &request.options, context)?, dropped })
}

/// The needs that a word means: of this purpose if one is given, else of all.
fn declared<'w>(
    workspace: &WorkspaceFolder,
    projects: &[&'w Project],
    purpose: Option<&str>,
    word: &str,
) -> Result<Vec<(&'w Project, &'w Need)>, Failure> {
    let is_of_purpose = |need: &&Need| {
        purpose.is_none_or(|wanted| need.purpose.as_ref().is_some_and(|purpose| purpose.as_str() == wanted))
    };
    let all =
        projects.iter().flat_map(|project| project.manifest.needs.iter().map(move |need| (*project, need)));
    let needs: Vec<(&Project, &Need)> = all.filter(|(_, need)| is_of_purpose(need)).collect();
    let is_meant = |(_, need): &(&Project, &Need)| need.package.as_str() == word;
    let found: Vec<(&Project, &Need)> = needs.iter().copied().filter(is_meant).collect();
    if found.is_empty() { Err(not_declared(workspace, &needs, word)?) } else { Ok(found) }
}

fn not_declared(
    workspace: &WorkspaceFolder,
    needs: &[(&Project, &Need)],
    word: &str,
) -> Result<Failure, Failure> {
    let failure =
        Failure::new("need.not-declared", format!("{} doesn't declare {word}", manifest::FILE_NAME));
    let near = nearest(word, needs.iter().map(|(_, need)| need.package.as_str()), 2);
    let locked = workspace.sound_lock()?.zip(word.parse::<PackageName>().ok());
    let needed_by = locked.map(|(lock, name)| lock.needed_by(&name)).unwrap_or_default();
    Ok(match (needed_by.first(), near.as_slice()) {
        (Some(other), _) => failure
            .advice(format!("it is locked because {other} needs it; drop {other} if you don't need it")),
        (None, []) => failure.advice("see `[needs]` in the manifest"),
        (None, near) => failure.advice(either(near)),
    })
}

/// The manifests without these needs and charters.
fn without<'n>(
    workspace: &WorkspaceFolder,
    needs: impl Iterator<Item = &'n (&'n Project, &'n Need)>,
    charters: &[PackageName],
) -> Result<Edits, Failure> {
    let mut texts = ManifestEdits::of(workspace);
    for (project, need) in needs {
        texts.open(&project.folder)?.remove_need(need.purpose.as_ref(), &need.package);
    }
    for charter in charters {
        texts.open("")?.remove_charter(charter);
    }
    Ok(texts.edits())
}
