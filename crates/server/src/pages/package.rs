//! The page of a release: summary, fit, needs and dependents, files, and how to declare it.

mod fit;

use std::sync::Arc;

use bibliotax_archive::inspect::ArchivedFile;
use bibliotax_core::card::{Card, CardNeed, Component, FileRecord, MAIN, Step, StepPer, StepWhen};
use bibliotax_core::exposes::joined;
use bibliotax_core::facet::Facets;
use bibliotax_core::history::{History, Release};
use bibliotax_core::name::{ComponentName, PackageName};
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use bibliotax_present::charters;
use bibliotax_present::dates::date;
use bibliotax_present::words;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::layout::file_path;
use bibliotax_registry::model::names::newest;
use bibliotax_registry::model::storage::{ReadRegistry, ReadRegistryExt};
use bibliotax_registry::search::Searcher;
use serde::Serialize;

use self::fit::FitTable;
use super::contents::ContentsCache;
use super::markdown::to_html;
use crate::problem::Problem;

/// Most releases whose notes are shown.
const MAX_NOTES: usize = 5;

/// Most providers of a capability that are listed.
const MAX_PROVIDERS: usize = 200;

/// Most packages that are named of those that need one.
const MAX_NEEDING: usize = 40;

/// What the page shows.
#[derive(Serialize, Default)]
pub struct PackagePage {
    registry: String,
    name: String,
    version: String,
    summary: String,
    /// The description as HTML.
    description: String,
    tags: Vec<String>,
    warnings: Vec<Warning>,
    facts: Vec<Fact>,
    /// Whether this is a package, and no capability.
    is_package: bool,
    /// The line of a manifest and the command that declare it; empty where nobody should.
    line: String,
    command: String,
    needs: Vec<Need>,
    needed_by: Vec<String>,
    needed_by_more: u64,
    providers_more: usize,
    components: Vec<ShownComponent>,
    files: Vec<ShownFile>,
    contents: Vec<ShownContents>,
    steps: Vec<ShownStep>,
    fit: FitTable,
    notes: Vec<Note>,
    /// Of a capability the packages that provide it; then there is nothing else.
    providers: Vec<String>,
}

/// A warning before it is used.
#[derive(Serialize)]
struct Warning {
    what: String,
    why: String,
    /// A package to use instead.
    instead: Option<String>,
}

#[derive(Serialize)]
struct Fact {
    head: &'static str,
    text: String,
    /// Where it leads, if it is a link to the web.
    link: Option<String>,
}

#[derive(Serialize)]
struct Need {
    name: String,
    rest: String,
    /// Whether this registry has it.
    is_here: bool,
}

#[derive(Serialize)]
struct ShownComponent {
    name: String,
    summary: String,
    by_default: bool,
    adds: String,
}

#[derive(Serialize)]
struct ShownFile {
    part: String,
    only_for: String,
    size: String,
    format: String,
    digest: String,
    href: String,
}

/// What is in an archive.
#[derive(Serialize)]
struct ShownContents {
    part: String,
    only_for: String,
    number: String,
    files: Vec<ShownEntry>,
    is_all: bool,
}

#[derive(Serialize)]
struct ShownEntry {
    path: String,
    size: String,
}

#[derive(Serialize)]
struct ShownStep {
    id: String,
    text: String,
    when: String,
}

#[derive(Serialize)]
struct Note {
    version: String,
    published: String,
    text: String,
}

/// Where the page's facts are from.
pub struct Sources<'s> {
    /// The registry.
    pub registry: &'s Arc<dyn ReadRegistry>,
    /// What finds things in it.
    pub searcher: &'s Searcher,
    /// What is in archives.
    pub contents: &'s ContentsCache,
}

/// The page of a package's release, of the newest without a version; `None` if there is none.
pub fn page(
    sources: &Sources<'_>,
    name: &PackageName,
    version: Option<&Version>,
    query: &str,
) -> Result<Option<PackagePage>, Problem> {
    let Sources { registry, searcher, contents } = sources;
    let Some(history) = registry.history(name)? else { return Ok(None) };
    let uses =
        searcher.with(|index| Ok((index.uses(name.as_str())?, index.needed_by(name, MAX_NEEDING)?)))?;
    if !history.providers().is_empty() {
        return Ok(Some(of_capability(&***registry, name, &history, uses)));
    }
    let chosen = match version {
        Some(version) => history.release(version),
        None => newest(&history).or(history.releases().last()),
    };
    let Some(release) = chosen else { return Ok(None) };
    let Some(card) = card(&***registry, release)? else {
        return Err(Problem::broken("the card of this release can't be read", "it isn't a card"));
    };
    let facets = registry.all_facets();
    Ok(Some(
        Told { registry: &***registry, contents, history: &history, release, card: &card, facets: &facets }
            .page(uses, query)?,
    ))
}

