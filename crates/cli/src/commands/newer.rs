//! `newer`: what has newer releases than the lock, what keeps them out, and what changed with them.

use std::collections::BTreeSet;
use std::path::Path;

use bibliotax_core::facet::Facets;
use bibliotax_core::history::Release;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::newer::{Hold, Newer as News, newer};
use bibliotax_core::resolve::{Catalogue, Problem, Resolution, resolve, update};
use bibliotax_core::version::Version;
use bibliotax_present::words;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::elsewhere::Freshness;
use rayon::prelude::*;
use serde_json::{Value, json};

use super::explain::locked_name;
use crate::codes::Exit;
use crate::failure::{self, Failure};
use crate::progress::Progress;
use crate::project::{Only, Project, needs_of};
use crate::searching::Searching;
use crate::show::{count, table};
use crate::ui::{Ui, clean, style, styled};
use bibliotax_present::json as to_json;

/// Most of the last releases of a package whose notes are told.
const MOST_NOTES: usize = 3;

/// Tell what has newer releases, and what keeps them out
///
/// For each package of the lock: what an update would take within the ranges, what is newer still and who holds it back, what
/// changed, and whether the release that is locked was deprecated or withdrawn. Writes nothing.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax newer\n  bibliotax newer --direct")]
pub struct Newer {
    /// Only these packages
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Only what projects need themselves
    #[arg(long)]
    direct: bool,
    #[command(flatten)]
    members: Only,
    #[command(flatten)]
    searching: Searching,
}

/// News of a package, with what changed in its last releases, the newest first.
struct Told<'l> {
    news: News<'l>,
    notes: Vec<(Version, String)>,
}

impl Newer {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let project = Project::find(here)?.searching(self.searching.clone());
        let lock = project.needed_lock()?;
        let wanted = self.packages.iter().map(|word| locked_name(lock, word));
        let wanted = wanted.collect::<Result<Vec<PackageName>, _>>()?;
        let shown = self.shown(&project, lock)?;
        let is_asked = |package: &LockedPackage| {
            (wanted.is_empty() || wanted.contains(&package.name)) && shown.contains(&package.name)
        };
        let registries = project.registries_for(&project.workspace, Freshness::AllAnew)?;
        let problem = Problem::new(&project.workspace, &lock.packages);
        registries.foresee(&needs_of(&problem));
        let names: Vec<PackageName> = lock.packages.iter().map(|package| package.name.clone()).collect();
        registries.expect(&names);
        let (updated, stuck) = self.updated(&problem, &registries)?;
        project.check_locked(lock.packages.iter().filter(|package| is_asked(package)), &registries)?;
        let mut all = newer(lock, &project.workspace, &updated, &registries)?;
        all.retain(|news| is_asked(news.package));
        let told: Vec<Told<'_>> = all.into_par_iter().map(|news| told(news, &registries)).collect();
        drop(progress);
        registries.heeds().iter().for_each(|heed| ui.warn(heed));
        let asked = lock.packages.iter().filter(|package| is_asked(package)).count();
        show(ui, &told, &registries.facets(), asked);
        if let Some(stuck) = stuck {
            ui.warn(format!("an update finds no set now: {}", stuck.because.join(" ")));
        }
        ui.report("newer", || json!({ "packages": told.iter().map(as_json).collect::<Vec<_>>() }));
        Ok(Exit::Done)
    }

    /// What an update would lead to; where it leads nowhere, what is locked stays, and why comes with it.
    fn updated(
        &self,
        problem: &Problem,
        registries: &Registries,
    ) -> Result<(Resolution, Option<Failure>), Failure> {
        let unresolved = match update(problem, &[], registries) {
            Ok(updated) => return Ok((updated.resolution, None)),
            Err(unresolved) => unresolved,
        };
        let conflict = failure::conflict_of(unresolved)?;
        let failure = failure::conflict(&conflict, Vec::new(), self.searching.long);
        // What was locked may still go together, such as a release that was withdrawn since.
        match resolve(problem, registries) {
            Ok(resolution) => Ok((resolution, Some(failure))),
            Err(_) => Err(failure),
        }
    }

    /// The packages that are looked at: what some members reach or, where only that is asked about, need themselves.
    fn shown(&self, project: &Project, lock: &Lock) -> Result<BTreeSet<PackageName>, Failure> {
        let members = self.members.names(project)?;
        if !self.direct {
            return Ok(lock.packages_of(&members).iter().map(|package| package.name.clone()).collect());
        }
        let needs = project.workspace.needs();
        let needs = needs.filter(|(member, _)| members.is_empty() || members.contains(&member.project.name));
        let answering = needs.filter_map(|(_, need)| lock.answering(&need.package));
        Ok(answering.map(|package| package.name.clone()).collect())
    }
}

/// News with what changed since the locked release, as far as cards say it.
fn told<'l>(news: News<'l>, registries: &Registries) -> Told<'l> {
    let listing = registries.listing(&news.package.name).ok().flatten();
    let releases = listing.iter().flat_map(|listing| listing.history.releases()).rev();
    let since = releases.filter(|release| {
        let version = &release.entry.version;
        *version > news.package.version && release.withdrawn.is_none() && !version.is_pre()
    });
    let note = |release: &Release| {
        let card = registries.card(listing.as_ref()?, release).ok()?;
        Some((release.entry.version.clone(), card.notes?))
    };
    let notes = since.take(MOST_NOTES).filter_map(note).collect();
    Told { news, notes }
}

