//! `fit`: which packages work where.

mod ladder;

use std::collections::BTreeSet;
use std::path::Path;

use bibliotax_core::facet::{Facet, Facets, Fit as Suits, FitValue, Target};
use bibliotax_core::history::Release;
use bibliotax_core::lock::Wires;
use bibliotax_core::name::{ComponentName, FacetName, PackageName};
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::workspace::Member;
use bibliotax_present::words;
use bibliotax_registry::catalogue::registries::Registries;
use serde_json::{Value, json};

use self::ladder::{Ladder, Ladders};
use super::need::check_known;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::{In, Project, ask_for_locked};
use crate::show::{count, table};
use crate::ui::{Ui, style, styled};
use bibliotax_core::fitting;
use bibliotax_present::json as to_json;

/// Most targets that stand beside each other; more are listed below each package.
const MOST_COLUMNS: usize = 4;

/// Tell which packages work on which targets
///
/// For the locked packages or, before they are needed, for packages that are named: the newest release of each, and
/// the newest that fits everywhere. A library without targets is held against its own promise. With --level or
/// --target other levels are tried out; no file changes. Ends with status 1 where something doesn't fit.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax fit\n  bibliotax fit soil-curve\n  bibliotax fit --level orchard-runtime=4\n  bibliotax fit --target hand-unit:orchard-runtime=4\n  bibliotax fit --used-by ../hand-unit --used-by ../gate-kiosk"
)]
pub struct Fit {
    /// Packages to look at instead of the locked ones
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Try every target at this level, or with this value
    #[arg(long = "level", value_name = "FACET=VALUE")]
    levels: Vec<String>,
    /// Try one target, declared or not, at this level, or with this value
    #[arg(long = "target", value_name = "TARGET:FACET=VALUE")]
    targets: Vec<String>,
    #[command(flatten)]
    members: In,
    /// Of a library: hold its levels against the targets of this project, too, which uses it; may be given several times
    #[arg(long = "used-by", value_name = "FOLDER")]
    used_by: Vec<String>,
}

/// A release to look at.
struct Row {
    name: PackageName,
    release: Release,
    /// The components that are taken of it.
    components: BTreeSet<ComponentName>,
    /// Of a locked package: the places that it is not needed at.
    not_needed_at: Vec<Target>,
    /// Of a package that was named: the newest release that fits everywhere.
    fitting: Option<Option<Release>>,
}

impl Fit {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::find(here)?;
        let members = self.members.chosen(&project)?;
        let registries = project.registries(&project.workspace)?;
        let facets = registries.facets();
        let mut places = places_of(&members);
        for word in &self.levels {
            let (facet, value) = self.pair(word, "orchard-runtime=4")?;
            for place in &mut places {
                place.values.insert(facet.clone(), self.value(&facets, &facet, &value)?);
            }
        }
        for word in &self.targets {
            self.try_target(word, &mut places, &facets)?;
        }
        if places.is_empty() {
            return Err(no_places());
        }
        let rows = match self.packages.as_slice() {
            [] => locked(&project, &members, &registries)?,
            names => {
                let row = |word: &String| named(word, &registries, &places, &facets);
                names.iter().map(row).collect::<Result<Vec<_>, _>>()?
            }
        };
        let users = self.users(&project, &members, here, ui)?;
        let ladders =
            Ladders { rows: &rows, places: &places, users: &users, facets: &facets, registries: &registries };
        // A level is raised by one project, and not by several at once.
        let ladders = if members.len() == 1 { ladders.all() } else { Vec::new() };
        let is_alone = project.workspace.members.len() == 1;
        let names: Vec<String> = places.iter().map(|place| words::place_name(place, is_alone)).collect();
        registries.heeds().iter().for_each(|heed| ui.warn(heed));
        let exit = show(ui, &rows, &Beside { places: &places, names: &names }, &facets, &ladders);
        Ok(exit)
    }

    /// The targets of the projects that use this one.
    fn users(
        &self,
        project: &Project,
        members: &[&Member],
        here: &Path,
        ui: &Ui,
    ) -> Result<Vec<Target>, Failure> {
        let [library] = members else { return Ok(Vec::new()) };
        let library = &library.project.name;
        let needs_it = |user: &Member| user.manifest.needs.iter().any(|need| need.package == *library);
        let in_workspace = project.workspace.members.iter().filter(|member| needs_it(member));
        let mut targets: Vec<Target> = in_workspace.flat_map(|user| user.targets.clone()).collect();
        for folder in &self.used_by {
            let user = Project::find(&here.join(folder))?;
            let user = user.member()?;
            if !needs_it(user) {
                ui.warn(format!("{} doesn't need {library}", user.project.name));
            }
            targets.extend(user.targets.clone());
        }
        let mut names = BTreeSet::new();
        targets.retain(|target| names.insert(target.name.clone()));
        Ok(targets)
    }

    fn try_target(&self, word: &str, places: &mut Vec<Target>, facets: &Facets) -> Result<(), Failure> {
        let example = "hand-unit:orchard-runtime=4";
        let (target, rest) = word.split_once(':').ok_or_else(|| wrong_words(word, example))?;
        let (facet, value) = self.pair(rest, example)?;
        let value = self.value(facets, &facet, &value)?;
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

    fn pair(&self, word: &str, example: &str) -> Result<(FacetName, String), Failure> {
        let (facet, value) = word.split_once('=').ok_or_else(|| wrong_words(word, example))?;
        Ok((Failure::read_word(facet)?, value.to_owned()))
    }

    fn value(&self, facets: &Facets, facet: &FacetName, text: &str) -> Result<FitValue, Failure> {
        let value = match (facets.get(facet), text) {
            (Some(Facet::Claim), "true" | "yes") => FitValue::Claim(true),
            (Some(Facet::Claim), "false" | "no") => FitValue::Claim(false),
            _ => FitValue::One(text.to_owned()),
        };
        let checked = facets.check(&[(facet.clone(), value.clone())].into_iter().collect());
        let known: Vec<&str> = facets.names().map(FacetName::as_str).collect();
        let mend = format!("facets are {}", known.join(", "));
        checked.map(|()| value).map_err(|problem| Failure::new("facet.value", problem.to_string()).mend(mend))
    }
}

