//! What is wrong with the manifests of a workspace, as far as registries, feeds and the lock know: for editors.
//!
//! Texts that are open take the place of those on disk. What a manifest's own reader finds in a text is not repeated here.

mod advice;
mod fits;

use std::cell::OnceCell;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::fix::Fix;
use bibliotax_core::lock::FILE_NAME as LOCK;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::nearest;
use bibliotax_core::resolve::{
    Catalogue, Conflict, Listing, Problem, Unresolved, resolve, ways_out as relaxed,
};
use bibliotax_core::workspace::Project;
use bibliotax_present::words::first_few;
use bibliotax_registry::catalogue::connections::Connections;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;

use crate::check::{self, Finding, Level, Place};
use crate::context::Context;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::resolving::ways_out::as_edits::{EditedWay, as_edits};
use crate::resolving::{Resolver, needs_of};
use crate::search_options::SearchOptions;
use crate::workspace::{LockFile, Manifests, OpenTexts, WorkspaceFolder, file_name};

/// Most names that are offered for an unknown one, and most versions that are named.
const MAX_OFFERED: usize = 3;

/// A workspace with what is wrong with it.
pub struct Diagnosis {
    /// The workspace, with the texts that are open.
    pub workspace: WorkspaceFolder,
    /// Its registries; `None` where they can't be opened.
    pub registries: Option<OpenRegistries>,
    /// What is wrong.
    pub problems: Vec<Diagnostic>,
}

/// The registries of a workspace, opened twice.
#[derive(Clone)]
pub struct OpenRegistries {
    /// Those that are asked over a network, if the environment allows that.
    pub asked: Arc<Registries>,
    /// The same without a network: they know what is in the store, and never make anybody wait.
    pub cached: Arc<Registries>,
}

/// Something that is wrong, with its place.
#[derive(Debug, Clone)]
pub struct Diagnostic {
    /// The file.
    pub file: PathBuf,
    /// Where in it, in bytes; for the lock, the line.
    pub place: DiagnosticPlace,
    /// The stable code.
    pub code: &'static str,
    /// How serious it is.
    pub level: Level,
    /// What is wrong.
    pub message: String,
    /// What to do about it.
    pub advice: Option<String>,
    /// Texts that would be right.
    pub fixes: Vec<Fix>,
    /// Sentences that explain it, each with the needs that it speaks of: the file and the bytes.
    pub related: Vec<(PathBuf, std::ops::Range<usize>, String)>,
    /// Ways out, with what manifests would say.
    pub ways: Vec<EditedWay>,
    /// Whether it is a licence that nobody accepted yet.
    pub is_unaccepted_license: bool,
    /// The package that it is about.
    pub package: Option<PackageName>,
}

/// Where something is in a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DiagnosticPlace {
    /// Bytes of the text.
    Bytes(std::ops::Range<usize>),
    /// A line, from 1.
    Line(usize),
}

/// Finds out what is wrong in the workspace that a folder is in.
pub fn diagnose(
    folder: &Path,
    open: OpenTexts,
    before: Option<&Manifests>,
    context: &Context<'_>,
) -> Result<Diagnosis, Failure> {
    let workspace = WorkspaceFolder::read(Manifests::find_open(folder, open, before)?)?;
    let options = SearchOptions::default();
    let opened = match &workspace.lock {
        LockFile::Sound { lock, .. } => check::resolver(&workspace, lock, &options, context),
        _ => Resolver::open(&workspace, &workspace.declared, context.environment, &options),
    };
    let (mut problems, mut registries) = (Vec::new(), None);
    match opened {
        Ok(resolver) => {
            problems.extend(of_needs(&workspace, &resolver.registries)?);
            if problems.is_empty() {
                problems.extend(of_conflict(&workspace, &resolver)?);
            }
            problems.extend(of_check(&workspace, &resolver, context)?);
            problems.extend(fits::of_fits(&workspace, &resolver.registries)?);
            registries = open_without_network(&workspace, context.environment)
                .map(|cached| OpenRegistries { asked: Arc::new(resolver.registries), cached });
        }
        Err(failure) => problems.push(of_failure(&failure, &workspace)),
    }
    Ok(Diagnosis { workspace, registries, problems })
}

/// The registries of a workspace as the store knows them; connections that are open already would ask over a network.
fn open_without_network(workspace: &WorkspaceFolder, environment: &Environment) -> Option<Arc<Registries>> {
    let network = environment.offline_if(true).network();
    let (locked, connections) = (workspace.locked(), Connections::default());
    let (declared, root) = (&workspace.declared, &workspace.root);
    let opened = Registries::open(declared, root, &locked, Freshness::Locked, &network, &connections);
    opened.ok().map(Arc::new)
}