fn show(ui: &Ui, told: &[Told<'_>], facets: &Facets, packages: usize) {
    if told.is_empty() {
        ui.answer(match packages {
            0 => "there is no such package to look at".to_owned(),
            some => format!("nothing is newer: {} as new as can be", count(some, "package")),
        });
        return;
    }
    let head = ["", "locked", "update", "newest", ""].map(|text| styled(style::FAINT, text));
    let rows = told.iter().flat_map(|told| rows(told, facets));
    let rows: Vec<Vec<String>> = [head.to_vec()].into_iter().chain(rows).collect();
    ui.answer(table(ui, without_empty(rows)));
    let updates = told.iter().filter(|told| told.news.update.is_some()).count();
    if updates > 0 {
        ui.say(format!("next: `bibliotax update` moves {}", count(updates, "package")));
    } else {
        ui.say("`bibliotax update --beyond --dry-run` shows what going beyond the ranges would take");
    }
}

/// A table without the columns that have nothing below their heads.
fn without_empty(rows: Vec<Vec<String>>) -> impl Iterator<Item = Vec<String>> {
    let columns = rows.first().map_or(0, Vec::len);
    let is_told = |column: usize| rows.iter().skip(1).any(|row| !row[column].is_empty());
    let told: Vec<usize> = (0..columns).filter(|column| is_told(*column)).collect();
    rows.into_iter().map(move |row| told.iter().map(|column| row[*column].clone()).collect())
}

/// The rows of one package: versions, then a row for each further thing that is told.
fn rows(Told { news, notes }: &Told<'_>, facets: &Facets) -> Vec<Vec<String>> {
    let package = news.package;
    let update = news.update.as_ref().map(|(version, source)| match source.git() {
        Some(git) if *version == package.version => git.commit.short().to_owned(),
        _ => version.to_string(),
    });
    let beyond = news.beyond.as_ref().map(|(version, _)| version.to_string());
    let mut about = about_locked(news);
    about.extend(news.beyond.iter().map(|(_, holds)| held_back(holds, facets)));
    about.extend(notes.iter().map(|(version, text)| format!("{version}: {}", clean(text))));
    let first = vec![
        format!(" {}", package.name),
        locked(package),
        update.map(|update| styled(style::GOOD, update)).unwrap_or_default(),
        beyond.unwrap_or_default(),
    ];
    let mut rows: Vec<Vec<String>> = Vec::new();
    for (number, text) in about.iter().enumerate() {
        let begin = if number == 0 { first.clone() } else { vec![String::new(); 4] };
        rows.push(begin.into_iter().chain([text.clone()]).collect());
    }
    if rows.is_empty() {
        rows.push(first.into_iter().chain([String::new()]).collect());
    }
    rows
}

fn locked(package: &LockedPackage) -> String {
    let commit = package.source.git().map(|git| format!(" ({})", git.commit.short())).unwrap_or_default();
    let replaced = if package.replaced { ", replaced" } else { "" };
    format!("{}{commit}{replaced}", package.version)
}

/// What became of the release that is locked.
fn about_locked(news: &News<'_>) -> Vec<String> {
    let withdrawn = news.locked.as_ref().and_then(|release| release.withdrawn.as_ref());
    let withdrawn = withdrawn.map(|withdrawal| format!("withdrawn: {}", clean(&withdrawal.reason)));
    let deprecated = news.locked.as_ref().and_then(|release| release.deprecated.as_ref());
    let deprecated = deprecated.map(|deprecation| {
        let instead = deprecation.instead.as_ref().map(|name| format!("; use {name}")).unwrap_or_default();
        format!("deprecated: {}{instead}", clean(&deprecation.reason))
    });
    withdrawn.into_iter().chain(deprecated).map(|text| styled(style::WARNING, text)).collect()
}

/// Who or what keeps a release out, in a line.
fn held_back(holds: &[Hold], facets: &Facets) -> String {
    let hold = |hold: &Hold| match hold {
        Hold::Need { by, at, range } => {
            let at = at.as_ref().map(|at| format!(" {at}")).unwrap_or_default();
            format!("{by}{at} (needs {range})")
        }
        Hold::Unfit { place, fit } => {
            let promise = if place.is_promise { "'s promise" } else { "" };
            let why = words::fit(fit, facets);
            format!("{}{promise} ({})", place.name, why.trim_start_matches("no: "))
        }
    };
    if holds.is_empty() {
        return "held back by what it needs itself: `bibliotax explain` tells".to_owned();
    }
    format!("held back by {}", holds.iter().map(hold).collect::<Vec<_>>().join(", "))
}

fn as_json(Told { news, notes }: &Told<'_>) -> Value {
    let hold = |hold: &Hold| match hold {
        Hold::Need { by, at, range } => json!({ "by": by, "version": at, "range": range }),
        Hold::Unfit { place, fit } => json!({ "target": place.name, "fit": to_json::fit(fit) }),
    };
    let update =
        news.update.as_ref().map(|(version, source)| json!({ "version": version, "source": source }));
    let beyond = news.beyond.as_ref().map(|(version, holds)| {
        json!({ "version": version, "held-back-by": holds.iter().map(hold).collect::<Vec<_>>() })
    });
    let locked = news.locked.as_ref();
    let notes: Vec<Value> =
        notes.iter().map(|(version, text)| json!({ "version": version, "text": text })).collect();
    json!({ "package": news.package.name, "locked": news.package.version, "source": news.package.source,
        "replaced": news.package.replaced, "update": update, "beyond": beyond, "notes": notes,
        "deprecated": locked.and_then(|release| release.deprecated.as_ref()),
        "withdrawn": locked.and_then(|release| release.withdrawn.as_ref()) })
}
