//! `describe`: all that is known of a package, before it is needed or after.

mod mirrors;
mod parts;
mod sources;

use std::path::Path;

use bibliotax_core::card::Card;
use bibliotax_core::facet::{Facets, Target};
use bibliotax_core::history::Release;
use bibliotax_core::inner_path::joined;
use bibliotax_core::lock::Lock;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Catalogue, Listing};
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use bibliotax_present::words;
use bibliotax_registry::catalogue::everywhere::At;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::catalogue::registry::mirrored::Standing;
use serde_json::json;

use super::need::check_known;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::Project;
use crate::show::{first_few, size, table};
use crate::ui::{Ui, clean, style, styled};
use bibliotax_core::fitting;
use bibliotax_present::json as to_json;

/// Most providers of a capability that are listed for people.
const MOST_PROVIDERS: usize = 50;

/// Most releases that are listed unless all are asked for.
const MOST_RELEASES: usize = 6;

/// Most of the last releases whose notes are told.
const MOST_NOTES: usize = 3;

/// Tell all that is known of a package
///
/// What it is, whether it fits the project's targets, what it needs and brings, its releases, and the line to declare
/// it with. Without a version of the newest release that fits, or the newest there is.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax describe soil-curve\n  bibliotax describe soil-curve 1.7.0\n  bibliotax describe soil-curve --releases"
)]
pub struct Describe {
    /// The package
    #[arg(value_name = "PACKAGE")]
    package: String,
    /// One of its versions
    #[arg(value_name = "VERSION")]
    version: Option<String>,
    /// List all releases
    #[arg(long)]
    releases: bool,
}

impl Describe {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::find(here)?;
        let registries = project.registries(&project.workspace)?;
        let name: PackageName = Failure::read_word(&self.package)?;
        let known = check_known(&registries, &name);
        if known.as_ref().is_err_and(|failure| failure.code == "package.ambiguous") {
            sources::show(ui, &registries.everywhere(&name, None));
        }
        known?;
        let Some(listing) = registries.listing(&name)? else { return Ok(Exit::Done) };
        if !listing.history.providers().is_empty() {
            return Ok(describe_capability(ui, &name, &listing));
        }
        let (places, facets) = (project.workspace.places(), registries.facets());
        let release = self.chosen(&name, &listing, &places, &facets)?;
        let card = registries.card(&listing, release)?;
        let lock = project.sound_lock().ok().flatten();
        let notes = notes(&registries, &listing, release);
        let mirrors = registries.standings(&name, &listing.source);
        let sources = registries.everywhere(&name, card.repository.as_deref());
        registries.heeds().iter().for_each(|heed| ui.warn(heed));
        let (places, facets) = (places.as_slice(), facets.as_ref());
        let described = Described {
            ui,
            listing: &listing,
            release,
            card: &card,
            places,
            facets,
            lock,
            notes: &notes,
            mirrors: &mirrors,
            sources: &sources,
            is_alone: project.workspace.members.len() == 1,
        };
        described.show(self.releases);
        described.report();
        Ok(Exit::Done)
    }

    fn chosen<'l>(
        &self,
        name: &PackageName,
        listing: &'l Listing,
        places: &[Target],
        facets: &Facets,
    ) -> Result<&'l Release, Failure> {
        let releases = listing.history.releases();
        let unknown = |what: String| {
            Failure::new("package.unknown", what)
                .mend(format!("`bibliotax describe {name} --releases` lists all"))
        };
        let Some(word) = &self.version else {
            let newest =
                fitting::newest_fitting(releases, places, facets).or_else(|| fitting::newest(releases));
            return newest
                .or(releases.last())
                .ok_or_else(|| Failure::new("package.unknown", format!("{name} has no release yet")));
        };
        let version: Version = Failure::read_word(word)?;
        listing.history.release(&version).ok_or_else(|| unknown(format!("{name} has no release {version}")))
    }
}

fn describe_capability(ui: &Ui, name: &PackageName, listing: &Listing) -> Exit {
    let providers: Vec<&str> = listing.history.providers().iter().map(PackageName::as_str).collect();
    let told = first_few(&providers, MOST_PROVIDERS);
    ui.answer(format!("{} is a capability, provided by {told}", styled(style::STRONG, name)));
    ui.report("describe", || json!({ "capability": name, "providers": providers }));
    Exit::Done
}

