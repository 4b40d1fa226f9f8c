//! `check`: the one look at the health of a workspace: its lock, its projects, what stands in, and what the rules say.

mod bill;
mod charters;
mod codes;
mod explained;
mod feeds;
mod finding;
mod license_texts;
mod location;
pub(crate) mod rules;

use std::collections::BTreeSet;

use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::workspace::{Drift, Project, Workspace};
use bibliotax_registry::catalogue::registries::Registries;

pub use self::bill::ComparedBill;
use self::bill::Comparison;
pub use self::codes::{FINDING_CODES, FindingCode, finding_code};
pub use self::explained::{ExplainedFinding, Explanation, LockCommit};
pub use self::finding::{DriftingNeed, Finding, Level, Place, Subject, Waived};
pub use self::location::Location;
use self::location::locate;
use crate::change::{PlannedChange, plan_declared};
use crate::compare;
use crate::context::Context;
use crate::failure::Failure;
use crate::lock_check::LockCheck;
use crate::resolving::Resolver;
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
    /// Only what the lock in this file or git revision doesn't have.
    pub since: Option<String>,
    /// Only findings of these codes or rules; none for all.
    pub only: Vec<String>,
    /// The code or advisory that is explained.
    pub explains: Option<String>,
    /// The bill of materials that the lock is compared with, and nothing else is checked.
    pub bill: Option<ComparedBill>,
    /// How it is resolved then.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// What was found.
pub struct Report {
    /// What is wrong or worth a look, the most serious first; those with the same remedy follow each other.
    pub findings: Vec<Finding>,
    /// What people should know of the registries.
    pub warnings: Vec<String>,
    /// The ranges that projects can share, where they are to.
    pub shared: Vec<(PackageName, Range)>,
    /// How many projects there are.
    pub projects: usize,
    /// How many packages are locked.
    pub packages: usize,
    /// What was to be explained.
    pub explanation: Option<Explanation>,
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

impl Report {
    /// What was found of what is asked about, in its order.
    fn of(mut findings: Vec<Finding>, request: &Request, workspace: &WorkspaceFolder) -> Self {
        let is_wanted = |finding: &Finding| {
            request.only.is_empty() || request.only.iter().any(|word| finding.is_called(word))
        };
        findings.retain(is_wanted);
        locate(&mut findings, workspace);
        // Most serious first, and what has one remedy together.
        findings.sort_by_cached_key(|finding| {
            let is_later = !matches!(finding.subject, Subject::Lock { .. });
            (finding.waived.is_some(), finding.level, is_later, finding.advice.clone())
        });
        let (projects, packages) = (workspace.declared.projects.len(), workspace.locked().len());
        Self { findings, warnings: Vec::new(), shared: Vec::new(), projects, packages, explanation: None }
    }

    /// How many findings of a level count: those that nothing excepts.
    pub fn count(&self, level: Level) -> usize {
        self.findings.iter().filter(|finding| finding.level == level && finding.waived.is_none()).count()
    }

    /// Whether the rules forbid something that is locked.
    pub fn is_forbidden(&self) -> bool {
        self.findings.iter().any(|finding| finding.is_forbidden && finding.waived.is_none())
    }
}

impl Plan {
    /// Resolves what projects share, and plans the change to it; `None` where nothing is to be written.
    pub fn change(&mut self, context: &Context<'_>) -> Result<Option<PlannedChange>, Failure> {
        let Some(Unify { workspace, edits, declared, options }) = self.unify.take() else { return Ok(None) };
        plan_declared(workspace, edits, &declared, &options, context).map(Some)
    }
}

/// Checks a workspace.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let is_read_only = !request.unifies || request.is_dry_run;
    let workspace = WorkspaceFolder::open(context.folder, is_read_only, context.listener)?;
    if let Some(compared) = &request.bill {
        let report = of_bill(compared, request, &workspace)?;
        return Ok(Plan { report, unify: None });
    }
    let resolver = match &workspace.lock {
        LockFile::Sound { lock, .. } => Some(resolver(&workspace, lock, &request.options, context)?),
        _ => None,
    };
    let report = report(request, &workspace, resolver.as_ref(), context)?;
    drop(resolver);
    let drifts = if request.unifies { drifts(request, &workspace)? } else { Vec::new() };
    let edits = unified(&workspace, &drifts)?;
    // Texts that can't be read are an error before anything else is reported.
    let declared = workspace.edited(&edits)?;
    drop(drifts);
    let is_written = !edits.is_empty() && !request.is_dry_run;
    let unify = is_written.then(|| Unify { workspace, edits, declared, options: request.options.clone() });
    Ok(Plan { report, unify })
}

