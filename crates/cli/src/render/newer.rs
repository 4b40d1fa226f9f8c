//! What `newer` shows.

use bibliotax_app::newer::{CharterNews, PackageNews, Report};
use bibliotax_core::facet::Facets;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::newer::{Hold, Newer as News};
use bibliotax_present::dates::date;
use bibliotax_present::table::Table;
use bibliotax_present::words::{self, count};
use bibliotax_registry::catalogue::all_sources::At;

use crate::json;
use crate::ui::{Ui, clean, style, styled};

/// Shows what is newer.
pub fn show(ui: &Ui, report: &Report<'_>) {
    super::warnings(ui, &report.warnings);
    report.charters.iter().for_each(|news| show_charter(ui, news));
    if !report.packages.is_empty() || report.charters.is_empty() {
        show_packages(ui, report);
    }
    show_next(ui, report);
    if !report.unknown.is_empty() {
        let names: Vec<&str> = report.unknown.iter().map(PackageName::as_str).collect();
        ui.say(format!("not known, since they come from archives: {}", names.join(", ")));
    }
    report.upstream.iter().for_each(|(package, at)| show_upstream(ui, package, at));
    report.why_stuck().iter().for_each(|stuck| ui.warn(stuck));
    ui.report(|| json::newer::Newer::of(report));
}

/// Says which newer releases a charter has.
fn show_charter(ui: &Ui, news: &CharterNews) {
    let CharterNews { name, locked, update, beyond, notes } = news;
    let update = update.as_ref().map(|update| format!("update {}", styled(style::GOOD, update)));
    let beyond = beyond.as_ref().map(|beyond| format!("newest {beyond}, beyond its range"));
    let versions = update.into_iter().chain(beyond).collect::<Vec<_>>().join("; ");
    ui.answer(format!("charter {name} {locked}: {versions}"));
    notes.iter().for_each(|(version, text)| ui.answer(format!("  {version}: {}", clean(text))));
}

/// Says what upstream has that can't be had here yet.
fn show_upstream(ui: &Ui, package: &PackageName, at: &At) {
    match &at.newest {
        Ok(newest) => {
            let date = newest.published.map(|at| format!(" ({})", date(at))).unwrap_or_default();
            ui.answer(format!(
                "{package}: upstream has {}{date}, which its registry doesn't have yet",
                newest.version
            ));
        }
        Err(why) => ui.warn(format!("{package}: its upstream can't be asked: {}", clean(why))),
    }
}

fn show_packages(ui: &Ui, report: &Report<'_>) {
    let shown = &report.packages;
    if shown.is_empty() {
        ui.answer(match report.asked {
            0 => "no package matches".to_owned(),
            some if report.unknown.len() == some => format!("no updates known of {}", count(some, "package")),
            some => {
                let known = some - report.unknown.len();
                format!("no updates: {} at the newest release", count(known, "package"))
            }
        });
        return;
    }
    let head = ["", "locked", "update", "newest", ""].map(|text| styled(style::FAINT, text));
    let head: Vec<&str> = head.iter().map(String::as_str).collect();
    let rows = shown.iter().flat_map(|shown| rows(shown, &report.facets));
    ui.answer(ui.lines_of(&Table::of(rows).headed(&head)));
}

/// Names the command that comes next.
fn show_next(ui: &Ui, report: &Report<'_>) {
    let packages = report.packages.iter().filter(|shown| shown.news.update.is_some()).count();
    let charters = report.charters.iter().filter(|news| news.update.is_some()).count();
    let parts = [(packages, "package"), (charters, "charter")];
    let parts = parts.into_iter().filter(|(number, _)| *number > 0);
    let parts: Vec<String> = parts.map(|(number, what)| count(number, what)).collect();
    if !parts.is_empty() {
        ui.say(format!("next: `bibliotax update` updates {}", parts.join(" and ")));
    } else if !report.packages.is_empty() {
        ui.say("`bibliotax update --beyond --dry-run` shows how to go beyond the ranges");
    }
}

/// The rows of one package: versions, then a row for each further thing that is shown.
fn rows(PackageNews { news, notes }: &PackageNews<'_>, facets: &Facets) -> Vec<Vec<String>> {
    let package = news.package;
    let update = update_version(news);
    let beyond = news.beyond.as_ref().map(|(version, _)| version.to_string());
    let mut about: Vec<String> =
        about_locked(news).into_iter().map(|text| styled(style::WARNING, clean(&text))).collect();
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

/// What an update of everything moves a package to, where that is another.
pub fn update_version(news: &News<'_>) -> Option<String> {
    let (version, source) = news.update.as_ref()?;
    Some(match source.git() {
        Some(git) if *version == news.package.version => git.commit.short().to_owned(),
        None if *version == news.package.version => format!("{version}, its card"),
        _ => version.to_string(),
    })
}

fn locked(package: &LockedPackage) -> String {
    let commit = package.source.git().map(|git| format!(" ({})", git.commit.short())).unwrap_or_default();
    let stand_in = if package.stood_in { ", stand-in" } else { "" };
    format!("{}{commit}{stand_in}", package.version)
}

/// What became of the release that is locked.
pub fn about_locked(news: &News<'_>) -> Vec<String> {
    let withdrawn = news.locked.as_ref().and_then(|release| release.withdrawn.as_ref());
    let withdrawn = withdrawn.map(|withdrawal| format!("withdrawn: {}", withdrawal.reason));
    let deprecated = news.locked.as_ref().and_then(|release| release.deprecated.as_ref());
    let deprecated = deprecated.map(|deprecation| {
        let instead = deprecation.instead.as_ref().map(|name| format!("; use {name}")).unwrap_or_default();
        format!("deprecated: {}{instead}", deprecation.reason)
    });
    let affected = news.advisories.iter().map(|(affecting, fixed)| {
        let fixed = fixed.as_ref().map_or("not fixed yet".to_owned(), |fixed| format!("fixed in {fixed}"));
        format!("affected by {}, {}: {fixed}", affecting.advisory.id, affecting.severity)
    });
    let corrected = news.corrections.iter().filter_map(|one| one.reason.as_deref());
    let corrected = corrected.map(|reason| format!("its card was corrected: {reason}"));
    withdrawn.into_iter().chain(deprecated).chain(affected).chain(corrected).collect()
}

/// Who or what keeps a release out, in a line.
pub fn held_back(holds: &[Hold], facets: &Facets) -> String {
    let hold = |hold: &Hold| match hold {
        Hold::Need { by, at, range } => {
            let at = at.as_ref().map(|at| format!(" {at}")).unwrap_or_default();
            format!("{by}{at} (needs {range})")
        }
        Hold::Charter { release, range } => format!("the charter {release} (allows {range})"),
        Hold::Unfit { place, fit } => {
            let promise = if place.is_promise { "'s promise" } else { "" };
            let why = words::fit(fit, facets);
            format!("{}{promise} ({})", place.name, why.trim_start_matches("no: "))
        }
        Hold::Fixed { at } => format!("the manifest (takes {})", clean(at)),
        Hold::Refused { rules, why } => {
            let said = why.strip_prefix(rules.as_str()).unwrap_or(why).trim_start();
            clean(&format!("{rules} ({said})"))
        }
    };
    if holds.is_empty() {
        return "held back by its own needs; see `bibliotax explain`".to_owned();
    }
    format!("held back by {}", holds.iter().map(hold).collect::<Vec<_>>().join(", "))
}
