//! What `describe` shows.

mod mirrors;
mod parts;
pub mod sources;

use bibliotax_app::describe::Described;
use bibliotax_core::exposes::joined;
use bibliotax_core::facet::Target;
use bibliotax_core::fitting;
use bibliotax_core::history::{CardRevision, Release};
use bibliotax_core::name::PackageName;
use bibliotax_core::package_url::PackageUrl;
use bibliotax_core::source::Source;
use bibliotax_core::upstream::UpstreamVersion;
use bibliotax_core::version::Version;
use bibliotax_present::charters;
use bibliotax_present::dates::{date, dated};
use bibliotax_present::words::{self, first_few, size};
use jiff::Timestamp;

use crate::json::describe::{Capability, Description};
use crate::ui::{Ui, clean, style, styled};

/// Most providers of a capability that are listed for people.
const MAX_PROVIDERS: usize = 50;

/// Most releases that are listed unless all are asked for.
const MAX_RELEASES: usize = 6;

/// Shows a capability.
pub fn show_capability(ui: &Ui, name: &PackageName, providers: &[PackageName]) {
    let shown: Vec<&str> = providers.iter().map(PackageName::as_str).collect();
    let shown = first_few(&shown, MAX_PROVIDERS);
    ui.answer(format!("{} is a capability, provided by {shown}", styled(style::STRONG, name)));
    ui.report(|| {
        Description::Capability(Capability { capability: name.clone(), providers: providers.to_vec() })
    });
}

/// Shows a package with one of its releases; with all of them listed, if asked to.
pub fn show(ui: &Ui, described: &Described, all_releases: bool, now: Timestamp) {
    super::warnings(ui, &described.warnings);
    let (card, release) = (&described.card, described.release());
    ui.answer(format!("{} {}{}", styled(style::STRONG, &card.name), card.version, flags(release)));
    for text in [&card.summary, &card.description].into_iter().flatten() {
        ui.answer(format!("  {}", clean(text)));
    }
    ui.answer(String::new());
    ui.answer(ui.table(facts(described, now).into_iter().map(|(head, text)| vec![format!(" {head}"), text])));
    parts::show_components(ui, card);
    parts::show_files(ui, card, &release.entry, &described.places, &described.facets);
    parts::show_steps(ui, card);
    show_releases(ui, described, all_releases);
    sources::show(ui, &described.sources);
    mirrors::show(ui, &described.mirrors, now);
    if !described.notes.is_empty() {
        ui.answer(format!("\n{}", styled(style::STRONG, "what changed")));
        let row = |(version, text): &(Version, String)| vec![format!(" {version}"), clean(text)];
        ui.answer(ui.table(described.notes.iter().map(row)));
    }
    ui.report(|| Description::Package(Box::new(described.into())));
}

/// Heads and what stands behind them.
fn facts(described: &Described, now: Timestamp) -> Vec<(&'static str, String)> {
    // What comes from no registry is there because a manifest says so.
    let is_declared = described.listing().source.registry().is_none();
    let (name, version) = (&described.card.name, &described.card.version);
    let under = if described.card.charter.is_some() { "[charters] " } else { "" };
    let line = format!("{under}{}", words::manifest_line(name, version));
    let how_to_declare = [("manifest", line), ("command", format!("bibliotax need {name}"))];
    let how_to_declare = how_to_declare.into_iter().filter(|_| !is_declared);
    let facts = about_card(described, now).into_iter().chain(about_use(described)).chain(how_to_declare);
    facts.filter(|(_, text)| !text.is_empty()).collect()
}

/// What the card says.
fn about_card(described: &Described, now: Timestamp) -> Vec<(&'static str, String)> {
    let card = &described.card;
    let text = |text: &Option<String>| text.as_deref().map(clean).unwrap_or_default();
    let license = card.license.as_ref();
    vec![
        ("licence", license.map_or("not declared".into(), |license| clean(&license.to_string()))),
        ("published", published(described, now)),
        ("corrected", corrections(described, now)),
        ("tags", list(card.tags.iter())),
        ("homepage", text(&card.homepage)),
        ("upstream's version", clean(card.upstream_version.as_ref().map_or("", UpstreamVersion::as_str))),
        ("upstream", clean(&card.upstream.iter().map(PackageUrl::as_str).collect::<Vec<_>>().join(", "))),
        ("repository", text(&card.repository)),
        ("family", card.family.as_ref().map(ToString::to_string).unwrap_or_default()),
        ("needs", list(card.needs.iter().map(words::need))),
        ("provides", list(card.provides.iter().map(|provided| &provided.name))),
        ("never with", list(card.conflicts.iter().map(|c| format!("{} {}", c.name, c.range)))),
        ("charter", card.charter.as_deref().map(charters::stated).unwrap_or_default()),
        ("programs", list(card.programs.iter().map(|(tool, range)| format!("{} {range}", tool.as_str())))),
        ("declares", list(card.fits.iter().map(|(facet, value)| format!("{facet} {value}")))),
    ]
}