fn wrong_words(word: &str, example: &str) -> Failure {
    Failure::new("fit.words", format!("`{word}` is no value to try out"))
        .mend(format!("write it like `{example}`"))
}

fn no_places() -> Failure {
    Failure::new("fit.words", "the manifest declares no target and promises nothing")
        .mend("declare one (`[targets.NAME]`), promise something (`[fits]`), or try one out: `--target NAME:FACET=VALUE`")
}

/// What releases have to fit for these members: their targets and promises, each once.
fn places_of(members: &[&Member]) -> Vec<Target> {
    let targets = members.iter().flat_map(|member| member.targets.iter().cloned());
    let promises = members.iter().filter_map(|member| member.manifest.promise());
    let mut places: Vec<Target> = Vec::new();
    for place in targets.chain(promises) {
        if !places.contains(&place) {
            places.push(place);
        }
    }
    places
}

/// The locked packages that these members need.
fn locked(project: &Project, members: &[&Member], registries: &Registries) -> Result<Vec<Row>, Failure> {
    let lock = project.needed_lock()?;
    let names: Vec<PackageName> = members.iter().map(|member| member.project.name.clone()).collect();
    let packages = lock.packages_of(&names);
    ask_for_locked(registries, packages.iter().copied());
    let (targets, promises) = (&project.workspace.targets, Wires::of(lock).promises(&project.workspace));
    let mut rows = Vec::new();
    for package in packages {
        let listing = registries.listing(&package.name)?;
        let release = listing.and_then(|listing| listing.history.release(&package.version).cloned());
        let others = targets.iter().filter(|target| !package.is_on(&target.name));
        let unkept = promises.iter().filter(|(_, kept_by)| !kept_by.contains(&package.name));
        let not_needed_at = others.chain(unkept.map(|(promise, _)| promise)).cloned().collect();
        let name = package.name.clone();
        let components = package.components.iter().cloned().collect();
        rows.extend(release.map(|release| Row { name, release, components, not_needed_at, fitting: None }));
    }
    Ok(rows)
}

fn named(word: &str, registries: &Registries, places: &[Target], facets: &Facets) -> Result<Row, Failure> {
    let name: PackageName = Failure::read_word(word)?;
    check_known(registries, &name)?;
    let listing = registries.listing(&name)?;
    let releases = listing.as_ref().map_or(&[][..], |listing| listing.history.releases());
    let release = fitting::newest(releases).cloned().ok_or_else(|| {
        Failure::new("package.unknown", format!("{name} has no release that could be chosen"))
    })?;
    let fitting = fitting::newest_fitting(releases, places, facets).cloned();
    let components = release.entry.default_components();
    Ok(Row { name, release, components, not_needed_at: Vec::new(), fitting: Some(fitting) })
}

/// How a release stands with each place; `None` where it isn't needed.
type Found<'r> = (&'r Row, Vec<Option<Suits>>);

/// The places, and what they are called beside each other.
struct Beside<'p> {
    places: &'p [Target],
    names: &'p [String],
}

