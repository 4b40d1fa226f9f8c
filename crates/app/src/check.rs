//! `check`: what is wrong or suspicious in a workspace whose files can all be read.

use bibliotax_core::manifest::Need;
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::range::Range;
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::{Drift, Project, Workspace};

use crate::change::{PlannedChange, plan_declared};
use crate::context::Context;
use crate::failure::Failure;
use crate::lock_check::LockCheck;
use crate::resolving::known_warnings;
use crate::search_options::SearchOptions;
use crate::workspace::ProjectWords;
use crate::workspace::edits::Edits;
use crate::workspace::{LockFile, ManifestEdits, WorkspaceFolder};

/// What is checked, and whether projects are to agree on ranges.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Whether projects are to share one range of each package that they declare with different ones.
    pub unifies: bool,
    /// Only what concerns these projects; none for all.
    pub projects: ProjectWords,
    /// How it is resolved then.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// Something that is wrong or worth a look.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Finding {
    /// The lock is not what the manifests lead to.
    Lock {
        /// Why, as an error code.
        code: &'static str,
        /// Why, in a sentence.
        message: String,
        /// Whether it can't be trusted, so that an install stays away from it.
        is_faulty: bool,
    },
    /// Something is to stand in for a package.
    StandIn {
        /// The package.
        package: PackageName,
        /// What stands in for it; none where nothing needs the package.
        by: Option<(Source, Version)>,
    },
    /// Projects declare a package with different ranges.
    Drift {
        /// The package.
        package: PackageName,
        /// A range that all of them accept.
        common: Option<Range>,
        /// The needs.
        needs: Vec<DriftingNeed>,
    },
}

/// A project's need of a package that others declare with another range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DriftingNeed {
    /// The project.
    pub project: PackageName,
    /// Its folder, from the workspace's.
    pub folder: String,
    /// Its folder as people write it.
    pub path: String,
    /// What it is for, beside running.
    pub purpose: Option<Purpose>,
    /// The range.
    pub range: Range,
    /// Whether the range is the workspace's.
    pub is_shared: bool,
}

/// What was found.
pub struct Report {
    /// What is wrong or worth a look.
    pub findings: Vec<Finding>,
    /// What people should know of what is locked.
    pub warnings: Vec<String>,
    /// The ranges that projects can share, where they are to.
    pub shared: Vec<(PackageName, Range)>,
    /// How many projects there are.
    pub projects: usize,
    /// How many packages are locked.
    pub packages: usize,
}

/// A check, with the change that lets projects share ranges, where that is wanted.
pub struct Plan {
    /// What was found.
    pub report: Report,
    unify: Option<Unify>,
}

/// Manifests whose projects share ranges, not yet resolved.
struct Unify {
    workspace: WorkspaceFolder,
    edits: Edits,
    declared: Workspace,
    options: SearchOptions,
}

impl Plan {
    /// Resolves what projects share, and plans the change to it; `None` where nothing is to be written.
    pub fn change(&mut self, context: &Context<'_>) -> Result<Option<PlannedChange>, Failure> {
        let Some(Unify { workspace, edits, declared, options }) = self.unify.take() else { return Ok(None) };
        plan_declared(workspace, edits, declared, &options, context).map(Some)
    }
}

/// Checks a workspace.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let is_read_only = !request.unifies || request.is_dry_run;
    let workspace = WorkspaceFolder::open(context.folder, is_read_only, context.listener)?;
    let mut warnings = Vec::new();
    if let LockFile::Sound { lock, .. } = &workspace.lock {
        if workspace.is_locked() {
            LockCheck::new(&workspace, context.environment, &request.options).check(lock)?;
        }
        warnings = known_warnings(&workspace, lock, context.environment);
    }
    let projects = request.projects.names(&workspace)?;
    let concerns = |drift: &Drift<'_>| {
        projects.is_empty() || drift.needs.iter().any(|(project, _)| projects.contains(project.name()))
    };
    let mut drifts = workspace.declared.drifts();
    drifts.retain(concerns);
    let mut findings: Vec<Finding> = about_lock(&workspace).into_iter().collect();
    findings.extend(about_stand_ins(&workspace));
    findings.extend(drifts.iter().map(about_drift));
    let shared = drifts.iter().filter(|_| request.unifies);
    let shared = shared.filter_map(|drift| Some((drift.package.clone(), drift.common.clone()?))).collect();
    let edits = if request.unifies { unified(&workspace, &drifts)? } else { Edits::new() };
    // Texts that can't be read are an error before anything else is reported.
    let declared = workspace.edited(&edits)?;
    let (projects, packages) = (workspace.declared.projects.len(), workspace.locked().len());
    drop(drifts);
    let report = Report { findings, warnings, shared, projects, packages };
    let is_written = !edits.is_empty() && !request.is_dry_run;
    let unify = is_written.then(|| Unify { workspace, edits, declared, options: request.options.clone() });
    Ok(Plan { report, unify })
}

/// The manifests in which projects share ranges.
fn unified(workspace: &WorkspaceFolder, drifts: &[Drift<'_>]) -> Result<Edits, Failure> {
    let mut texts = ManifestEdits::of(workspace);
    for drift in drifts {
        let Some(range) = &drift.common else { continue };
        texts.open("")?.set_shared(&drift.package, range);
        for (project, need) in &drift.needs {
            texts.open(&project.folder)?.set_need_shared(need.purpose.as_ref(), &need.package);
        }
    }
    Ok(texts.edits())
}

/// That the lock is not what the manifests lead to.
fn about_lock(workspace: &WorkspaceFolder) -> Option<Finding> {
    let (code, message) = match &workspace.lock {
        LockFile::None => ("lock.missing", "there is no lock yet".to_owned()),
        LockFile::Faulty { fault, .. } => (fault.code, fault.message.clone()),
        LockFile::Sound { .. } if !workspace.is_locked() => {
            ("lock.stale", "manifests changed since the lock was written".to_owned())
        }
        LockFile::Sound { .. } => return None,
    };
    let is_faulty = matches!(workspace.lock, LockFile::Faulty { .. });
    Some(Finding::Lock { code, message, is_faulty })
}

/// What stands in for packages.
fn about_stand_ins(workspace: &WorkspaceFolder) -> Vec<Finding> {
    let locked = workspace.locked();
    let finding = |name: &PackageName| {
        let package = locked.iter().find(|package| package.name == *name && package.stood_in);
        let by = package.map(|package| (package.source.clone(), package.version.clone()));
        Finding::StandIn { package: name.clone(), by }
    };
    workspace.declared.stand_ins.keys().map(finding).collect()
}

/// That projects declare a package with different ranges.
fn about_drift(drift: &Drift<'_>) -> Finding {
    let need = |(project, need): &(&Project, &Need)| DriftingNeed {
        project: project.name().clone(),
        folder: project.folder.clone(),
        path: project.path().to_owned(),
        purpose: need.purpose.clone(),
        range: need.range.clone(),
        is_shared: need.is_shared,
    };
    Finding::Drift {
        package: drift.package.clone(),
        common: drift.common.clone(),
        needs: drift.needs.iter().map(need).collect(),
    }
}
