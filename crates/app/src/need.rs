//! `need`: declares packages, resolves, installs.

pub mod card_scaffold;
mod declaring;
pub mod sources;
pub mod words;

use std::collections::BTreeSet;
use std::str::FromStr;

use bibliotax_core::fault::Fault;
use bibliotax_core::name::{ComponentName, PackageName, Purpose};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem};
use bibliotax_core::version::Version;
use bibliotax_core::workspace::{Project, Workspace};
use bibliotax_registry::catalogue::registries::Registries;

use crate::change::{PlannedChange, Wanted as WantedChange};
use crate::context::Context;
use crate::failure::Failure;
use crate::newest_release::{PassedOver, passed_over};
use crate::resolving::charters::open_releases;
use crate::resolving::{Resolver, check_known, needs_of, no_registry};
use crate::search_options::SearchOptions;
use crate::workspace::{ProjectWords, WorkspaceFolder, declared_target};

use self::card_scaffold::Scaffold;
use self::declaring::{Declaring, Wishes};
use self::sources::{ArchiveContents, FoundSource, SourceWords, TagsFound};
use self::words::Wanted;

pub use self::declaring::{DeclaredLine, DeclaredPackage, Inherited};

/// What is needed.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Packages, each with a range behind it if wanted.
    pub words: Vec<String>,
    /// The projects that need them.
    pub projects: ProjectWords,
    /// Whether ranges are written once, for the whole workspace.
    pub is_shared: bool,
    /// Where the packages come from that are in no registry.
    pub source: SourceWords,
    /// Whether exactly this version is taken.
    pub is_exact: bool,
    /// What they are needed for beside running.
    pub purpose: Option<String>,
    /// The registry that they are taken from.
    pub from: Option<String>,
    /// Whether pre-releases count like any other version.
    pub prereleases: bool,
    /// Packages that these need and that are left out.
    pub without: Vec<String>,
    /// The only targets that they are needed on.
    pub targets: Vec<String>,
    /// Components that are taken beside those that come by default.
    pub components: Vec<String>,
    /// Whether the components that come by default are left out.
    pub is_bare: bool,
    /// Parts that are taken as well.
    pub parts: Vec<String>,
    /// How it is resolved.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// A need, worked out and not yet declared.
pub struct Plan {
    /// What changes.
    pub change: PlannedChange,
    /// What is in an archive that a package is needed from.
    pub archive: Option<ArchiveContents>,
    /// What the tags of a repository were read as, where a package is needed from one.
    pub tags: Option<TagsFound>,
    /// The card that a package without a manifest gets.
    pub card: Option<Scaffold>,
    /// The package and its version, where that was only read off the archive's name.
    pub proposed_version: Option<(PackageName, Version)>,
    /// What the manifests are going to say of each package.
    pub declared: Vec<DeclaredPackage>,
    /// The newest releases that were not taken.
    pub passed_over: Vec<PassedOver>,
}

/// Works out what needing packages comes to.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let mut wanted = wanted_packages(request)?;
    let workspace = open_workspace(request, context)?;
    let FoundSource { source, archive, tags, card, is_version_proposed } =
        request.source.read(&wanted, &workspace, context)?;
    let mut wishes = Wishes { source, card: card.clone(), ..wishes(request)? };
    // It is the only release that its source has.
    wishes.prereleases |= card.as_ref().and_then(|card| card.version.as_ref()).is_some_and(Version::is_pre);
    let purpose: Option<Purpose> = parsed("--for", request.purpose.as_ref())?;
    // Charters are the workspace's, so that these alone need no project.
    let (projects, no_project) = match request.projects.to_change(&workspace) {
        Err(failure) if failure.code == "workspace.which-project" => (Vec::new(), Some(failure)),
        projects => (projects?, None),
    };
    check_targets(&projects, &request.targets)?;
    let mut declaring = Declaring::new(&workspace, projects, purpose.as_ref(), &wishes);
    declaring.declare_all(&wanted)?;
    // A project that a path leads to is read with the manifests that name it.
    let as_wanted = declaring.workspace()?;
    let resolver = Resolver::open(&workspace, &as_wanted, context.environment, &request.options)?;
    let problem = Problem::new(&as_wanted, &workspace.locked());
    resolver.registries.prefetch_closure(&needs_of(&problem));
    let charters = taken_on(&mut wanted, &wishes, &resolver.registries)?;
    if let Some(failure) = no_project.filter(|_| !wanted.is_empty()) {
        return Err(failure);
    }
    let with_charters = if charters.is_empty() {
        as_wanted
    } else {
        declaring = declaring.again();
        declaring.declare_all(&wanted)?;
        charters.iter().try_for_each(|(charter, range)| declaring.take_on(charter, range))?;
        declaring.workspace()?
    };
    let with_charters = resolver.bound(&with_charters)?;
    declaring.take_ranges_of_charters(&wanted, &with_charters)?;
    let before_choice = resolver.bound(&declaring.workspace()?)?;
    let problem = Problem::new(&before_choice, &workspace.locked());
    check_wanted(&wanted, &wishes, &resolver.registries)?;
    let (mut chosen, warnings) = resolver.choose(&problem, &before_choice)?;
    declaring.settle_ranges(&wanted, &chosen)?;
    // The ranges are made around what was chosen, which is therefore what they lead to.
    let declared = resolver.bound(&declaring.workspace()?)?;
    let lock = resolver.lock_of(&declared, &mut chosen)?;
    let lines = declaring.lines(&declared, &wanted, &charters)?;
    let edits = declaring.edits();
    let registries = resolver.registries;
    let wanted_change = WantedChange { edits, declared, lock, warnings };
    let change = PlannedChange::new(workspace, wanted_change, &registries);
    let passed_over = all_passed_over(&wanted, &change, &registries);
    let version = card.as_ref().and_then(|card| card.version.clone()).filter(|_| is_version_proposed);
    let package = wanted.first().map(|wanted| wanted.package.clone());
    let proposed_version = package.zip(version);
    Ok(Plan { change, archive, tags, card, proposed_version, declared: lines, passed_over })
}

