//! `need`: declares packages, resolves, installs, and says what came along.

pub mod words;

use std::collections::BTreeSet;
use std::path::Path;
use std::str::FromStr;

use bibliotax_core::fault::Fault;
use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::{self, Manifest, ManifestText};
use bibliotax_core::name::{ComponentName, PackageName, PartName, Purpose, RegistryName};
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem};
use bibliotax_registry::registries::Registries;
use serde_json::json;

use self::words::Wanted;
use super::passed_over;
use super::searching::Searching;
use super::settle::{Settled, installed_json};
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Project, check_target, no_registry, read_edited};
use crate::show;
use crate::ui::{Ui, style, styled};

/// Declare packages, resolve and install them
///
/// Each PACKAGE may be followed by a RANGE such as 2.4, "2.4 .. 3", ">= 2.4, != 2.5.0" or "any". Without one,
/// the newest release that goes with the rest is taken and written from there up to the next major version.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax need rain-ledger\n  bibliotax need soil-curve 1.7 moss-map \"2 .. 4\"\n  bibliotax need probe-sim --for test"
)]
pub struct Need {
    /// Packages, each with a range behind it if wanted
    #[arg(required = true, value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
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
        let project = project.searching(self.searching);
        project.sound_lock()?;
        if project.manifest.registries.is_empty() {
            return Err(no_registry());
        }
        self.declare(ui, &project, &wanted)
    }

    fn declare(&self, ui: &Ui, project: &Project, wanted: &[Wanted]) -> Result<Exit, Failure> {
        let purpose = parsed("--for", self.purpose.as_ref())?;
        let registry = parsed("--registry", self.registry.as_ref())?;
        let purpose = purpose.as_ref();
        let without: Vec<PackageName> = all_parsed("--without", &self.without)?;
        let components: Vec<ComponentName> = all_parsed("--components", &self.components)?;
        let parts: Vec<PartName> = all_parsed("--part", &self.parts)?;
        self.targets.iter().try_for_each(|target| check_target(&project.manifest, target))?;
        let mut declaring = Declaring::open(project, purpose)?;
        for wanted in wanted {
            declaring.declare(wanted, self.prereleases, registry.as_ref());
            if !self.targets.is_empty() {
                declaring.text.only_for(purpose, &wanted.package, &self.targets);
            }
            declaring.text.do_without(purpose, &wanted.package, &without);
            declaring.text.want_components(purpose, &wanted.package, &components);
            declaring.text.ask_for_parts(purpose, &wanted.package, &parts);
            if self.bare {
                declaring.text.take_bare(purpose, &wanted.package);
            }
        }
        let manifest = declaring.manifest()?;
        let registries = &project.registries(&manifest)?;
        for wanted in wanted {
            check_known(registries, &wanted.package)?;
            check_components(registries, &wanted.package, &components)?;
        }
        let (lock, warnings) = project.resolve(&manifest, registries)?;
        declaring.settle_ranges(wanted, &lock, self.exactly);
        let manifest = declaring.manifest()?;
        // The ranges were made around what was chosen, so this chooses the same again.
        let (lock, _) = project.resolve(&manifest, registries)?;
        for wanted in wanted {
            say_declared(ui, &manifest, &declaring.text, wanted, purpose);
        }
        for wanted in wanted.iter().filter(|wanted| wanted.range.is_none()) {
            // The range is made around what was chosen, so it is no reason.
            let problem = Problem::new(&manifest, &[]).without(&wanted.package);
            if let Some(chosen) = lock.package(&wanted.package) {
                passed_over::say(ui, &problem, registries, chosen);
            }
        }
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(project, &manifest, lock);
        settled.show(ui);
        let text = declaring.text.to_string();
        let mut result =
            json!({ "changes": settled.changes(), "dry-run": self.dry_run, "warnings": warnings });
        if self.dry_run {
            ui.say("nothing was written");
        } else {
            result["shelf"] = installed_json(settled.carry_out(ui, Some(&text))?);
        }
        ui.report("need", result);
        Ok(Exit::Done)
    }
}

fn parsed<T: FromStr<Err = Fault>>(option: &str, text: Option<&String>) -> Result<Option<T>, Failure> {
    text.map(|text| text.parse().map_err(|fault| Failure::in_words(option, text, fault))).transpose()
}

fn all_parsed<T: FromStr<Err = Fault>>(option: &str, texts: &[String]) -> Result<Vec<T>, Failure> {
    texts.iter().filter_map(|text| parsed(option, Some(text)).transpose()).collect()
}

/// The manifest while needs are being declared in it.
struct Declaring<'p> {
    project: &'p Project,
    purpose: Option<&'p Purpose>,
    text: ManifestText,
}

impl<'p> Declaring<'p> {
    fn open(project: &'p Project, purpose: Option<&'p Purpose>) -> Result<Self, Failure> {
        Ok(Self { project, purpose, text: project.editable()? })
    }

    fn manifest(&self) -> Result<Manifest, Failure> {
        read_edited(&self.text.to_string())
    }

    /// Declares what is wanted; where no range is given and none was declared, any version for now.
    fn declare(&mut self, wanted: &Wanted, prereleases: bool, registry: Option<&RegistryName>) {
        match &wanted.range {
            Some(range) => self.text.set_need(self.purpose, &wanted.package, range),
            None if self.declared(&wanted.package).is_some() => {}
            None if self.project.manifest.family_of(&wanted.package).is_some() => {
                self.text.set_need_of_family(self.purpose, &wanted.package);
            }
            None => {
                self.text.set_need(self.purpose, &wanted.package, &Range::any());
            }
        }
        if prereleases {
            self.text.accept_prereleases(self.purpose, &wanted.package);
        }
        if let Some(registry) = registry {
            self.text.take_from(self.purpose, &wanted.package, registry);
        }
    }

    /// Puts the ranges in place that follow from what was chosen.
    fn settle_ranges(&mut self, wanted: &[Wanted], lock: &Lock, exactly: bool) {
        for wanted in wanted.iter().filter(|wanted| wanted.range.is_none()) {
            let is_new = self.declared(&wanted.package).is_none()
                && self.project.manifest.family_of(&wanted.package).is_none();
            let chosen = lock.package(&wanted.package).map(|package| &package.version);
            if let Some(version) = chosen.filter(|_| is_new || exactly) {
                let range = if exactly { Range::exactly(version) } else { Range::from_version(version) };
                self.text.set_need(self.purpose, &wanted.package, &range);
            }
        }
    }

    /// The range that the manifest on disk has for a package and this purpose.
    fn declared(&self, package: &PackageName) -> Option<&Range> {
        let needs = self.project.manifest.needs.iter();
        let mut declared =
            needs.filter(|need| need.package == *package && need.purpose.as_ref() == self.purpose);
        declared.next().map(|need| &need.range)
    }
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

fn say_declared(
    ui: &Ui,
    manifest: &Manifest,
    text: &ManifestText,
    wanted: &Wanted,
    purpose: Option<&Purpose>,
) {
    let same = |need: &&manifest::Need| need.package == wanted.package && need.purpose.as_ref() == purpose;
    let Some(need) = manifest.needs.iter().find(same) else { return };
    let part = purpose.map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
    let family = need.family.as_ref();
    let kept =
        family.map(|family| format!(", {family} being kept at \"{}\"", need.range)).unwrap_or_default();
    if let Some(line) = text.need_line(purpose, &wanted.package) {
        ui.say(format!("{}: {part} {line}{kept}", styled(style::STRONG, "manifest")));
    }
}