impl Diagnostic {
    fn new(file: PathBuf, place: DiagnosticPlace, code: &'static str, level: Level, message: String) -> Self {
        Self {
            file,
            place,
            code,
            level,
            message,
            advice: None,
            fixes: Vec::new(),
            related: Vec::new(),
            ways: Vec::new(),
            is_unaccepted_license: false,
            package: None,
        }
    }

    fn of_need(
        (project, need): (&Project, &Need),
        workspace: &WorkspaceFolder,
        code: &'static str,
        message: String,
    ) -> Self {
        let place = DiagnosticPlace::Bytes(need.span.clone());
        let file = workspace.manifest_path(&project.folder);
        Self { package: Some(need.package.clone()), ..Self::new(file, place, code, Level::Error, message) }
    }
}

/// What a failure says that is about no package: at its place in a text, or at the beginning of the manifest.
fn of_failure(failure: &Failure, workspace: &WorkspaceFolder) -> Diagnostic {
    let source = failure.source.as_ref();
    let file = source.map_or_else(|| file_name(&workspace.manifests.here), |source| source.name.clone());
    let span = source.and_then(|source| source.faults.first()).map_or(0..0, |fault| fault.span.clone());
    let (file, place) = (workspace.root.join(file), DiagnosticPlace::Bytes(span));
    let found = Diagnostic::new(file, place, failure.code, Level::Error, failure.message.clone());
    Diagnostic { advice: failure.advice.clone(), ..found }
}

/// Needs of packages that no registry has, and ranges that no release is in.
fn of_needs(workspace: &WorkspaceFolder, registries: &Registries) -> Result<Vec<Diagnostic>, Failure> {
    let needs: Vec<(&Project, &Need)> =
        workspace.declared.needs().filter(|(_, need)| need.source.is_none()).collect();
    let names: Vec<PackageName> = needs.iter().map(|(_, need)| need.package.clone()).collect();
    registries.prefetch(&names);
    let mut found = Vec::new();
    // Read once, and only where a name isn't known.
    let known = OnceCell::new();
    for of in needs {
        let package = &of.1.package;
        match registries.listing(package) {
            Ok(None) => found.push(unknown(of, workspace, known.get_or_init(|| registries.names()))),
            Ok(Some(listing)) => found.extend(out_of_range(of, workspace, &listing)),
            Err(error) => {
                let failure = Failure::from(error);
                let problem = Diagnostic::of_need(of, workspace, failure.code, failure.message);
                found.push(Diagnostic { advice: failure.advice, ..problem });
            }
        }
    }
    Ok(found)
}

fn unknown(of: (&Project, &Need), workspace: &WorkspaceFolder, names: &[PackageName]) -> Diagnostic {
    let package = &of.1.package;
    let near = nearest(package.as_str(), names.iter().map(PackageName::as_str), MAX_OFFERED);
    let fix = |name: &&str| Fix::Write { span: of.1.span.clone(), text: (*name).to_owned() };
    let message = format!("no registry has a package {package}");
    let problem = Diagnostic::of_need(of, workspace, "package.unknown", message);
    let advice = (!near.is_empty()).then(|| bibliotax_core::nearest::either(&near));
    Diagnostic { fixes: near.iter().map(fix).collect(), advice, ..problem }
}

/// That no release is in a need's range; not of what has no range of its own.
fn out_of_range(of: (&Project, &Need), workspace: &WorkspaceFolder, listing: &Listing) -> Option<Diagnostic> {
    let need = of.1;
    let releases = listing.history.releases();
    let has_providers = !listing.history.providers().is_empty();
    if need.is_chartered || has_providers {
        return None;
    }
    let range = need.range.set(need.prereleases);
    if releases.iter().any(|release| range.contains(release.entry.version.point())) {
        return None;
    }
    let versions: Vec<String> = releases
        .iter()
        .rev()
        .filter(|one| one.withdrawn.is_none())
        .map(|one| one.entry.version.to_string())
        .collect();
    let available = if versions.is_empty() { "none".to_owned() } else { first_few(&versions, MAX_OFFERED) };
    let message = format!("no release of {} matches {} (available: {available})", need.package, need.range);
    Some(Diagnostic::of_need(of, workspace, "range.no-release", message))
}

