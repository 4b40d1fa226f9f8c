//! The resolver by example, against brute force on small universes, and against a general SAT solver on larger ones.

mod brute_force;
mod examples;
mod grown;
mod rules;
mod sat;
mod sentences;
mod taken;
mod updates;

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::sync::Arc;

use super::search::{SearchOptions, resolve_with_options};
use super::{Catalogue, ChosenPackage, Listing, Problem, ProblemNeed, Resolution, Unresolved, resolve};
use crate::facet::{Facet, Facets, FitValue, Target};
use crate::history::History;
use crate::lock::samples::test_source;
use crate::name::{ComponentName, Family, PackageName};
use crate::range::Range;
use crate::rules::Rules;
use crate::version::Version;

/// A registry in memory.
#[derive(Debug, Clone, Default)]
struct Registry(BTreeMap<PackageName, Vec<Published>>);

type Wanted = (PackageName, Range);

/// The one facet of these registries: a ladder of levels.
const LEVEL: &str = "level";

#[derive(Debug, Clone)]
struct Published {
    version: Version,
    needs: Vec<Wanted>,
    conflicts: Vec<Wanted>,
    provides: Vec<PackageName>,
    family: Option<Family>,
    /// The level that it asks for, if it states one.
    level: Option<usize>,
    /// From which level on each of the needs is there, where that matters.
    when: Vec<Option<usize>>,
    /// What each of the needs wants beside the bare package.
    wants: Vec<Wants>,
    components: Vec<TestComponent>,
    /// The levels that it has native files for; none where it has no such files.
    natives: Vec<usize>,
    clause_state: ClauseState,
    license: Option<&'static str>,
}

/// What a need wants of a package.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
struct Wants {
    components: Vec<ComponentName>,
    bare: bool,
}

/// A component of a release; its files are those of the part that is called like it.
#[derive(Debug, Clone)]
struct TestComponent {
    name: ComponentName,
    default: bool,
    needs: Vec<Wanted>,
    natives: Vec<usize>,
}

/// How a release stands today.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ClauseState {
    Satisfied,
    Deprecated,
    Withdrawn,
}

impl Published {
    fn new(version: Version) -> Self {
        let (needs, conflicts, provides, when) = Default::default();
        let (wants, components, natives) = Default::default();
        let (clause_state, family, level) = (ClauseState::Satisfied, None, None);
        Self {
            version,
            needs,
            conflicts,
            provides,
            family,
            level,
            when,
            wants,
            components,
            natives,
            clause_state,
            license: None,
        }
    }

    /// What a need wants beside the bare package.
    fn wants(&self, need: usize) -> Wants {
        self.wants.get(need).cloned().unwrap_or_default()
    }

    /// The files of a release, the part `natives` and one for each component.
    fn files(&self) -> Vec<serde_json::Value> {
        let components =
            self.components.iter().map(|component| (component.name.as_str(), &component.natives));
        let file = |part: &str, level: &usize| {
            let digest = crate::digest::Digest::of(format!("{part} {level}").as_bytes());
            serde_json::json!({ "part": part, "for": { LEVEL: level.to_string() }, "sha256": digest,
                "size": level, "format": "tar" })
        };
        let parts = [("natives", &self.natives)].into_iter().chain(components);
        parts.flat_map(|(part, levels)| levels.iter().map(move |level| file(part, level))).collect()
    }

    /// The level from which on a need is there.
    fn when(&self, need: usize) -> Option<usize> {
        self.when.get(need).copied().flatten()
    }

    fn event(&self, name: &PackageName) -> serde_json::Value {
        let wanted = |all: &[Wanted]| -> Vec<_> {
            all.iter().map(|(n, r)| serde_json::json!({ "name": n, "range": r })).collect()
        };
        let provides: Vec<_> = self.provides.iter().map(|n| serde_json::json!({ "name": n })).collect();
        let said = |level: Option<usize>| level.map(|level| serde_json::json!({ LEVEL: level.to_string() }));
        let mut needs = wanted(&self.needs);
        for (at, need) in needs.iter_mut().enumerate() {
            need["when"] = said(self.when(at)).unwrap_or_else(|| serde_json::json!({}));
            let Wants { components, bare } = self.wants(at);
            (need["components"], need["bare"]) = (serde_json::json!(components), bare.into());
        }
        let component = |component: &TestComponent| {
            let parts = if component.natives.is_empty() { vec![] } else { vec![component.name.clone()] };
            let said = serde_json::json!({ "default": component.default, "needs": wanted(&component.needs),
                "parts": parts });
            (component.name.to_string(), said)
        };
        let components: serde_json::Map<_, _> = self.components.iter().map(component).collect();
        serde_json::json!({ "event": "release", "name": name, "version": self.version,
            "published": "2026-03-01T08:00:00Z", "needs": needs, "components": components, "files": self.files(), "fits": said(self.level).unwrap_or_else(|| serde_json::json!({})), "provides": provides,
            "conflicts": wanted(&self.conflicts), "family": self.family, "license": self.license, "card": crate::digest::Digest::of(b"") })
    }
}

impl Registry {
    fn release(&self, name: &PackageName, version: &Version) -> &Published {
        self.0[name].iter().find(|release| release.version == *version).unwrap()
    }

    /// The packages that provide a capability, by name; none where it is none.
    fn providers(&self, capability: &PackageName) -> Vec<PackageName> {
        let provides = |releases: &Vec<Published>| releases.iter().any(|r| r.provides.contains(capability));
        self.0.iter().filter(|(_, releases)| provides(releases)).map(|(name, _)| name.clone()).collect()
    }

    /// All capabilities that something provides.
    fn capabilities(&self) -> Vec<PackageName> {
        let mut all: Vec<PackageName> = self.0.values().flatten().flat_map(|r| r.provides.clone()).collect();
        all.sort();
        all.dedup();
        all
    }