/// What the last releases beside this one say of what changed; nothing where their cards can't be had.
fn notes(registries: &Registries, listing: &Listing, shown: &Release) -> Vec<(Version, String)> {
    let releases = listing.history.releases().iter().rev().take(MOST_NOTES);
    let others = releases.filter(|release| release.entry.version != shown.entry.version);
    let notes = others.filter_map(|release| {
        let card = registries.card(listing, release).ok()?;
        Some((release.entry.version.clone(), card.notes?))
    });
    notes.collect()
}

struct Described<'a> {
    ui: &'a Ui,
    listing: &'a Listing,
    release: &'a Release,
    card: &'a Card,
    places: &'a [Target],
    facets: &'a Facets,
    lock: Option<&'a Lock>,
    /// What the last other releases say of what changed, the newest first.
    notes: &'a [(Version, String)],
    /// Where the registry's mirrors stand with it.
    mirrors: &'a [Standing],
    /// All places that have it.
    sources: &'a [At],
    /// Whether the project is the only one of its workspace.
    is_alone: bool,
}

impl Described<'_> {
    fn show(&self, all_releases: bool) {
        let card = self.card;
        self.ui.answer(format!(
            "{} {}{}",
            styled(style::STRONG, &card.name),
            card.version,
            self.flags(self.release)
        ));
        for text in [&card.summary, &card.description].into_iter().flatten() {
            self.ui.answer(format!("  {}", clean(text)));
        }
        self.ui.answer(String::new());
        self.ui.answer(table(
            self.ui,
            self.facts().into_iter().map(|(head, text)| vec![format!(" {head}"), text]),
        ));
        parts::show_components(self.ui, card);
        parts::show_files(self.ui, card, &self.release.entry, self.places, self.facets);
        parts::show_steps(self.ui, card);
        self.show_releases(all_releases);
        sources::show(self.ui, self.sources);
        mirrors::show(self.ui, self.mirrors);
        if !self.notes.is_empty() {
            self.ui.answer(format!("\n{}", styled(style::STRONG, "what changed")));
            let row = |(version, text): &(Version, String)| vec![format!(" {version}"), clean(text)];
            self.ui.answer(table(self.ui, self.notes.iter().map(row)));
        }
    }

    /// Heads and what stands behind them.
    fn facts(&self) -> Vec<(&'static str, String)> {
        let card = self.card;
        let text = |text: &Option<String>| text.as_deref().map(clean).unwrap_or_default();
        let list = |items: Vec<String>| items.join(", ");
        let needs = card.needs.iter().map(words::need);
        let archive = card.files.iter().filter(|_| parts::is_plain(card));
        let archive = archive.map(|file| format!("{} ({})", size(file.size), file.format));
        let exposes = card.exposes.iter().map(|(role, paths)| format!("{role} {}", joined(paths)));
        let states = card.fits.iter().map(|(facet, value)| format!("{facet} {value}"));
        // What comes from no registry is there because a manifest says so.
        let is_declared = self.listing.source.registry().is_none();
        let facts = [
            (
                "licence",
                card.license.as_ref().map_or("not stated".into(), |license| clean(&license.to_string())),
            ),
            ("published", self.published()),
            ("tags", list(card.tags.iter().map(ToString::to_string).collect())),
            ("homepage", text(&card.homepage)),
            ("repository", text(&card.repository)),
            ("family", card.family.as_ref().map(ToString::to_string).unwrap_or_default()),
            ("needs", list(needs.collect())),
            ("provides", list(card.provides.iter().map(|provided| provided.name.to_string()).collect())),
            ("never with", list(card.conflicts.iter().map(|c| format!("{} {}", c.name, c.range)).collect())),
            (
                "tools",
                list(card.tools.iter().map(|(tool, range)| format!("{} {range}", tool.as_str())).collect()),
            ),
            ("states", list(states.collect())),
            ("fits", self.fits().join("; ")),
            ("archive", list(archive.collect())),
            ("exposes", clean(&list(exposes.collect()))),
            ("new in it", text(&card.notes)),
            ("locked", self.locked().unwrap_or_default()),
            ("manifest", if is_declared { String::new() } else { self.line() }),
            ("command", if is_declared { String::new() } else { format!("bibliotax need {}", card.name) }),
        ];
        facts.into_iter().filter(|(_, text)| !text.is_empty()).collect()
    }

    /// When and where it was published, or where it comes from that nobody published.
    fn published(&self) -> String {
        let source = self.listing.source_of(&self.card.version);
        let date = self.card.published.strftime("%Y-%m-%d");
        match source {
            Source::Path(_) | Source::Archive(_) => format!("not in a registry: {source}"),
            source => format!("{date} in {source}"),
        }
    }

    fn fits(&self) -> Vec<String> {
        let one = |place: &Target| {
            format!(
                "{} {}",
                words::place_name(place, self.is_alone),
                words::fit(&fitting::fit(self.release, place, self.facets), self.facets)
            )
        };
        self.places.iter().map(one).collect()
    }

    fn locked(&self) -> Option<String> {
        Some(self.lock?.package(&self.card.name)?.told_version())
    }

    /// The manifest's line for this release and what is compatible with it.
    fn line(&self) -> String {
        words::manifest_line(&self.card.name, &self.card.version)
    }

    fn flags(&self, release: &Release) -> String {
        let withdrawn = release.withdrawn.as_ref().map(|w| format!(", withdrawn ({})", w.reason));
        let deprecated = release.deprecated.as_ref().map(|d| {
            let instead = d.instead.as_ref().map(|name| format!("; use {name}")).unwrap_or_default();
            format!(", deprecated ({}{instead})", d.reason)
        });
        clean(&withdrawn.into_iter().chain(deprecated).collect::<String>())
    }

    fn show_releases(&self, all: bool) {
        let releases = self.listing.history.releases();
        let most = if all { releases.len() } else { MOST_RELEASES };
        let newest = fitting::newest(releases).map(|release| &release.entry.version);
        let fitting =
            fitting::newest_fitting(releases, self.places, self.facets).map(|release| &release.entry.version);
        let row = |release: &Release| {
            let version = &release.entry.version;
            let mut marks: Vec<String> = Vec::new();
            marks.extend((newest == Some(version)).then(|| "newest".to_owned()));
            let fits_all = fitting == Some(version) && newest != fitting && !self.places.is_empty();
            marks.extend(fits_all.then(|| "newest that fits".to_owned()));
            let misfits = self
                .places
                .iter()
                .filter(|place| words::fit_word(&fitting::fit(release, place, self.facets)) == "no");
            let misfits: Vec<&str> = misfits.map(|place| place.name.as_str()).collect();
            marks.extend((!misfits.is_empty()).then(|| format!("doesn't fit {}", misfits.join(", "))));
            let marks = marks.join(", ") + &self.flags(release);
            let date =
                release.entry.dated().map(|at| at.strftime("%Y-%m-%d").to_string()).unwrap_or_default();
            vec![format!(" {version}"), date, marks.trim_start_matches(", ").to_owned()]
        };
        self.ui.answer(format!("\n{}", styled(style::STRONG, "releases")));
        self.ui.answer(table(self.ui, releases.iter().rev().take(most).map(row)));
        if releases.len() > most {
            self.ui.answer(format!(" and {} older: --releases lists all", releases.len() - most));
        }
    }

    fn report(&self) {
        let fits = self
            .places
            .iter()
            .map(|place| (place.name.clone(), to_json::fit(&fitting::fit(self.release, place, self.facets))));
        let releases = self.listing.history.releases().iter().map(|release| {
            json!({ "version": release.entry.version, "published": release.entry.published,
                "withdrawn": release.withdrawn, "deprecated": release.deprecated,
                "fits": fitting::fits_all(release, self.places, self.facets) })
        });
        self.ui.report(
            "describe",
            || json!({ "card": self.card, "source": self.listing.source,
            "fits": fits.collect::<serde_json::Map<_, _>>(), "releases": releases.collect::<Vec<_>>(),
            "notes": self.notes.iter().map(|(version, text)| json!({ "version": version, "text": text })).collect::<Vec<_>>(),
            "sources": sources::as_json(self.sources), "mirrors": mirrors::as_json(self.mirrors), "manifest": self.line() }),
        );
    }
}