/// Why no versions satisfy all needs, at each need that is involved.
fn of_conflict(workspace: &WorkspaceFolder, resolver: &Resolver<'_>) -> Result<Vec<Diagnostic>, Failure> {
    if workspace.is_locked() || resolver.registries.is_empty() {
        return Ok(Vec::new());
    }
    let (declared, registries) = (&workspace.declared, &resolver.registries);
    let problem = Problem::new(declared, &workspace.locked());
    registries.prefetch_closure(&needs_of(&problem));
    let conflict = match resolve(&problem, registries) {
        Err(Unresolved::Conflict(conflict)) => conflict,
        // A resolve reports its other failures.
        _ => return Ok(Vec::new()),
    };
    let ways = relaxed(&problem, &conflict, registries)?;
    let ways = as_edits(&ways, workspace, declared)?;
    let involved: Vec<(&Project, &Need)> =
        declared.needs().filter(|of| is_involved(*of, &conflict, &problem)).collect();
    let places = |of: &(&Project, &Need)| (workspace.manifest_path(&of.0.folder), of.1.span.clone());
    let found = involved.iter().map(|of| {
        let message = "no versions satisfy all requirements".to_owned();
        let found = Diagnostic::of_need(*of, workspace, "resolve.conflict", message);
        let related = conflict.facts.iter().chain([&conflict.clash]).map(|sentence| {
            // A sentence is shown where the need is that it speaks of, else at this one.
            let other = involved.iter().find(|(_, need)| sentence.about.first() == Some(&need.package));
            let (file, span) = places(other.unwrap_or(of));
            (file, span, sentence.text.clone())
        });
        Diagnostic { related: related.collect(), ways: ways.clone(), ..found }
    });
    Ok(found.collect())
}

/// Whether a need is one of those that contradict each other.
fn is_involved((project, need): (&Project, &Need), conflict: &Conflict, problem: &Problem) -> bool {
    conflict.direct.iter().any(|number| {
        let other = &problem.needs[*number];
        let by = &problem.projects[other.by].name;
        other.package == need.package && (by == project.name() || need.family.is_some())
    })
}

/// What `check` finds, at the needs of the packages that it is about, where manifests need them themselves.
fn of_check(
    workspace: &WorkspaceFolder,
    resolver: &Resolver<'_>,
    context: &Context<'_>,
) -> Result<Vec<Diagnostic>, Failure> {
    let report = check::report(&check::Request::default(), workspace, Some(resolver), context)?;
    // A lock that is behind, or a shelf, is brought up to date by an install, and nothing that is wrong in a manifest.
    let counts = |finding: &&Finding| {
        finding.waived.is_none() && !matches!(finding.code, "lock.missing" | "lock.stale" | "shelf.stale")
    };
    let mut found = Vec::new();
    for finding in report.findings.iter().filter(counts) {
        let ways = advice::as_edits(finding, workspace, context.environment.now)?;
        let with_ways = |found| Diagnostic { ways: ways.clone(), ..found };
        found.extend(of_finding(finding, workspace).into_iter().map(with_ways));
    }
    Ok(found)
}

fn of_finding(finding: &Finding, workspace: &WorkspaceFolder) -> Vec<Diagnostic> {
    let (code, level) = (finding.code, finding.level);
    let complete = |found: Diagnostic| Diagnostic {
        advice: Some(finding.advice.clone()),
        is_unaccepted_license: finding.is_unaccepted_license,
        package: finding.package.clone(),
        ..found
    };
    let at =
        |file: PathBuf, place| complete(Diagnostic::new(file, place, code, level, finding.message.clone()));
    match (&finding.place, &finding.package) {
        (Place::Manifest(folder, span), _) => {
            let place = DiagnosticPlace::Bytes(span.clone().unwrap_or(0..0));
            vec![at(workspace.manifest_path(folder), place)]
        }
        (Place::Lock(_), Some(package)) => {
            let needs = workspace.declared.needs().filter(|(_, need)| need.package == *package);
            let found = needs.map(|(project, need)| {
                at(workspace.manifest_path(&project.folder), DiagnosticPlace::Bytes(need.span.clone()))
            });
            let found: Vec<Diagnostic> = found.collect();
            if found.is_empty() { vec![in_lock(finding, workspace, at)] } else { found }
        }
        (Place::Lock(_), None) => vec![in_lock(finding, workspace, at)],
    }
}

fn in_lock(
    finding: &Finding,
    workspace: &WorkspaceFolder,
    at: impl Fn(PathBuf, DiagnosticPlace) -> Diagnostic,
) -> Diagnostic {
    let line = finding.location.at.map_or(1, |(line, _)| line);
    at(workspace.root.join(LOCK), DiagnosticPlace::Line(line))
}