/// How it goes with the project.
fn about_use(described: &Described) -> Vec<(&'static str, String)> {
    let card = &described.card;
    let archive = card.files.iter().filter(|_| parts::is_plain(card));
    let exposes = card.exposes.iter().map(|(role, paths)| format!("{role} {}", joined(paths)));
    vec![
        ("fits", fits(described).join("; ")),
        ("archive", list(archive.map(|file| format!("{} ({})", size(file.size), file.format)))),
        ("exposes", clean(&list(exposes))),
        ("new in it", card.notes.as_deref().map(clean).unwrap_or_default()),
        ("locked", described.locked.clone().unwrap_or_default()),
    ]
}

fn list<T: ToString>(items: impl Iterator<Item = T>) -> String {
    items.map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}

/// When and where it was published, or where it comes from that nobody published.
fn published(described: &Described, now: Timestamp) -> String {
    let source = described.listing().source_of(&described.card.version);
    let date = dated(described.card.published, now);
    match source {
        Source::Path(_) | Source::Archive(_) => format!("not in a registry: {source}"),
        source => format!("{date} in {source}"),
    }
}

/// When and why its card was corrected.
fn corrections(described: &Described, now: Timestamp) -> String {
    let one = |revision: &CardRevision| {
        Some(format!("{}: {}", dated(revision.at, now), clean(revision.reason.as_deref()?)))
    };
    let mut all: Vec<String> = described.release().revisions.iter().filter_map(one).collect();
    if described.locks_earlier_card {
        let command = format!("`bibliotax update {}`", described.card.name);
        all.push(format!("the lock has the card before; {command} takes this one"));
    }
    all.join("; ")
}

fn fits(described: &Described) -> Vec<String> {
    let (release, facets) = (described.release(), &described.facets);
    let one = |place: &Target| {
        let fit = words::fit(&fitting::fit(release, place, facets), facets);
        format!("{} {fit}", words::place_name(place, described.is_alone))
    };
    described.places.iter().map(one).collect()
}

fn flags(release: &Release) -> String {
    let withdrawn = release.withdrawn.as_ref().map(|w| format!(", withdrawn ({})", w.reason));
    let deprecated = release.deprecated.as_ref().map(|d| {
        let instead = d.instead.as_ref().map(|name| format!("; use {name}")).unwrap_or_default();
        format!(", deprecated ({}{instead})", d.reason)
    });
    clean(&withdrawn.into_iter().chain(deprecated).collect::<String>())
}

fn show_releases(ui: &Ui, described: &Described, all: bool) {
    let releases = described.listing().history.releases();
    let most = if all { releases.len() } else { MAX_RELEASES };
    let newest = fitting::newest(releases).map(|release| &release.entry.version);
    let fitting = fitting::newest_fitting(releases, &described.places, &described.facets);
    let fitting = fitting.map(|release| &release.entry.version);
    let row = |release: &Release| {
        let version = &release.entry.version;
        let is_best = fitting == Some(version) && newest != fitting && !described.places.is_empty();
        let marks = [(newest == Some(version), "newest"), (is_best, "newest that fits")];
        let marks = marks.iter().filter(|(is_so, _)| *is_so).map(|(_, mark)| (*mark).to_owned());
        let marks: Vec<String> = marks.chain(misfits(described, release)).collect();
        let marks = marks.join(", ") + &flags(release) + &advisories(described, version);
        let date = release.entry.dated().map(date);
        vec![format!(" {version}"), date.unwrap_or_default(), marks.trim_start_matches(", ").to_owned()]
    };
    ui.answer(format!("\n{}", styled(style::STRONG, "releases")));
    ui.answer(ui.table(releases.iter().rev().take(most).map(row)));
    if releases.len() > most {
        ui.answer(format!(" and {} older ones; `--releases` lists all", releases.len() - most));
    }
}

/// The advisories that affect a release, and those that it is the first not to be affected by.
fn advisories(described: &Described, version: &Version) -> String {
    let affected = described
        .affecting(version)
        .map(|one| format!(", affected by {} ({})", one.advisory.id, one.severity));
    let fixed = described.fixed_by(version).map(|one| format!(", fixes {}", one.advisory.id));
    affected.chain(fixed).collect()
}

/// The places that a release doesn't fit.
fn misfits(described: &Described, release: &Release) -> Option<String> {
    let facets = &described.facets;
    let is_misfit = |place: &&Target| words::fit_word(&fitting::fit(release, place, facets)) == "no";
    let misfits = described.places.iter().filter(is_misfit);
    let misfits: Vec<&str> = misfits.map(|place| place.name.as_str()).collect();
    (!misfits.is_empty()).then(|| format!("doesn't fit {}", misfits.join(", ")))
}
