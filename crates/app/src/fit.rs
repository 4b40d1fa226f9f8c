//! `fit`: which packages work where.

pub mod levels;

use std::collections::BTreeSet;
use std::sync::Arc;

use bibliotax_core::facet::{Facet, Facets, Fit, FitValue, Target};
use bibliotax_core::fitting;
use bibliotax_core::history::Release;
use bibliotax_core::lock::NeedGraph;
use bibliotax_core::name::{ComponentName, FacetName, PackageName};
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::source::Source;
use bibliotax_core::workspace::Project;
use bibliotax_present::words::place_name;
use bibliotax_registry::catalogue::registries::Registries;

use crate::context::Context;
use crate::failure::Failure;
use crate::resolving::{Resolver, check_known, prefetch_locked};
use crate::search_options::SearchOptions;
use crate::workspace::{ProjectWords, WorkspaceFolder};

use self::levels::{Ladder, Ladders};

/// What is checked against what.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Packages instead of the locked ones.
    pub packages: Vec<String>,
    /// Levels to try for every target: `FACET=VALUE`.
    pub levels: Vec<String>,
    /// Levels to try for one target: `TARGET:FACET=VALUE`.
    pub of_targets: Vec<String>,
    /// Only these targets; none for all.
    pub targets: Vec<String>,
    /// Only what these projects need.
    pub projects: ProjectWords,
    /// Folders of projects that use this one.
    pub used_by: Vec<String>,
}

/// How packages fit.
pub struct Report {
    /// The packages.
    pub rows: Vec<Row>,
    /// What the places are called.
    pub places: Vec<String>,
    /// What facets there are.
    pub facets: Arc<Facets>,
    /// What a library could promise, level by level.
    pub ladders: Vec<Ladder>,
    /// What people should know of the registries and of who uses the project.
    pub warnings: Vec<String>,
}

/// How a release fits each place.
pub struct Row {
    /// The package.
    pub name: PackageName,
    /// The release.
    pub release: Release,
    /// Where it comes from.
    pub source: Source,
    /// The components that are taken of it.
    components: BTreeSet<ComponentName>,
    /// Of a locked package: the places that it is not needed at.
    not_needed_at: Vec<Target>,
    /// Of a package that was named: the newest release that fits everywhere.
    pub fitting: Option<Option<Release>>,
    /// How it fits each place; `None` where it isn't needed.
    pub fits: Vec<Option<Fit>>,
}

impl Row {
    /// Whether it doesn't fit some place.
    pub fn is_misfit(&self) -> bool {
        self.fits.iter().flatten().any(|fit| matches!(fit, Fit::No(_)))
    }

    fn fit(&self, place: &Target, facets: &Facets) -> Option<Fit> {
        let is_there = |other: &Target| other.name == place.name && other.is_promise == place.is_promise;
        let is_needed = !self.not_needed_at.iter().any(is_there);
        is_needed.then(|| facets.fit_release(&self.release.entry, &self.components, place))
    }
}

impl Report {
    /// How many packages don't fit everywhere.
    pub fn misfits(&self) -> usize {
        self.rows.iter().filter(|row| row.is_misfit()).count()
    }
}

/// Holds packages against targets and promises.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let workspace = WorkspaceFolder::find(context.folder)?;
    let projects = request.projects.chosen(&workspace)?;
    workspace.targets_named(&request.targets)?;
    let options = SearchOptions::default();
    let resolver = Resolver::open(&workspace, &workspace.declared, context.environment, &options)?;
    let registries = &resolver.registries;
    let facets = registries.facets();
    let places = places_to_try(request, &projects, &facets)?;
    let mut rows = match request.packages.as_slice() {
        [] => locked(&workspace, &projects, registries)?,
        names => {
            let row = |word: &String| named(word, registries, &places, &facets);
            names.iter().map(row).collect::<Result<Vec<_>, _>>()?
        }
    };
    fill_in(&mut rows, &places, &facets);
    let (users, mut warnings) = users(request, &workspace, &projects, context)?;
    let ladders = Ladders { rows: &rows, places: &places, users: &users, facets: &facets, registries };
    // A level is raised by one project, and not by several at once.
    let ladders = if projects.len() == 1 { ladders.all() } else { Vec::new() };
    let names = places.iter().map(|place| place_name(place, workspace.is_alone())).collect();
    warnings.extend(registries.warnings());
    Ok(Report { rows, places: names, facets, ladders, warnings })
}

