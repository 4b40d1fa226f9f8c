//! `need`: declares packages, resolves, installs, and says what came along.

mod declaring;
mod sources;
pub mod words;

use std::collections::BTreeSet;
use std::path::Path;
use std::str::FromStr;

use bibliotax_core::fault::Fault;
use bibliotax_core::lock::Lock;
use bibliotax_core::name::{ComponentName, PackageName, Purpose};
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::resolve::{Catalogue, Problem};
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::catalogue::registries::Registries;
use serde_json::json;

use self::declaring::{Declaring, Wishes};
use self::words::Wanted;
use super::passed_over;
use super::settle::Settled;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{In, Project, declared_target, needs_of, no_registry};
use crate::searching::Searching;
use crate::show;
use crate::ui::Ui;

/// Declare packages, resolve and install them
///
/// Each PACKAGE may be followed by a RANGE such as 2.4, "2.4 .. 3", ">= 2.4, != 2.5.0" or "any". Without one,
/// the newest release that goes with the rest is taken and written from there up to the next major version.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax need rain-ledger\n  bibliotax need soil-curve 1.7 moss-map \"2 .. 4\"\n  bibliotax need probe-sim --for test\n  bibliotax need dew-point --in all --shared\n  bibliotax need fernhollow/valve-core --path ../valve-core\n  bibliotax need leaf-palette --git https://git.example/leaf-palette.git\n  bibliotax need soil-curve --archive https://files.example/soil-curve-1.1.zip"
)]
pub struct Need {
    /// Packages, each with a range behind it if wanted
    #[arg(required = true, value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
    #[command(flatten)]
    members: In,
    /// Write the range once, for the whole workspace: members share it
    #[arg(long)]
    shared: bool,
    #[command(flatten)]
    from: sources::From,
    /// Take exactly this version: write it with `=`
    #[arg(long)]
    exactly: bool,
    /// What the packages are needed for beside running, such as test or docs
    #[arg(long = "for", value_name = "PURPOSE")]
    purpose: Option<String>,
    /// Take the packages from this registry, where several hold the name
    #[arg(long, value_name = "NAME")]
    registry: Option<String>,
    /// Let pre-releases count like any other version
    #[arg(long)]
    prereleases: bool,
    /// Do without this package that the packages need; may be given several times
    #[arg(long, value_name = "NAME")]
    without: Vec<String>,
    /// Take the packages to this target only; may be given several times
    #[arg(long = "target", value_name = "TARGET")]
    targets: Vec<String>,
    /// Take these components of the packages, beside those that come by default
    #[arg(long, value_name = "NAME,…", value_delimiter = ',')]
    components: Vec<String>,
    /// Take the packages without the components that come by default
    #[arg(long)]
    bare: bool,
    /// Take this part of the packages as well, such as docs or sources; may be given several times
    #[arg(long = "part", value_name = "PART")]
    parts: Vec<String>,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    searching: Searching,
}

impl Need {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let wanted = words::parse(&self.words, self.exactly)?;
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, self.dry_run, &progress)?;
        let project = project.searching(self.searching.clone());
        project.sound_lock()?;
        if project.workspace.registries.is_empty() && self.from.is_unsaid() {
            return Err(no_registry());
        }
        let wishes = self.wishes(here, &project, &wanted, ui)?;
        self.declare(ui, &project, &wanted, &wishes)
    }

    fn wishes(&self, here: &Path, project: &Project, wanted: &[Wanted], ui: &Ui) -> Result<Wishes, Failure> {
        Ok(Wishes {
            registry: parsed("--registry", self.registry.as_ref())?,
            without: all_parsed("--without", &self.without)?,
            components: all_parsed("--components", &self.components)?,
            parts: all_parsed("--part", &self.parts)?,
            targets: self.targets.clone(),
            prereleases: self.prereleases,
            bare: self.bare,
            exactly: self.exactly,
            shared: self.shared,
            source: self.from.said(wanted, project, here, ui)?,
        })
    }

    fn declare(
        &self,
        ui: &Ui,
        project: &Project,
        wanted: &[Wanted],
        wishes: &Wishes,
    ) -> Result<Exit, Failure> {
        let purpose: Option<Purpose> = parsed("--for", self.purpose.as_ref())?;
        let members = self.members.to_change(project)?;
        for member in &members {
            for target in &self.targets {
                declared_target(&member.targets, target)?;
            }
        }
        let mut declaring = Declaring::new(project, members, purpose.as_ref(), wishes);
        wanted.iter().try_for_each(|wanted| declaring.declare(wanted))?;
        // A project that a path leads to is read with the manifests that name it.
        let workspace = declaring.workspace()?;
        let registries = &project.registries(&workspace)?;
        let problem = Problem::new(&workspace, &project.locked());
        registries.foresee(&needs_of(&problem));
        for wanted in wanted {
            check_known(registries, &wanted.package)?;
            check_components(registries, &wanted.package, &wishes.components)?;
        }
        let (mut chosen, warnings) = project.choose(&problem, &workspace, registries)?;
        declaring.settle_ranges(wanted, &chosen)?;
        // The ranges are made around what was chosen, which is therefore what they lead to.
        let workspace = declaring.workspace()?;
        let lock = project.lock_of(&workspace, &mut chosen, registries)?;
        wanted.iter().try_for_each(|wanted| declaring.say(ui, &workspace, wanted))?;
        let without_range = wanted.iter().filter(|wanted| wanted.range.is_none());
        without_range.for_each(|wanted| say_passed_over(ui, &workspace, registries, &lock, wanted));
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(project, &workspace, lock);
        settled.show(ui);
        let edits = declaring.edits();
        settled.conclude(ui, "need", self.dry_run, &edits, || json!({ "warnings": warnings }))?;
        Ok(Exit::Done)
    }
}

/// Says which newer release of a package was not taken, and why.
fn say_passed_over(ui: &Ui, workspace: &Workspace, registries: &Registries, lock: &Lock, wanted: &Wanted) {
    // The range is made around what was chosen, so it is no reason.
    let problem = Problem::new(workspace, &[]).without(&wanted.package);
    if let Some(chosen) = lock.package(&wanted.package) {
        passed_over::say(ui, &problem, registries, chosen);
    }
}

fn parsed<T: FromStr<Err = Fault>>(option: &str, text: Option<&String>) -> Result<Option<T>, Failure> {
    text.map(|text| text.parse().map_err(|fault| Failure::in_words(option, text, fault))).transpose()
}

fn all_parsed<T: FromStr<Err = Fault>>(option: &str, texts: &[String]) -> Result<Vec<T>, Failure> {
    texts.iter().filter_map(|text| parsed(option, Some(text)).transpose()).collect()
}

/// Whether some registry has a package; the nearest names if none does.
pub fn check_known(registries: &Registries, package: &PackageName) -> Result<(), Failure> {
    if registries.listing(package)?.is_some() {
        return Ok(());
    }
    let names = registries.names();
    let near = nearest(package.as_str(), names.iter().map(PackageName::as_str), 3);
    let failure = Failure::new("package.unknown", format!("no registry has a package {package}"));
    Err(match near.as_slice() {
        [] => failure.mend(format!("check the name; {} are known", show::count(names.len(), "package"))),
        near => failure.mend(format!("perhaps {} was meant", either(near))),
    })
}

/// Whether some release of a package has each of these components; those that there are if none does.
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
    Err(failure.suggest(unknown.as_str(), &names, "it has none at all; leave out `--components`"))
}