fn card(registry: &dyn ReadRegistry, release: &Release) -> Result<Option<Card>, RegistryError> {
    Ok(registry.card_text(&release.entry.card)?.and_then(|text| serde_json::from_str(&text).ok()))
}

/// The line of a manifest that declares a release, with its table where that isn't the one of needs.
fn declared_line(card: &Card) -> String {
    let line = words::manifest_line(&card.name, &card.version);
    if card.charter.is_some() { format!("[charters] {line}") } else { line }
}

fn of_capability(
    registry: &dyn ReadRegistry,
    name: &PackageName,
    history: &History,
    (uses, needed_by): (u64, Vec<PackageName>),
) -> PackagePage {
    PackagePage {
        registry: registry.name().to_owned(),
        name: name.to_string(),
        summary: "A capability: a need of it is met by any of these packages.".to_owned(),
        needed_by_more: uses.saturating_sub(needed_by.len() as u64),
        needed_by: needed_by.iter().map(ToString::to_string).collect(),
        providers_more: history.providers().len().saturating_sub(MAX_PROVIDERS),
        providers: history.providers().iter().take(MAX_PROVIDERS).map(ToString::to_string).collect(),
        ..PackagePage::default()
    }
}

/// What the page tells of.
struct Told<'a> {
    registry: &'a dyn ReadRegistry,
    contents: &'a ContentsCache,
    history: &'a History,
    release: &'a Release,
    card: &'a Card,
    facets: &'a Facets,
}