/// How the locked packages of projects fit all targets and promises, of which there may be none.
pub(crate) fn of_lock(
    workspace: &WorkspaceFolder,
    projects: &ProjectWords,
    registries: &Registries,
) -> Result<Report, Failure> {
    let projects = projects.chosen(workspace)?;
    let (facets, places) = (registries.facets(), places_of(&projects));
    let mut rows = locked(workspace, &projects, registries)?;
    fill_in(&mut rows, &places, &facets);
    let places = places.iter().map(|place| place_name(place, workspace.is_alone())).collect();
    Ok(Report { rows, places, facets, ladders: Vec::new(), warnings: Vec::new() })
}

/// Works out how rows fit places.
fn fill_in(rows: &mut [Row], places: &[Target], facets: &Facets) {
    for row in rows {
        row.fits = places.iter().map(|place| row.fit(place, facets)).collect();
    }
}

/// What releases have to fit, with the levels that are tried.
fn places_to_try(request: &Request, projects: &[&Project], facets: &Facets) -> Result<Vec<Target>, Failure> {
    let mut places = places_of(projects);
    let is_meant = |place: &Target| request.targets.is_empty() || request.targets.contains(&place.name);
    places.retain(is_meant);
    for word in &request.levels {
        let (facet, text) = pair(word, "orchard-runtime=4")?;
        let value = value(facets, &facet, &text)?;
        for place in &mut places {
            place.values.insert(facet.clone(), value.clone());
        }
    }
    for word in &request.of_targets {
        try_target(word, &mut places, facets)?;
    }
    if places.is_empty() { Err(no_places()) } else { Ok(places) }
}

/// The targets of the projects that use this one, with warnings about those that don't.
fn users(
    request: &Request,
    workspace: &WorkspaceFolder,
    projects: &[&Project],
    context: &Context<'_>,
) -> Result<(Vec<Target>, Vec<String>), Failure> {
    let [library] = projects else { return Ok((Vec::new(), Vec::new())) };
    let library = library.name();
    let needs_it = |user: &Project| user.manifest.needs.iter().any(|need| need.package == *library);
    let in_workspace = workspace.declared.projects.iter().filter(|project| needs_it(project));
    let mut targets: Vec<Target> = in_workspace.flat_map(|user| user.targets.clone()).collect();
    let mut warnings = Vec::new();
    for folder in &request.used_by {
        let user = WorkspaceFolder::find(&context.folder.join(folder))?;
        let user = user.project()?;
        if !needs_it(user) {
            warnings.push(format!("{} doesn't need {library}", user.name()));
        }
        targets.extend(user.targets.clone());
    }
    let mut names = BTreeSet::new();
    targets.retain(|target| names.insert(target.name.clone()));
    Ok((targets, warnings))
}

fn try_target(word: &str, places: &mut Vec<Target>, facets: &Facets) -> Result<(), Failure> {
    let example = "hand-unit:orchard-runtime=4";
    let (target, rest) = word.split_once(':').ok_or_else(|| wrong_words(word, example))?;
    let (facet, text) = pair(rest, example)?;
    let value = value(facets, &facet, &text)?;
    match places.iter_mut().find(|place| place.name == target) {
        Some(place) => {
            place.values.insert(facet, value);
        }
        None => {
            let values = [(facet, value)].into_iter().collect();
            places.push(Target { name: target.to_owned(), values, is_promise: false });
        }
    }
    Ok(())
}