/// The registries of a workspace with a sound lock, which is held against manifests and cards first.
pub(crate) fn resolver<'w>(
    workspace: &'w WorkspaceFolder,
    lock: &Lock,
    options: &'w SearchOptions,
    context: &Context<'_>,
) -> Result<Resolver<'w>, Failure> {
    if workspace.is_locked() {
        LockCheck::new(workspace, context.environment, options).check(lock)?;
    }
    Resolver::open(workspace, &workspace.declared, context.environment, options)
}

/// What was found in a workspace; a sound lock needs a resolver.
pub(crate) fn report(
    request: &Request,
    workspace: &WorkspaceFolder,
    resolver: Option<&Resolver<'_>>,
    context: &Context<'_>,
) -> Result<Report, Failure> {
    let (projects, drifts) = (request.projects.names(workspace)?, drifts(request, workspace)?);
    let mut findings: Vec<Finding> = Finding::of_lock(workspace).into_iter().collect();
    findings.extend(Finding::of_stand_ins(workspace));
    findings.extend(drifts.iter().map(|drift| of_drift(drift, request.unifies)));
    let (mut warnings, mut explanation) = (Vec::new(), None);
    if let (LockFile::Sound { lock, .. }, Some(resolver)) = (&workspace.lock, resolver) {
        let about = about_lock(lock, request, &findings, resolver, context)?;
        let reached = reached(lock, &projects);
        let concerns = |finding: &Finding| {
            let package = finding.package.as_ref().filter(|_| !projects.is_empty());
            package.is_none_or(|package| reached.contains(package))
        };
        findings.extend(about.findings.into_iter().filter(concerns));
        (warnings, explanation) = (about.warnings, about.explanation);
    }
    let shared = drifts.iter().filter(|_| request.unifies);
    let shared = shared.filter_map(|drift| Some((drift.package.clone(), drift.common.clone()?))).collect();
    Ok(Report { warnings, shared, explanation, ..Report::of(findings, request, workspace) })
}

/// What of a lock and a bill of materials differs.
fn of_bill(
    compared: &ComparedBill,
    request: &Request,
    workspace: &WorkspaceFolder,
) -> Result<Report, Failure> {
    let mut findings: Vec<Finding> = Finding::of_lock(workspace).into_iter().collect();
    let Comparison { findings: differences, projects, packages } =
        bill::compare(compared, &request.projects, workspace)?;
    findings.extend(differences);
    Ok(Report { projects, packages, ..Report::of(findings, request, workspace) })
}

/// The packages that the projects in question declare with different ranges.
fn drifts<'w>(request: &Request, workspace: &'w WorkspaceFolder) -> Result<Vec<Drift<'w>>, Failure> {
    let projects = request.projects.names(workspace)?;
    let concerns = |drift: &Drift<'_>| {
        projects.is_empty() || drift.needs.iter().any(|(project, _)| projects.contains(project.name()))
    };
    Ok(workspace.declared.drifts().into_iter().filter(concerns).collect())
}

/// What is to be said of a sound lock.
struct AboutLock {
    findings: Vec<Finding>,
    /// What people should know of its registries.
    warnings: Vec<String>,
    explanation: Option<Explanation>,
}