fn show(ui: &Ui, rows: &[Row], beside: &Beside<'_>, facets: &Facets, ladders: &[Ladder]) -> Exit {
    let Beside { places, names } = *beside;
    let fit = |row: &Row, place: &Target| {
        let is_there = |other: &Target| other.name == place.name && other.is_promise == place.is_promise;
        let is_needed = !row.not_needed_at.iter().any(is_there);
        is_needed.then(|| facets.fit_release(&row.release.entry, &row.components, place))
    };
    let found: Vec<Found> =
        rows.iter().map(|row| (row, places.iter().map(|place| fit(row, place)).collect())).collect();
    let fails = |fits: &[Option<Suits>]| fits.iter().flatten().any(|fit| matches!(fit, Suits::No(_)));
    let misfits = found.iter().filter(|(_, fits)| fails(fits)).count();
    let is_wide = places.len() > MOST_COLUMNS;
    if !is_wide {
        show_columns(ui, &found, names);
    }
    let has_reasons = |fits: &[Option<Suits>]| fits.iter().flatten().any(|fit| !matches!(fit, Suits::Yes));
    for (row, fits) in found.iter().filter(|(_, fits)| is_wide || has_reasons(fits)) {
        show_reasons(ui, row, fits, names, facets);
    }
    ui.answer(match misfits {
        0 => "nothing that is said speaks against any of it".to_owned(),
        1 => format!("1 of {} doesn't fit everywhere", count(rows.len(), "package")),
        some => format!("{some} of {} don't fit everywhere", count(rows.len(), "package")),
    });
    ladders.iter().for_each(|ladder| ladder.show(ui));
    if ui.is_json() {
        report(ui, &found, names, ladders);
    }
    if misfits == 0 { Exit::Done } else { Exit::Differs }
}

fn show_columns(ui: &Ui, found: &[Found<'_>], names: &[String]) {
    let head = [String::new(), String::new()].into_iter().chain(names.iter().cloned());
    let line = |(row, fits): &Found<'_>| -> Vec<String> {
        let cells = fits.iter().map(|fit| match fit {
            None => "not needed".to_owned(),
            Some(fit @ Suits::Yes) => styled(style::GOOD, words::fit_word(fit)),
            Some(fit @ Suits::NotStated(_)) => styled(style::WARNING, words::fit_word(fit)),
            Some(fit @ Suits::No(_)) => styled(style::BAD, words::fit_word(fit)),
        });
        [format!(" {}", row.name), row.release.entry.version.to_string()].into_iter().chain(cells).collect()
    };
    ui.answer(table(ui, [head.collect()].into_iter().chain(found.iter().map(line))));
}

/// Below a package, what it says of the places that it does not simply fit; alike for several places in one line.
fn show_reasons(ui: &Ui, row: &Row, found: &[Option<Suits>], places: &[String], facets: &Facets) {
    let title = format!("{} {}", styled(style::STRONG, &row.name), row.release.entry.version);
    if found.iter().all(|fit| *fit == Some(Suits::Yes)) {
        ui.answer(format!("{title}: yes, on all {}", count(places.len(), "target")));
        return;
    }
    ui.answer(title);
    let mut lines: Vec<(String, Vec<String>)> = Vec::new();
    for (place, fit) in places.iter().zip(found) {
        let Some(fit) = fit.as_ref().filter(|fit| places.len() > MOST_COLUMNS || !matches!(fit, Suits::Yes))
        else {
            continue;
        };
        let words = words::fit(fit, facets);
        let words = words.strip_prefix("no: ").unwrap_or(&words).to_owned();
        match lines.iter_mut().find(|(other, _)| *other == words) {
            Some((_, names)) => names.push(place.clone()),
            None => lines.push((words, vec![place.clone()])),
        }
    }
    for (words, names) in lines {
        ui.answer(format!("  {}: {words}", names.join(", ")));
    }
    match &row.fitting {
        Some(Some(release)) if release.entry.version != row.release.entry.version => {
            ui.answer(format!("  {} is the newest that fits everywhere", release.entry.version));
        }
        Some(None) => ui.answer("  no release fits everywhere"),
        _ => {}
    }
}

fn report(ui: &Ui, found: &[Found<'_>], places: &[String], ladders: &[Ladder]) {
    let packages = found.iter().map(|(row, found)| {
        let by_place = places.iter().zip(found);
        let by_place =
            by_place.map(|(place, fit)| (place.clone(), fit.as_ref().map_or(Value::Null, to_json::fit)));
        let fitting =
            row.fitting.as_ref().map(|release| release.as_ref().map(|r| r.entry.version.to_string()));
        json!({ "package": row.name, "version": row.release.entry.version,
            "fits": by_place.collect::<serde_json::Map<_, _>>(), "newest-that-fits": fitting })
    });
    let packages: Vec<Value> = packages.collect();
    let ladders: Vec<Value> = ladders.iter().map(Ladder::as_json).collect();
    ui.report("fit", || json!({ "packages": packages, "ladders": ladders }));
}