fn pair(word: &str, example: &str) -> Result<(FacetName, String), Failure> {
    let (facet, value) = word.split_once('=').ok_or_else(|| wrong_words(word, example))?;
    Ok((Failure::read_word(facet)?, value.to_owned()))
}

fn value(facets: &Facets, facet: &FacetName, text: &str) -> Result<FitValue, Failure> {
    let value = match (facets.get(facet), text) {
        (Some(Facet::Claim), "true" | "yes") => FitValue::Claim(true),
        (Some(Facet::Claim), "false" | "no") => FitValue::Claim(false),
        _ => FitValue::One(text.to_owned()),
    };
    let checked = facets.check(&[(facet.clone(), value.clone())].into_iter().collect());
    let known: Vec<&str> = facets.names().map(FacetName::as_str).collect();
    let advice = format!("facets are {}", known.join(", "));
    checked.map(|()| value).map_err(|problem| Failure::new("facet.value", problem.to_string()).advice(advice))
}

fn wrong_words(word: &str, example: &str) -> Failure {
    Failure::new("fit.words", format!("`{word}` isn't a level or value to try"))
        .advice(format!("write it like `{example}`"))
}

fn no_places() -> Failure {
    Failure::new("fit.words", "the manifest declares neither a target nor a promise")
        .advice("declare a target (`[targets.NAME]`), make a promise (`[fits]`), or try one: `--try NAME:FACET=VALUE`")
}

/// What releases have to fit for these projects: their targets and promises, each once.
fn places_of(projects: &[&Project]) -> Vec<Target> {
    let targets = projects.iter().flat_map(|project| project.targets.iter().cloned());
    let promises = projects.iter().filter_map(|project| project.manifest.promise());
    let mut places: Vec<Target> = Vec::new();
    for place in targets.chain(promises) {
        if !places.contains(&place) {
            places.push(place);
        }
    }
    places
}

/// The locked packages that these projects need.
fn locked(
    workspace: &WorkspaceFolder,
    projects: &[&Project],
    registries: &Registries,
) -> Result<Vec<Row>, Failure> {
    let (lock, declared) = (workspace.needed_lock()?, &workspace.declared);
    let names: Vec<PackageName> = projects.iter().map(|project| project.name().clone()).collect();
    let packages = lock.packages_of(&names);
    prefetch_locked(registries, packages.iter().copied());
    let promises = NeedGraph::of(lock).promises(declared);
    let mut rows = Vec::new();
    for package in packages {
        let listing = registries.listing(&package.name)?;
        let release = listing.and_then(|listing| listing.history.release(&package.version).cloned());
        let others = declared.targets.iter().filter(|target| !package.is_on(&target.name));
        let unkept = promises.iter().filter(|(_, kept_by)| !kept_by.contains(&package.name));
        let not_needed_at = others.chain(unkept.map(|(promise, _)| promise)).cloned().collect();
        let (name, components) = (package.name.clone(), package.components.iter().cloned().collect());
        let source = package.source.clone();
        let row = |release| Row {
            name,
            release,
            source,
            components,
            not_needed_at,
            fitting: None,
            fits: Vec::new(),
        };
        rows.extend(release.map(row));
    }
    Ok(rows)
}

fn named(word: &str, registries: &Registries, places: &[Target], facets: &Facets) -> Result<Row, Failure> {
    let name: PackageName = Failure::read_word(word)?;
    check_known(registries, &name)?;
    let none = || Failure::new("package.unknown", format!("{name} has no release to choose"));
    let listing = registries.listing(&name)?.ok_or_else(none)?;
    let releases = listing.history.releases();
    let release = fitting::newest(releases).cloned().ok_or_else(none)?;
    let fitting = Some(fitting::newest_fitting(releases, places, facets).cloned());
    let components = release.entry.default_components();
    let source = listing.source_of(&release.entry.version).clone();
    Ok(Row { name, release, source, components, not_needed_at: Vec::new(), fitting, fits: Vec::new() })
}
