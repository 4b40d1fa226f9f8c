//! `ready`: whether this machine has what the project asks for.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bibliotax_core::facet::{FitValue, Fits, Target};
use bibliotax_core::manifest::RegistryDeclaration;
use bibliotax_core::name::{FacetName, PackageName, ProgramName, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::Project;
use bibliotax_registry::catalogue::registry::Registry;
use rayon::prelude::*;

use crate::context::Context;
use crate::failure::Failure;
use crate::installed_programs;
use crate::lookup;
use crate::machine::this_machine;
use crate::merge::set_up::is_set_up;
use crate::resolving::{Resolver, known_warnings, prefetch_locked};
use crate::search_options::SearchOptions;
use crate::settings::SettingsFile;
use crate::workspace::{ProjectWords, WorkspaceFolder, declared_target};

/// What was looked at.
pub struct Report {
    /// Each thing that was looked at.
    pub findings: Vec<Finding>,
    /// What people should know of what is locked.
    pub warnings: Vec<String>,
}

/// One thing that was looked at.
pub enum Finding {
    /// The person's settings.
    Settings {
        /// Their file.
        file: PathBuf,
        /// The names of those that are set; `None` where there is no file.
        set: Option<Vec<&'static str>>,
    },
    /// There is no registry.
    NoRegistries,
    /// A registry.
    Registry {
        /// Its name.
        name: RegistryName,
        /// Where it is.
        url: String,
        /// Whether it answers.
        state: RegistryState,
    },
    /// What keeps registries from being used together.
    Registries(String),
    /// The store; why it can't be used, if it can't.
    Store(Option<String>),
    /// git's merges of manifests and locks, where the team has set that up: whether it is here, too.
    Merges {
        /// Whether this working copy has the driver.
        is_set_up: bool,
    },
    /// A target.
    Target {
        /// Its name.
        name: String,
        /// Whether this machine is meant to be it.
        is_meant: bool,
        /// What the target says otherwise than this machine.
        differs: Fits,
        /// What this machine is.
        machine: Fits,
    },
    /// A program.
    Program {
        /// Its name.
        program: ProgramName,
        /// Where it is.
        path: Option<PathBuf>,
        /// The version that it says it is.
        version: Option<Version>,
        /// Who wants it, in which versions.
        wanted: Vec<(String, Range)>,
    },
}

/// Whether a registry answers.
pub enum RegistryState {
    /// It is not asked, because nobody is.
    NotAsked,
    /// It answers.
    Answers,
    /// It answers, and what is kept there opens it, or doesn't.
    Opened {
        /// Where the credentials are kept.
        place: String,
        /// Whether they open it.
        is_open: bool,
    },
    /// It doesn't answer as it should.
    Fails(String),
}

impl Finding {
    /// Whether nothing is to be done about it.
    pub fn is_fine(&self) -> bool {
        match self {
            Self::NoRegistries | Self::Settings { .. } => true,
            Self::Registries(_) => false,
            Self::Registry { state, .. } => {
                !matches!(state, RegistryState::Opened { is_open: false, .. } | RegistryState::Fails(_))
            }
            Self::Store(problem) => problem.is_none(),
            Self::Merges { is_set_up } => *is_set_up,
            Self::Target { is_meant, differs, .. } => differs.is_empty() || !is_meant,
            Self::Program { path, version, wanted, .. } => {
                let any = || wanted.iter().all(|(_, range)| *range == Range::any());
                let accepts = |version| wanted.iter().all(|(_, range)| range.accepts(version));
                path.is_some() && version.as_ref().map_or_else(any, accepts)
            }
        }
    }
}

/// A program, with who wants it and in which versions.
type Wishes = BTreeMap<ProgramName, Vec<(String, Range)>>;

/// Looks whether this machine has what a project asks for; it is meant to be this target, where one is named.
pub fn report(
    target: Option<&str>,
    projects: &ProjectWords,
    context: &Context<'_>,
) -> Result<Report, Failure> {
    let workspace = workspace(context)?;
    let mut findings = vec![settings(&context.environment.settings)];
    findings.extend(registries(&workspace, context));
    findings.push(Finding::Store(context.environment.open_store().err().map(|failure| failure.message)));
    findings.extend(is_set_up(&workspace.root).map(|is_set_up| Finding::Merges { is_set_up }));
    if let Some(target) = target {
        declared_target(&workspace.declared.targets, target)?;
    }
    let names = projects.names(&workspace)?;
    let is_meant = |project: &&Project| names.is_empty() || names.contains(project.name());
    let of_projects: Vec<&Project> = workspace.declared.projects.iter().filter(is_meant).collect();
    let is_of_projects =
        |declared: &&Target| of_projects.iter().any(|project| project.targets.contains(declared));
    let targets = workspace.declared.targets.iter().filter(is_of_projects);
    findings.extend(targets.map(|declared| machine(declared, target == Some(declared.name.as_str()))));
    let wishes = wishes(&workspace, &of_projects, context)?.into_iter();
    findings.extend(wishes.map(|(program, wanted)| look_for(program, wanted, context)));
    let lock = workspace.sound_lock()?;
    let warnings = lock.map(|lock| known_warnings(&workspace, lock, context.environment));
    Ok(Report { findings, warnings: warnings.unwrap_or_default() })
}

/// The workspace around the context's folder; outside of any project, the registries of the person's settings.
fn workspace(context: &Context<'_>) -> Result<WorkspaceFolder, Failure> {
    match lookup::workspace(&[], context) {
        Err(failure) if failure.code == "manifest.missing" => {
            Ok(WorkspaceFolder::of_registries(context.folder, Vec::new()))
        }
        found => found,
    }
}

/// Which settings are read, from where.
fn settings(file: &SettingsFile) -> Finding {
    let set = file.exists.then(|| file.settings.names());
    Finding::Settings { file: file.path.clone().unwrap_or_default(), set }
}

/// What the manifest and the locked packages ask for, as far as the registries can be asked.
fn wishes(
    workspace: &WorkspaceFolder,
    projects: &[&Project],
    context: &Context<'_>,
) -> Result<Wishes, Failure> {
    let mut wishes = Wishes::new();
    let of_projects = projects
        .iter()
        .flat_map(|project| project.manifest.programs.iter().map(move |program| (project, program)));
    for (project, (program, range)) in of_projects {
        let who = if workspace.is_alone() { "the manifest" } else { project.name().as_str() };
        wishes.entry(program.clone()).or_default().push((who.to_owned(), range.clone()));
    }
    let Some(lock) = workspace.sound_lock()? else { return Ok(wishes) };
    let options = SearchOptions::default();
    let opened = Resolver::open(workspace, &workspace.declared, context.environment, &options);
    let Ok(Resolver { registries, .. }) = opened else { return Ok(wishes) };
    prefetch_locked(&registries, lock.packages.iter());
    let names: Vec<PackageName> = projects.iter().map(|project| project.name().clone()).collect();
    for package in lock.packages_of(&names) {
        let listing = registries.listing(&package.name).ok().flatten();
        let release = listing.as_ref().and_then(|listing| listing.history.release(&package.version));
        for (program, range) in release.iter().flat_map(|release| &release.entry.programs) {
            wishes.entry(program.clone()).or_default().push((package.name.to_string(), range.clone()));
        }
    }
    Ok(wishes)
}

fn look_for(program: ProgramName, wanted: Vec<(String, Range)>, context: &Context<'_>) -> Finding {
    let path = installed_programs::find(&program, &context.environment.program_folders);
    let version = path.as_deref().and_then(installed_programs::version);
    Finding::Program { program, path, version, wanted }
}

/// Whether this machine is what a target says, as far as system and processor go.
fn machine(target: &Target, is_meant: bool) -> Finding {
    let machine = this_machine().values;
    let differs = |(facet, value): &(&FacetName, &FitValue)| {
        target.values.get(*facet).is_some_and(|wanted| wanted != *value)
    };
    let other = machine.iter().filter(differs);
    let other = other.map(|(facet, _)| (facet.clone(), target.values[facet].clone()));
    Finding::Target { name: target.name.clone(), is_meant, differs: other.collect(), machine }
}

/// Whether each registry answers, and what would open it for publishing.
fn registries(workspace: &WorkspaceFolder, context: &Context<'_>) -> Vec<Finding> {
    let declared = &workspace.declared.registries;
    if declared.is_empty() {
        return vec![Finding::NoRegistries];
    }
    let mut found: Vec<Finding> =
        declared.par_iter().map(|declaration| registry(workspace, declaration, context)).collect();
    let options = SearchOptions::default();
    if found.iter().all(Finding::is_fine)
        && let Err(failure) = Resolver::open(workspace, &workspace.declared, context.environment, &options)
    {
        // Each by itself is well, and together they are not.
        found.push(Finding::Registries(failure.message));
    }
    found
}

fn registry(
    workspace: &WorkspaceFolder,
    declaration: &RegistryDeclaration,
    context: &Context<'_>,
) -> Finding {
    let opened = workspace.open_registry(declaration, context.environment);
    let is_asked = !context.environment.is_offline || Registry::is_local(declaration);
    let state = match opened.and_then(|registry| registry.opening()) {
        Ok(_) if !is_asked => RegistryState::NotAsked,
        Ok(None) => RegistryState::Answers,
        Ok(Some((place, is_open))) => RegistryState::Opened { place, is_open },
        Err(error) => RegistryState::Fails(Failure::from(error).message),
    };
    Finding::Registry { name: declaration.name.clone(), url: declaration.url.clone(), state }
}
