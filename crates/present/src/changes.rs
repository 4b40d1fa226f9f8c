//! The difference of two locks, as rows of a table.

use std::collections::{BTreeSet, HashMap};

use bibliotax_core::compare::{Aspect, Change, Kind};
use bibliotax_core::lock::{Lock, LockedPackage, NeedGraph, RUN, Reached};
use bibliotax_core::name::{ComponentName, PackageName};
use bibliotax_core::source::Source;

use crate::terminal::{Look, clean, style, styled};
use crate::words::size;

/// Most new packages that have a row each where nobody asked for them; of more, only what projects need themselves.
const MAX_ADDED: usize = 100;

/// The changes of a lock, as they are shown where nobody asked for each of them.
pub struct Summary {
    /// A row for each change that is worth it.
    pub rows: Vec<Vec<String>>,
    /// How many changes have no row.
    pub left: usize,
}

/// The changes that are worth a row each: all, unless very many packages are new.
pub fn summary(changes: &[Change<'_>], lock: &Lock) -> Summary {
    let needers = Needers::of(lock);
    let (added, others): (Vec<_>, Vec<_>) = changes.iter().partition(|change| change.kind == Kind::Added);
    let is_shown = |change: &&Change<'_>| added.len() <= MAX_ADDED || needers.is_direct(change.package());
    let mut shown = others;
    shown.extend(added.iter().copied().filter(is_shown).take(MAX_ADDED));
    shown.sort_by_key(|change| &change.package().name);
    let left = changes.len() - shown.len();
    Summary { rows: shown.into_iter().map(|change| row(change, &needers)).collect(), left }
}

/// A row for each change.
pub fn rows(changes: &[Change<'_>], lock: &Lock) -> Vec<Vec<String>> {
    let needers = Needers::of(lock);
    changes.iter().map(|change| row(change, &needers)).collect()
}

/// What became of a package, in a word.
pub fn word(kind: &Kind) -> &'static str {
    match kind {
        Kind::Added => "added",
        Kind::Gone => "gone",
        Kind::Raised => "raised",
        Kind::Lowered => "lowered",
        Kind::Changed => "changed",
    }
}

/// How that word looks.
pub fn look(kind: &Kind) -> Look {
    match kind {
        Kind::Added | Kind::Raised => style::GOOD,
        Kind::Gone | Kind::Lowered => style::WARNING,
        Kind::Changed => style::BAD,
    }
}

/// `2 added, 1 raised`.
pub fn tally(changes: &[Change<'_>]) -> String {
    let kinds = [Kind::Added, Kind::Gone, Kind::Raised, Kind::Lowered, Kind::Changed];
    let counted = kinds.iter().filter_map(|kind| {
        let number = changes.iter().filter(|change| change.kind == *kind).count();
        (number > 0).then(|| format!("{number} {}", word(kind)))
    });
    counted.collect::<Vec<_>>().join(", ")
}

fn row(change: &Change<'_>, needers: &Needers<'_>) -> Vec<String> {
    let package = change.package();
    let versions = match (change.old, change.new) {
        (Some(old), Some(new)) if old.version != new.version => format!("{} -> {}", old.version, new.version),
        _ => package.version.to_string(),
    };
    let license = package.license.as_ref().map_or_else(|| "licence not declared".into(), ToString::to_string);
    vec![
        format!(" {}", styled(look(&change.kind), word(&change.kind))),
        package.name.to_string(),
        versions,
        where_or_size(package),
        clean(&license),
        reason(change, needers),
    ]
}

/// What a package weighs, or the folder where it is used.
fn where_or_size(package: &LockedPackage) -> String {
    match package.source.path() {
        Some(folder) => format!("in {folder}"),
        None if package.files.is_empty() => "no files".into(),
        None => size(package.size()),
    }
}

fn reason(change: &Change<'_>, needers: &Needers<'_>) -> String {
    let name = &change.package().name;
    if change.kind == Kind::Gone {
        return "nothing needs it".into();
    }
    let purposes = needers.purposes(name).filter(|purposes| !purposes.contains(&RUN));
    let purposes = purposes.map(|purposes| format!(", for {}", purposes.join(" and "))).unwrap_or_default();
    let purposes = purposes + &wishes(change) + &from(change) + &others(change);
    if needers.is_direct(change.package()) {
        return format!("needed {}{purposes}", needers.here(change.package()));
    }
    match needers.needing(name) {
        [] => purposes,
        [one] => format!("needed by {one}{purposes}"),
        [one, rest @ ..] => format!("needed by {one} and {} more{purposes}", rest.len()),
    }
}

/// Where a package comes from, where that is worth a word: it is no registry, or it was another before.
fn from(change: &Change<'_>) -> String {
    let package = change.package();
    let has_moved = change.old.zip(change.new).is_some_and(|(old, new)| old.source != new.source);
    match &package.source {
        Source::Path(_) if !package.stood_in => String::new(),
        Source::Registry(_) if !has_moved => String::new(),
        source if package.stood_in => format!(", stand-in: {source}"),
        source => {
            // Of the same version, the commit before says what it is that moved.
            let is_same_version = change.old.is_some_and(|old| old.version == package.version);
            let before = change.old.filter(|_| has_moved && is_same_version).and_then(|old| old.source.git());
            let before = before.map(|git| format!(", before {}", git.commit.short())).unwrap_or_default();
            format!(", from {source}{before}")
        }
    }
}

/// What of a package is another at the same version, where nothing else shows it.
fn others(change: &Change<'_>) -> String {
    if change.kind != Kind::Changed {
        return String::new();
    }
    differing(&change.aspects()).map(|words| format!(", {words}")).unwrap_or_default()
}

/// What else differs of a package: `other licence and needs`; nothing where these aspects say nothing that its source doesn't.
pub fn differing(aspects: &[Aspect]) -> Option<String> {
    let word = |aspect: &Aspect| match aspect {
        // Another commit has other files.
        Aspect::Contents if aspects.contains(&Aspect::Source) => None,
        Aspect::License => Some("licence"),
        Aspect::Contents => Some("files"),
        Aspect::Steps => Some("steps"),
        Aspect::Exposes => Some("exposed paths"),
        Aspect::Needs => Some("needs"),
        Aspect::Source | Aspect::Components | Aspect::Card => None,
    };
    let words: Vec<&str> = aspects.iter().filter_map(word).collect();
    match words.as_slice() {
        [] if aspects == [Aspect::Card] => Some("other card".to_owned()),
        [] => None,
        words => Some(format!("other {}", words.join(" and "))),
    }
}

/// What a package is taken for, with which of its components, and what of its needs is left out.
fn wishes<'l>(change: &Change<'l>) -> String {
    let list = |before: &str, names: Vec<&str>| {
        if names.is_empty() { String::new() } else { format!(", {before} {}", names.join(" and ")) }
    };
    let package = change.package();
    let packages = |names: &'l [PackageName]| names.iter().map(PackageName::as_str).collect();
    list("as", packages(&package.provides))
        + &list("with", package.components.iter().map(ComponentName::as_str).collect())
        + &list("without", packages(&package.left_out))
}

/// The projects and packages that need each package of a lock, worked out once for many questions.
pub struct Needers<'l> {
    lock: &'l Lock,
    packages: HashMap<&'l PackageName, Vec<&'l PackageName>>,
    /// The projects that need each name themselves, by their numbers in the lock.
    projects: HashMap<&'l PackageName, BTreeSet<usize>>,
    reached: Reached<'l>,
}