    /// The events of a name, a line each.
    fn lines(&self, name: &PackageName) -> Option<String> {
        let at = "2026-03-01T08:00:00Z";
        let mut events: Vec<serde_json::Value> = Vec::new();
        for provider in self.providers(name) {
            events.push(serde_json::json!({ "event": "provided", "by": provider, "at": at }));
        }
        if events.is_empty() {
            for release in self.0.get(name)? {
                events.push(release.event(name));
                events.extend(match release.clause_state {
                    ClauseState::Satisfied => None,
                    ClauseState::Withdrawn => Some(serde_json::json!({ "event": "withdrawn",
                        "version": release.version, "reason": "leaks", "at": at })),
                    ClauseState::Deprecated => Some(serde_json::json!({ "event": "deprecated",
                        "range": format!("= {}", release.version), "reason": "slow", "at": at })),
                });
            }
        }
        Some(events.iter().map(|event| format!("{event}\n")).collect())
    }
}

impl Catalogue for Registry {
    type Error = Infallible;

    fn facets(&self) -> Arc<Facets> {
        let levels = (1..=9).map(|level: usize| level.to_string()).collect();
        let mut facets = Facets::default();
        facets.define(&LEVEL.parse().unwrap(), &Facet::Ladder { levels, aliases: BTreeMap::new() }).unwrap();
        Arc::new(facets)
    }

    fn listing(&self, package: &PackageName) -> Result<Option<Arc<Listing>>, Infallible> {
        let Some(lines) = self.lines(package) else { return Ok(None) };
        let history = History::read(package, &lines, None).unwrap();
        Ok(Some(Arc::new(Listing::new(test_source("seedhouse"), history))))
    }
}

/// Rules as a manifest says them.
fn test_rules(text: &str) -> Arc<Rules> {
    let manifest = format!("[project]\nname = \"gate-kiosk\"\n[rules]\n{text}\n");
    crate::manifest::Manifest::read(&manifest).unwrap().rules
}

/// A target at a level.
fn place(name: &str, level: usize) -> Target {
    let values = [(LEVEL.parse().unwrap(), FitValue::One(level.to_string()))].into_iter().collect();
    Target { name: name.to_owned(), values, is_promise: false }
}

/// The level of a target.
fn level_of(place: &Target) -> usize {
    place.values.values().next().unwrap().to_string().parse().unwrap()
}

fn package(text: &str) -> PackageName {
    text.parse().unwrap()
}

/// `"rain-ledger 2.4: dew-point 1, !moss-map .. 2, +frost-alarm, @pergola"` a line: needs, conflicts, capabilities, and
/// the family. A version that ends in `!` is withdrawn, in `~` deprecated; a name alone is a package without releases.
fn registry(lines: &[&str]) -> Registry {
    let mut registry = Registry::default();
    for line in lines {
        let (release, about) = line.split_once(':').unwrap_or((line, ""));
        let (name, version) = release.split_once(' ').unwrap_or((release, ""));
        let releases = registry.0.entry(package(name)).or_default();
        if version.is_empty() {
            continue;
        }
        let mut release = Published::new(version.trim_end_matches(['!', '~']).parse().unwrap());
        release.clause_state = match version.chars().last() {
            Some('!') => ClauseState::Withdrawn,
            Some('~') => ClauseState::Deprecated,
            _ => ClauseState::Satisfied,
        };
        for part in about.split(',').map(str::trim).filter(|part| !part.is_empty()) {
            match part.split_at(1) {
                ("!", conflict) => release.conflicts.push(wanted(conflict)),
                ("+", capability) => release.provides.push(package(capability)),
                ("@", family) => release.family = Some(family.parse().unwrap()),
                _ => release.needs.push(wanted(part)),
            }
        }
        releases.push(release);
    }
    registry
}

fn wanted(text: &str) -> Wanted {
    let (name, range) = text.split_once(' ').unwrap();
    (package(name), range.parse().unwrap())
}

fn problem(needs: &[&str], locked: &[&str]) -> Problem {
    let needs = needs.iter().map(|need| wanted(need));
    let needs = needs.map(|(package, range)| ProblemNeed::new(package, range)).collect();
    let locked = locked.iter().map(|text| text.split_once(' ').unwrap());
    let locked = locked.map(|(name, version)| (package(name), version.parse().unwrap())).collect();
    Problem { needs, locked, ..Problem::of(package("gate-kiosk")) }
}

/// The result of a problem, which every search option has to find.
fn answer(registry: &Registry, problem: &Problem) -> Result<Vec<String>, Vec<String>> {
    let hard_at_once = SearchOptions { probe_after: 0, ..SearchOptions::default() };
    let by_the_way = versions(&resolve_with_options(problem, registry, hard_at_once));
    let resolved = resolve(problem, registry);
    assert_eq!(by_the_way, versions(&resolved), "a search that is hard at once finds the same");
    match resolved {
        Ok(_) => Ok(by_the_way.unwrap_or_default()),
        Err(Unresolved::Conflict(conflict)) => {
            Err(conflict.facts.into_iter().chain([conflict.clash]).map(|sentence| sentence.text).collect())
        }
        Err(Unresolved::Catalogue(never)) => match never {},
        Err(Unresolved::GaveUp(_) | Unresolved::Open(_)) => panic!("nobody gave up"),
    }
}

/// The releases chosen, as `name version`.
fn versions<E>(resolved: &Result<Resolution, E>) -> Option<Vec<String>> {
    let text = |p: &ChosenPackage| format!("{} {}", p.release.entry.name, p.release.entry.version);
    resolved.as_ref().ok().map(|resolution| resolution.packages.iter().map(text).collect())
}