impl Told<'_> {
    fn page(&self, (uses, needed_by): (u64, Vec<PackageName>), query: &str) -> Result<PackagePage, Problem> {
        let card = self.card;
        let is_withdrawn = self.release.withdrawn.is_some();
        let text = |text: &Option<String>| text.clone().unwrap_or_default();
        Ok(PackagePage {
            registry: self.registry.name().to_owned(),
            name: card.name.to_string(),
            version: card.version.to_string(),
            summary: text(&card.summary),
            description: to_html(&text(&card.description)),
            tags: card.tags.iter().map(ToString::to_string).collect(),
            warnings: self.warnings(),
            facts: self.facts(),
            is_package: true,
            line: if is_withdrawn { String::new() } else { declared_line(card) },
            command: if is_withdrawn { String::new() } else { self.command() },
            needs: card.needs.iter().map(|need| self.need(need)).collect::<Result<_, _>>()?,
            needed_by_more: uses.saturating_sub(needed_by.len() as u64),
            needed_by: needed_by.iter().map(ToString::to_string).collect(),
            providers_more: 0,
            components: card
                .components
                .iter()
                .map(|(name, component)| self.component(name, component))
                .collect(),
            files: card.files.iter().map(file).collect(),
            contents: self.contents(),
            steps: card.steps.iter().map(step).collect(),
            fit: fit::table(self.history, &card.version, self.facets, query),
            notes: self.notes()?,
            providers: Vec::new(),
        })
    }

    /// How to need the package: as it is newest, or from the release on that is shown.
    fn command(&self) -> String {
        let card = self.card;
        if newest(self.history).is_some_and(|release| release.entry.version == card.version) {
            return format!("bibliotax need {}", card.name);
        }
        format!("bibliotax need {} \"{}\"", card.name, Range::from_version(&card.version))
    }

    fn warnings(&self) -> Vec<Warning> {
        let mut warnings = Vec::new();
        if let Some(withdrawn) = &self.release.withdrawn {
            let what = "This release was withdrawn".to_owned();
            let newest =
                newest(self.history).map(|release| format!("{}/{}", self.card.name, release.entry.version));
            warnings.push(Warning { what, why: withdrawn.reason.clone(), instead: newest });
        }
        if let Some(deprecated) = &self.release.deprecated {
            let instead = deprecated.instead.as_ref().map(ToString::to_string);
            warnings.push(Warning { what: "Deprecated".to_owned(), why: deprecated.reason.clone(), instead });
        }
        let newest = newest(self.history).map(|release| &release.entry.version);
        let is_withdrawn = self.release.withdrawn.is_some();
        if let Some(newest) = newest.filter(|newest| **newest != self.card.version && !is_withdrawn) {
            let (what, why) = ("There is another release".to_owned(), format!("the newest is {newest}"));
            warnings.push(Warning { what, why, instead: Some(format!("{}/{newest}", self.card.name)) });
        }
        warnings
    }

    fn facts(&self) -> Vec<Fact> {
        let card = self.card;
        let list = |items: Vec<String>| items.join(", ");
        let license = card.license.as_ref().map_or("not declared".to_owned(), ToString::to_string);
        let provides = card.provides.iter().map(|provided| provided.name.to_string()).collect();
        let conflicts =
            card.conflicts.iter().map(|other| format!("{} {}", other.name, other.range)).collect();
        let programs =
            card.programs.iter().map(|(tool, range)| format!("{} {range}", tool.as_str())).collect();
        let exposes = card.exposes.iter().map(|(role, paths)| format!("{role}: {}", joined(paths))).collect();
        let facts = [
            ("Licence", license),
            ("Published", date(card.published)),
            ("Homepage", card.homepage.clone().unwrap_or_default()),
            ("Repository", card.repository.clone().unwrap_or_default()),
            ("Upstream", list(card.upstream.iter().map(|upstream| upstream.as_str().to_owned()).collect())),
            ("Family", card.family.as_ref().map(ToString::to_string).unwrap_or_default()),
            ("Provides", list(provides)),
            ("Never with", list(conflicts)),
            ("Charter for", card.charter.as_deref().map(charters::stated).unwrap_or_default()),
            ("Programs", list(programs)),
            ("Exposes", list(exposes)),
        ];
        let fact = |(head, text): (&'static str, String)| {
            // Nothing but the web is worth a link: no scripts, no files.
            let is_web = text.starts_with("https://") || text.starts_with("http://");
            Fact { head, link: is_web.then(|| text.clone()), text }
        };
        facts.into_iter().filter(|(_, text)| !text.is_empty()).map(fact).collect()
    }

    fn need(&self, need: &CardNeed) -> Result<Need, RegistryError> {
        let is_here = self.registry.history_stamp(&need.name)?.is_some();
        Ok(Need { name: need.name.to_string(), rest: words::need_beside_name(need), is_here })
    }

    fn component(&self, name: &ComponentName, component: &Component) -> ShownComponent {
        let needs = component.needs.iter().map(|need| format!("needs {}", words::need(need)));
        let parts = component.parts.iter().map(|part| format!("brings {part}"));
        ShownComponent {
            name: name.to_string(),
            summary: component.summary.clone().unwrap_or_default(),
            by_default: component.default,
            adds: needs.chain(parts).collect::<Vec<_>>().join("; "),
        }
    }

    /// What is in the archives that can be looked into.
    fn contents(&self) -> Vec<ShownContents> {
        let shown = |file: &FileRecord| {
            let contents = self.contents.of(self.registry, file)?;
            let entry =
                |file: &ArchivedFile| ShownEntry { path: file.path.clone(), size: words::size(file.size) };
            let only_for = if file.only_for.is_empty() { String::new() } else { words::fits(&file.only_for) };
            let number = words::count(contents.files.len(), "file");
            Some(ShownContents {
                part: file.part.to_string(),
                only_for,
                number: if contents.is_all { number } else { format!("more than {number}") },
                files: contents.files.iter().map(entry).collect(),
                is_all: contents.is_all,
            })
        };
        self.card.files.iter().filter_map(shown).collect()
    }

    /// What the last releases say of what changed.
    fn notes(&self) -> Result<Vec<Note>, Problem> {
        let mut notes = Vec::new();
        for release in self.history.releases().iter().rev().take(MAX_NOTES) {
            let card = card(self.registry, release)?;
            notes.extend(card.and_then(|card| card.notes).map(|text| Note {
                version: release.entry.version.to_string(),
                published: date(release.entry.published),
                text,
            }));
        }
        Ok(notes)
    }
}

fn file(file: &FileRecord) -> ShownFile {
    let digest = file.sha256.to_string();
    ShownFile {
        part: if file.part.as_str() == MAIN { "main".to_owned() } else { file.part.to_string() },
        only_for: words::fits(&file.only_for),
        size: words::size(file.size),
        format: file.format.to_string(),
        href: format!("/{}", file_path(&file.sha256)),
        digest,
    }
}

fn step(step: &Step) -> ShownStep {
    let when = match step.when {
        StepWhen::Install => "after an install",
        StepWhen::Update => "after an update",
    };
    let per = match step.per {
        StepPer::Project => "once per project",
        StepPer::Target => "for each target",
        StepPer::Device => "for each device",
    };
    let only_for = if step.only_for.is_empty() {
        String::new()
    } else {
        format!(", on {}", words::fits(&step.only_for))
    };
    ShownStep { id: step.id.to_string(), text: step.text.clone(), when: format!("{when}, {per}{only_for}") }
}