impl<'l> Needers<'l> {
    /// Those of a lock.
    pub fn of(lock: &'l Lock) -> Self {
        let mut packages: HashMap<&PackageName, Vec<&PackageName>> = HashMap::new();
        for package in &lock.packages {
            package.needs.iter().for_each(|need| packages.entry(need).or_default().push(&package.name));
        }
        let mut projects: HashMap<&PackageName, BTreeSet<usize>> = HashMap::new();
        for (number, project) in lock.projects.iter().enumerate() {
            for need in &project.needs {
                projects.entry(&need.name).or_default().insert(number);
            }
        }
        let reached = NeedGraph::of(lock).reached(&lock.projects.iter().collect::<Vec<_>>(), &[]);
        Self { lock, packages, projects, reached }
    }

    /// The packages that need this one, by name.
    pub fn needing(&self, name: &PackageName) -> &[&'l PackageName] {
        self.packages.get(name).map_or(&[], Vec::as_slice)
    }

    /// What a package is needed for.
    fn purposes(&self, name: &PackageName) -> Option<Vec<&'l str>> {
        let at = self.lock.packages.binary_search_by(|package| package.name.cmp(name)).ok()?;
        Some(self.reached.get(&at)?.iter().copied().collect())
    }

    /// The projects that need a package itself, or a capability that it was taken for.
    fn projects(&self, package: &LockedPackage) -> BTreeSet<usize> {
        let names = std::iter::once(&package.name).chain(&package.provides);
        names.filter_map(|name| self.projects.get(name)).flatten().copied().collect()
    }

    /// Whether a project needs a package itself, or a capability that it is used for.
    pub fn is_direct(&self, package: &LockedPackage) -> bool {
        !self.projects(package).is_empty()
    }

    /// By which projects a package is needed itself.
    fn here(&self, package: &LockedPackage) -> String {
        let projects = self.projects(package).into_iter();
        let projects: Vec<&PackageName> = projects.map(|number| &self.lock.projects[number].name).collect();
        match (self.lock.projects.len(), projects.as_slice()) {
            (1, _) | (_, []) => "here".to_owned(),
            (all, projects) if projects.len() == all => "by all projects".to_owned(),
            (_, [one]) => format!("by {one}"),
            (_, [one, rest @ ..]) => format!("by {one} and {} more", rest.len()),
        }
    }
}