/// The packages that a request names; else the one that its source names.
fn wanted_packages(request: &Request) -> Result<Vec<Wanted>, Failure> {
    let mut wanted = words::parse(&request.words, request.is_exact)?;
    if wanted.is_empty() {
        wanted.extend(request.source.package()?);
    }
    if wanted.is_empty() {
        let failure = Failure::new("need.words", "no package is named");
        return Err(failure.advice("name it: `bibliotax need PACKAGE`"));
    }
    Ok(wanted)
}

fn open_workspace(request: &Request, context: &Context<'_>) -> Result<WorkspaceFolder, Failure> {
    let workspace = WorkspaceFolder::open(context.folder, request.is_dry_run, context.listener)?;
    workspace.sound_lock()?;
    if workspace.declared.registries.is_empty() && request.source.is_empty() {
        return Err(no_registry());
    }
    Ok(workspace)
}

/// The charters among what is wanted, which is then without them, each with its range.
fn taken_on(
    wanted: &mut Vec<Wanted>,
    wishes: &Wishes,
    registries: &Registries,
) -> Result<Vec<(PackageName, Range)>, Failure> {
    if wishes.source.is_some() {
        return Ok(Vec::new());
    }
    let mut charters = Vec::new();
    for at in (0..wanted.len()).rev() {
        let Some(listing) = registries.listing(&wanted[at].package)? else { continue };
        let newest =
            open_releases(&listing).find(|release| wishes.prereleases || !release.entry.version.is_pre());
        let Some(newest) = newest.filter(|release| release.entry.charter.is_some()) else { continue };
        let version = &newest.entry.version;
        let own = if wishes.exactly { Range::exactly(version) } else { Range::from_version(version) };
        let Wanted { package, range } = wanted.remove(at);
        charters.insert(0, (package, range.unwrap_or(own)));
    }
    Ok(charters)
}

fn wishes(request: &Request) -> Result<Wishes, Failure> {
    Ok(Wishes {
        registry: parsed("--from", request.from.as_ref())?,
        without: all_parsed("--without", &request.without)?,
        components: all_parsed("--component", &request.components)?,
        parts: all_parsed("--part", &request.parts)?,
        targets: request.targets.clone(),
        prereleases: request.prereleases,
        bare: request.is_bare,
        exactly: request.is_exact,
        shared: request.is_shared,
        source: None,
        card: None,
    })
}

fn check_targets(projects: &[&Project], targets: &[String]) -> Result<(), Failure> {
    let pairs = projects.iter().flat_map(|project| targets.iter().map(move |target| (project, target)));
    pairs.into_iter().try_for_each(|(project, target)| declared_target(&project.targets, target).map(|_| ()))
}

/// Fails unless all that is wanted is known.
fn check_wanted(wanted: &[Wanted], wishes: &Wishes, registries: &Registries) -> Result<(), Failure> {
    wanted.iter().try_for_each(|wanted| {
        check_known(registries, &wanted.package)?;
        check_components(registries, &wanted.package, &wishes.components)
    })
}

/// The newest releases that were not taken of packages without a range.
fn all_passed_over(wanted: &[Wanted], change: &PlannedChange, registries: &Registries) -> Vec<PassedOver> {
    let declared: &Workspace = change.declared();
    let one = |wanted: &Wanted| {
        // The range is made around what was chosen, so it is no reason.
        let problem = Problem::new(declared, &[]).without(&wanted.package);
        passed_over(&problem, registries, change.lock().package(&wanted.package)?)
    };
    wanted.iter().filter(|wanted| wanted.range.is_none()).filter_map(one).collect()
}

fn parsed<T: FromStr<Err = Fault>>(option: &str, text: Option<&String>) -> Result<Option<T>, Failure> {
    text.map(|text| text.parse().map_err(|fault| Failure::in_words(option, text, fault))).transpose()
}

fn all_parsed<T: FromStr<Err = Fault>>(option: &str, texts: &[String]) -> Result<Vec<T>, Failure> {
    texts.iter().filter_map(|text| parsed(option, Some(text)).transpose()).collect()
}

/// Fails unless some release of a package has each of these components; with those that there are.
fn check_components(
    registries: &Registries,
    package: &PackageName,
    components: &[ComponentName],
) -> Result<(), Failure> {
    let Some(listing) = registries.listing(package)? else { return Ok(()) };
    let is_package = listing.history.providers().is_empty();
    let known: BTreeSet<&ComponentName> =
        listing.history.releases().iter().flat_map(|release| release.entry.components.keys()).collect();
    let Some(unknown) = components.iter().find(|name| is_package && !known.contains(name)) else {
        return Ok(());
    };
    let failure =
        Failure::new("need.no-component", format!("no release of {package} has a component `{unknown}`"));
    let names: Vec<&str> = known.iter().map(|name| name.as_str()).collect();
    Err(failure.suggest(unknown.as_str(), &names, "it has no components; remove `--component`"))
}
