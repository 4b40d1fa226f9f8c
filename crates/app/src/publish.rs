//! `publish`: from a project's folder to a registry.

mod followers;

use bibliotax_core::card::CardNeed;
use bibliotax_core::history::History;
use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::{Project, Workspace};
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::model::release::Published;
use bibliotax_registry::publish::pack::{Acceptable, SuspectFile, prepare};

use self::followers::TriedCharter;
pub use self::followers::{Follower, Follows, Outcome, Resolved as ResolvedFollower};
use crate::context::Context;
use crate::failure::Failure;
use crate::registry_words::registry_meant;
use crate::resolving::Resolver;
use crate::search_options::SearchOptions;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// What is published, and where.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The registry; not needed where the manifest declares only one.
    pub registry: Option<String>,
    /// The project.
    pub projects: ProjectWords,
    /// Whether something may stand in for a package in the workspace.
    pub allow_stand_ins: bool,
    /// The folders of workspaces in which a charter is tried.
    pub used_by: Vec<String>,
}

/// A release, not yet published.
pub struct Plan {
    /// The release.
    pub release: Acceptable,
    /// Files that look as if they held secrets.
    pub suspects: Vec<SuspectFile>,
    /// What people should know of the registries.
    pub warnings: Vec<String>,
    /// What a charter would do in the workspaces that were named.
    pub followers: Vec<Follower>,
    registry: Registry,
}

impl Plan {
    /// The registry's name.
    pub fn registry(&self) -> &str {
        self.registry.name()
    }

    /// Publishes the release.
    pub fn apply(self, context: &Context<'_>) -> Result<Published, Failure> {
        Ok(self.release.publish_to(&self.registry, context.listener)?)
    }
}

/// Works out what would be published.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let workspace = WorkspaceFolder::find(context.folder)?;
    let project = request.projects.one(&workspace)?;
    if !request.allow_stand_ins {
        refuse_stand_ins(&workspace.declared)?;
    }
    let registry = registry_meant(request.registry.as_deref(), Some(&workspace), context)?;
    let needs = published_needs(&workspace.declared, project, workspace.sound_lock()?, &registry)?;
    let folder = workspace.root.join(&project.folder);
    let now = context.environment.now;
    let release = prepare(&project.manifest, &project.declaration, needs, &folder, now)?;
    let release = release.acceptable_to(&registry)?;
    let warnings = check_promise(&workspace, project, context)?;
    let suspects = release.suspects()?;
    let followers = followers(&release, registry.name(), &request.used_by, context)?;
    Ok(Plan { release, suspects, warnings, followers, registry })
}

/// What a charter would do in workspaces.
fn followers(
    release: &Acceptable,
    registry: &str,
    folders: &[String],
    context: &Context<'_>,
) -> Result<Vec<Follower>, Failure> {
    if folders.is_empty() {
        return Ok(Vec::new());
    }
    let tried = TriedCharter::of(&release.card, registry).ok_or_else(|| {
        let message = format!("{} isn't a charter, so no workspace takes it on", release.card.name);
        Failure::new("charter.none", message).advice("leave `--used-by` out")
    })?;
    Ok(tried.in_workspaces(folders, context))
}

/// What was only tried with a stand-in may not work with the package itself.
fn refuse_stand_ins(workspace: &Workspace) -> Result<(), Failure> {
    let names: Vec<&str> = workspace.stand_ins.keys().map(PackageName::as_str).collect();
    if names.is_empty() {
        return Ok(());
    }
    let message = format!("there are stand-ins for {}", names.join(", "));
    Err(Failure::new("publish.stood-in", message)
        .advice("remove the stand-in, install and test, then publish; or use `--allow-stand-ins`"))
}

/// A promise is kept only if some set of releases that the needs allow keeps it, too.
///
/// Returns what people should know of the registries.
fn check_promise(
    workspace: &WorkspaceFolder,
    project: &Project,
    context: &Context<'_>,
) -> Result<Vec<String>, Failure> {
    let (declared, options) = (&workspace.declared, SearchOptions::default());
    let resolver = Resolver::open(workspace, declared, context.environment, &options)?;
    if project.manifest.fits.is_empty() || resolver.registries.is_empty() {
        return Ok(Vec::new());
    }
    resolver.resolve(&resolver.bound(declared)?)?;
    Ok(resolver.registries.warnings())
}

/// What a project needs as others will see it: what it takes from folders, repositories and archives, by the ranges in which that
/// is published.
fn published_needs(
    workspace: &Workspace,
    project: &Project,
    lock: Option<&Lock>,
    registry: &Registry,
) -> Result<Vec<CardNeed>, Failure> {
    let published = |need: &Need| {
        let mut card_need = CardNeed::from(need);
        if let Some(project) = workspace.project_of(project, need) {
            card_need.range = published_range(&project.version(), need, registry)?;
        } else if need.source.is_some() {
            let version = lock.and_then(|lock| Some(&lock.package(&need.package)?.version));
            card_need.range = match version {
                Some(version) => published_range(version, need, registry)?,
                None => return Err(not_locked_yet(need)),
            };
        }
        Ok(card_need)
    };
    project.manifest.needs.iter().map(published).collect()
}

/// The range in which what comes from elsewhere is needed by who gets it from a registry: as the need says, else from its version
/// on.
fn published_range(version: &Version, need: &Need, registry: &Registry) -> Result<Range, Failure> {
    let name = &need.package;
    let is_said = need.range != Range::any();
    let range = if is_said { need.range.clone() } else { Range::from_version(version) };
    let history = registry.history(name)?;
    let releases = history.iter().flat_map(History::releases);
    let set = range.set(need.prereleases);
    if releases
        .filter(|release| release.withdrawn.is_none())
        .any(|release| set.contains(release.entry.version.point()))
    {
        return Ok(range);
    }
    let message = format!("{} has no release of {name} in {range}", registry.name());
    Err(Failure::new("publish.unpublished", message)
        .advice(format!("publish {name} first: others get it from a registry")))
}

fn not_locked_yet(need: &Need) -> Failure {
    let message = format!("the lock doesn't have {}, so its range for the card isn't known", need.package);
    Failure::new("lock.missing", message).advice("run `bibliotax install`")
}