/// What is to be said of a sound lock; `others` was found already.
fn about_lock(
    lock: &Lock,
    request: &Request,
    others: &[Finding],
    resolver: &Resolver<'_>,
    context: &Context<'_>,
) -> Result<AboutLock, Failure> {
    let Resolver { workspace, registries, .. } = resolver;
    let mut findings = rules::findings(workspace, lock, registries, context)?;
    if let Some(word) = &request.since {
        let before = compare::lock_named(word, context)?;
        let known = rules::findings(workspace, &before, registries, context)?;
        let known: BTreeSet<String> = known.iter().map(Finding::fingerprint).collect();
        findings.retain(|finding| !known.contains(&finding.fingerprint()));
    }
    findings.extend(charters::findings(&workspace.declared, lock));
    findings.extend(feeds::findings(workspace, registries, context));
    findings.extend(shared_names(workspace, lock, registries)?);
    findings.extend(license_texts::findings(lock, context)?);
    findings.extend(stale_shelf(workspace)?);
    // What feeds say of themselves are findings here.
    let warnings = registries.warnings_of_registries();
    let explain = |word: &String| {
        let all: Vec<Finding> = findings.iter().chain(others).cloned().collect();
        explained::explain(word, &all, workspace, lock, registries)
    };
    let explanation = request.explains.as_ref().map(explain).transpose()?;
    Ok(AboutLock { findings, warnings, explanation })
}

/// The packages that projects reach.
fn reached(lock: &Lock, projects: &[PackageName]) -> BTreeSet<PackageName> {
    lock.packages_of(projects).into_iter().map(|package| package.name.clone()).collect()
}

/// The manifests in which projects share ranges.
fn unified(workspace: &WorkspaceFolder, drifts: &[Drift<'_>]) -> Result<Edits, Failure> {
    let mut texts = ManifestEdits::of(workspace);
    for drift in drifts {
        let Some(range) = &drift.common else { continue };
        let needs = drift.needs.iter();
        let needs = needs.map(|(project, need)| (project.folder.as_str(), need.purpose.as_ref()));
        texts.share(&drift.package, range, needs)?;
    }
    Ok(texts.edits())
}

/// That packages are in several registries, and only the lock says which one is meant.
fn shared_names(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    registries: &Registries,
) -> Result<Vec<Finding>, Failure> {
    if workspace.declared.registries.len() < 2 {
        return Ok(Vec::new());
    }
    let finding = |package: &LockedPackage| {
        let others = registries.also_in(&package.name, &package.source)?;
        Ok((!others.is_empty()).then(|| Finding::of_shared_name(package, &others)))
    };
    lock.packages.iter().filter_map(|package| finding(package).transpose()).collect()
}

/// That the shelf, if there is one, isn't what manifests and lock say.
fn stale_shelf(workspace: &WorkspaceFolder) -> Result<Option<Finding>, Failure> {
    let LockFile::Sound { lock, .. } = &workspace.lock else { return Ok(None) };
    let shelf = workspace.shelf();
    let brought_to = if shelf.is_there() { shelf.state()?.lock } else { None };
    let is_stale = brought_to.is_some_and(|digest| digest != lock.digest());
    Ok(is_stale.then(Finding::of_stale_shelf))
}

/// That projects declare a package with different ranges.
fn of_drift(drift: &Drift<'_>, unifies: bool) -> Finding {
    let need = |(project, need): &(&Project, &Need)| DriftingNeed {
        project: project.name().clone(),
        folder: project.folder.clone(),
        path: project.path().to_owned(),
        purpose: need.purpose.clone(),
        range: need.range.clone(),
        is_shared: need.is_shared,
        span: need.span.clone(),
    };
    let needs: Vec<DriftingNeed> = drift.needs.iter().map(need).collect();
    Finding::of_drift(&drift.package, drift.common.clone(), needs, unifies)
}
