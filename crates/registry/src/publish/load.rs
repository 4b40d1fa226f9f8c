//! Loads many cards and events from a file of JSON lines, or one card that people wrote in TOML.
//!
//! A line is an event (it has the key `event`) or a card. A card's files may say `path` instead of digest,
//! size and format: the archive at that path, seen from the file's folder, is then taken in. Either every
//! line is good and all are loaded, or nothing is. What exists already is passed over, so a load that was
//! cut off can be run again.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::ops::{AddAssign, Range};
use std::path::{Path, PathBuf};

use bibliotax_archive::format;
use bibliotax_core::card::{Card, Event, FileRecord, Provider, Revision};
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::facet::Facets;
use bibliotax_core::fault::Fault;
use bibliotax_core::history::{History, without_place};
use bibliotax_core::manifest::read_stated;
use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_disk::remains::clear;
use bibliotax_disk::write::folder_of;
use jiff::Timestamp;
use serde_json::Value;

use crate::model::card_check::check_card;
use crate::model::error::RegistryError;
use crate::model::inspect::{check_all_archives, check_archives};
use crate::model::layout::card_text;
use crate::model::release_status::check_reason;
use crate::model::storage::{ReadRegistryExt, RegistryStorage, WriteRegistryExt};
use crate::model::upstream_archives::UpstreamArchives;
use crate::publish::upstream_archives::Filling;

/// Largest file that is loaded, in bytes.
const MAX_SIZE: usize = 2 << 30;

/// Most faults that are shown at once.
const MAX_FAULTS: usize = 10;

/// What a load did.
#[derive(Debug, Default, Clone, Copy, PartialEq, Eq)]
pub struct Loaded {
    /// Events that were added.
    pub added: usize,
    /// Events that were there already.
    pub already: usize,
    /// Archives that were taken in.
    pub archives: usize,
}

impl AddAssign for Loaded {
    fn add_assign(&mut self, more: Self) {
        self.added += more.added;
        self.already += more.already;
        self.archives += more.archives;
    }
}

/// What is done with cards beside loading them.
#[derive(Clone, Copy, Default)]
pub struct LoadOptions<'o> {
    /// Fetches the archives that cards point at.
    pub upstream: Option<&'o dyn UpstreamArchives>,
    /// Why cards of releases are corrected.
    pub revise: Option<&'o str>,
}

/// A line that reads well: what happened to which package, and where in the text it says so.
struct Line {
    package: PackageName,
    event: Event,
    span: Range<usize>,
}

/// Loads a file into a registry: JSON lines, or a card in TOML, which is published `now` unless it says when; with `dry_run`
/// only checks what would be done. Paths in it are seen from `beside`, without it from its own folder. With `upstream`, archives that
/// cards point at are fetched and checked, and tell what cards don't say of them. With a reason to `revise`, cards of releases that exist
/// are corrections of theirs.
pub fn load(
    registry: &dyn RegistryStorage,
    path: &Path,
    beside: Option<&Path>,
    now: Timestamp,
    dry_run: bool,
    options: &LoadOptions<'_>,
) -> Result<Loaded, RegistryError> {
    options.revise.map_or(Ok(()), check_reason)?;
    clear(&registry.remains()?)?;
    let missing = || DiskError::new("read", path, io::ErrorKind::NotFound.into());
    let text = read_text(path, MAX_SIZE)?.ok_or_else(missing)?;
    let bad = |faults| RegistryError::BadLines { path: path.to_owned(), text: text.clone(), faults };
    let mut loading = Loading {
        registry,
        facets: registry.all_facets(),
        beside: beside.unwrap_or_else(|| folder_of(path)),
        archives: 0,
        dry_run,
        filling: options.upstream.map(Filling::new),
        revise: options.revise,
        now,
    };
    let is_toml = path.extension().is_some_and(|extension| extension == "toml");
    let lines = if is_toml { loading.filled(&text, now) } else { loading.lines(&text) };
    let packages = by_package(lines.map_err(bad)?);
    let lines: usize = packages.values().map(Vec::len).sum();
    let added = check(registry, &packages)?.map_err(bad)?;
    let mut loaded = Loaded { added, already: lines - added, archives: loading.archives };
    if dry_run {
        return Ok(loaded);
    }
    registry.sync()?;
    (loaded.added, loaded.already) = (0, 0);
    let mut names = Vec::new();
    for (package, lines) in packages {
        let wanted = lines.len();
        let added = registry.append(&package, &mut |history| {
            let mut history = history.clone();
            let fits = lines.iter().filter_map(|line| missing_event(&mut history, line).transpose());
            fits.collect::<Result<Vec<Event>, Fault>>().map_err(|fault| bad(vec![fault]))
        })?;
        loaded.added += added;
        loaded.already += wanted - added;
        names.push((package, added > 0));
    }
    // Also what a run that was stopped loaded and didn't list.
    registry.update_name_list_after(names)?;
    Ok(loaded)
}

/// Archives that a line of the file named by their paths.
type Taken = BTreeMap<Digest, TakenArchive>;

struct TakenArchive {
    from: PathBuf,
    /// Whether nobody has looked into it yet.
    is_new: bool,
}

struct Loading<'a> {
    registry: &'a dyn RegistryStorage,
    facets: Facets,
    beside: &'a Path,
    archives: usize,
    dry_run: bool,
    /// Fills in what archives elsewhere tell, where they are fetched.
    filling: Option<Filling<'a>>,
    /// Why cards of releases are corrected, where they may be.
    revise: Option<&'a str>,
    now: Timestamp,
}

impl Loading<'_> {
    fn lines(&mut self, text: &str) -> Result<Vec<Line>, Vec<Fault>> {
        let (mut lines, mut faults) = (Vec::new(), Vec::new());
        let mut start = 0;
        for line in text.split_inclusive('\n') {
            let trimmed = line.trim_end();
            let span = start..start + trimmed.len();
            start += line.len();
            if trimmed.is_empty() || faults.len() == MAX_FAULTS {
                continue;
            }
            match self.line(trimmed) {
                Ok((package, event)) => {
                    lines.extend(provided(&event, &span));
                    lines.push(Line { package, event, span });
                }
                Err(message) => faults.push(Fault::new("registry.bad-line", message, span)),
            }
        }
        if faults.is_empty() { Ok(lines) } else { Err(faults) }
    }

    /// A card that people wrote, with what its archives tell.
    fn filled(&mut self, text: &str, now: Timestamp) -> Result<Vec<Line>, Vec<Fault>> {
        match &mut self.filling {
            Some(filling) => {
                let filled = filling.card(text).map_err(|fault| vec![fault])?;
                // What is wrong in it has its place in the text that people wrote only where nothing was filled in.
                self.stated(&filled, now).map_err(|faults| {
                    let is_same = filled == text;
                    faults
                        .into_iter()
                        .map(|fault| if is_same { fault } else { Fault { span: 0..0, ..fault } })
                        .collect()
                })
            }
            None => self.stated(text, now),
        }
    }

    /// A card that people wrote.
    fn stated(&mut self, text: &str, now: Timestamp) -> Result<Vec<Line>, Vec<Fault>> {
        let stated = read_stated(text)?;
        let span = 0..text.trim_end().len();
        let fault = |message: String| vec![Fault::new("registry.bad-line", message, span.clone())];
        let lacking = |key: &str| fault(format!("the card has no `{key}`"));
        let name = stated.name.clone().ok_or_else(|| lacking("name"))?;
        let version = stated.version.clone().ok_or_else(|| lacking("version"))?;
        // The same card again is the same release, though nobody says when it was published.
        let history = self.registry.history(&name).ok().flatten().unwrap_or_default();
        let before = history.release(&version).map(|release| release.entry.published);
        let mut card = Card::bare(name, version, before.unwrap_or(now));
        stated.laid_over(&mut card);
        let (package, event) = self.release(&card, &Taken::new()).map_err(fault)?;
        let mut lines = provided(&event, &span);
        lines.push(Line { package, event, span: span.clone() });
        Ok(lines)
    }

    fn line(&mut self, line: &str) -> Result<(PackageName, Event), String> {
        let mut value: Value = serde_json::from_str(line).map_err(|error| without_place(&error))?;
        if value.get("event").is_some() {
            return event(value);
        }
        let mut taken = Taken::new();
        if let Some(filling) = &mut self.filling {
            filling.json(&mut value)?;
        }
        for file in value.get_mut("files").and_then(Value::as_array_mut).into_iter().flatten() {
            taken.extend(self.take_in(file)?);
        }
        let card: Card = serde_json::from_value(value).map_err(|error| error.to_string())?;
        self.release(&card, &taken)
    }

    /// A card as a release, once all its files are known to be there or taken.
    fn release(&self, card: &Card, taken: &Taken) -> Result<(PackageName, Event), String> {
        let history = match self.revise {
            Some(_) => self.registry.history(&card.name).map_err(|error| error.to_string())?,
            None => None,
        };
        let there = history.as_ref().and_then(|history| history.release(&card.version));
        let revised = self.revise.zip(there);
        // A correction is of the release that was published then.
        let card = &match revised {
            Some((_, there)) => Card { published: there.entry.published, ..card.clone() },
            None => card.clone(),
        };
        check_card(self.registry.name(), &self.facets, card).map_err(|problem| problem.to_string())?;
        for file in card.files.iter().filter(|file| !file.is_elsewhere()) {
            let is_there = || self.registry.has_file(&file.sha256).map_err(|error| error.to_string());
            if !taken.contains_key(&file.sha256) && !is_there()? {
                return Err(format!(
                    "the registry has no file {}, and there is no `path` to read it from",
                    file.sha256
                ));
            }
        }
        if let Some(filling) = self.filling.as_ref().filter(|filling| filling.has_fetched()) {
            let open = |file: &FileRecord| match filling.open(file) {
                Some(opened) => Ok(Box::new(opened?) as Box<dyn Read + Send>),
                None => self.open(file, taken),
            };
            check_all_archives(card, &std::env::temp_dir(), &open).map_err(|error| error.to_string())?;
        } else if taken.values().any(|archive| archive.is_new) {
            let open = |file: &FileRecord| self.open(file, taken);
            check_archives(card, &std::env::temp_dir(), &open).map_err(|error| error.to_string())?;
        }
        let digest = self.keep_card(card).map_err(|error| error.to_string())?;
        let entry = card.entry(digest);
        let event = match revised {
            Some((reason, there)) if there.entry.card != digest => {
                Event::Revised(Box::new(Revision { entry, reason: reason.to_owned(), at: self.now }))
            }
            _ => Event::Release(Box::new(entry)),
        };
        Ok((card.name.clone(), event))
    }

    /// Replaces a file's `path` by the digest, size and format of the archive there, which is taken in.
    fn take_in(&mut self, file: &mut Value) -> Result<Option<(Digest, TakenArchive)>, String> {
        let Some(path) = file.as_object_mut().and_then(|file| file.remove("path")) else { return Ok(None) };
        let path = path.as_str().ok_or("a file's `path` has to be a text")?.to_owned();
        if file.get("format").is_none() {
            let format = format::of_file(&self.beside.join(&path));
            let format = format.map_err(|error| format!("`{path}` can't be installed: {error}"))?;
            file["format"] = format.to_string().into();
        }
        let (sha256, size, archive) = self.keep(&path).map_err(|error| error.to_string())?;
        self.archives += 1;
        file["sha256"] = sha256.to_string().into();
        file["size"] = size.into();
        Ok(Some((sha256, archive)))
    }

    fn keep_card(&self, card: &Card) -> Result<Digest, RegistryError> {
        let text = card_text(card);
        let digest = Digest::of(text.as_bytes());
        if !self.dry_run && !self.registry.has_file(&digest)? {
            self.registry.keep_unsynced(self.registry.stage_bytes(text.as_bytes())?)?;
        }
        Ok(digest)
    }

    fn keep(&self, path: &str) -> Result<(Digest, u64, TakenArchive), RegistryError> {
        let from = self.beside.join(path);
        let mut source = File::open(&from).at("read", &from)?;
        if self.dry_run {
            let mut hasher = Hasher::default();
            let size = io::copy(&mut source, &mut hasher).at("read", &from)?;
            return Ok((hasher.finish(), size, TakenArchive { from, is_new: true }));
        }
        let mut staged = self.registry.stage()?;
        io::copy(&mut source, &mut staged).at("copy", &from)?;
        // What was only uploaded was not looked into.
        let digest = staged.digest();
        let is_new = !self.registry.has_file(&digest)? || self.registry.unreleased_file(&digest)?.is_some();
        let (digest, size) = self.registry.keep_unsynced(staged)?;
        Ok((digest, size, TakenArchive { from, is_new }))
    }

    fn open(&self, file: &FileRecord, taken: &Taken) -> Result<Box<dyn Read + Send>, RegistryError> {
        match taken.get(&file.sha256) {
            Some(TakenArchive { from, .. }) => Ok(Box::new(File::open(from).at("read", from)?)),
            None => self.registry.open_file(&file.sha256),
        }
    }
}

/// What a release's card adds to the histories of the capabilities that it provides.
fn provided(event: &Event, span: &Range<usize>) -> Vec<Line> {
    let (entry, at) = match event {
        Event::Release(entry) => (&**entry, entry.published),
        Event::Revised(revision) => (&revision.entry, revision.at),
        _ => return Vec::new(),
    };
    let line = |name: &PackageName| Line {
        package: name.clone(),
        event: Event::Provided(Provider { by: entry.name.clone(), at }),
        span: span.clone(),
    };
    entry.provides.iter().map(|provided| line(&provided.name)).collect()
}

/// An event that is no release: a card says releases.
fn event(mut value: Value) -> Result<(PackageName, Event), String> {
    let name = value.as_object_mut().and_then(|event| event.remove("name"));
    let name = name.ok_or("an event needs the `name` of its package")?;
    let package: PackageName = serde_json::from_value(name).map_err(|error| error.to_string())?;
    match serde_json::from_value(value).map_err(|error| error.to_string())? {
        Event::Release(_) | Event::Revised(_) | Event::Provided(_) => {
            Err("a release and what it provides are loaded as a card, without `event`".into())
        }
        event => {
            let reason = match &event {
                Event::Withdrawn(withdrawal) => Some(&withdrawal.reason),
                Event::Deprecated(deprecation) => Some(&deprecation.reason),
                _ => None,
            };
            reason
                .map_or(Ok(()), |reason| check_reason(reason.as_str()))
                .map_err(|error| error.to_string())?;
            Ok((package, event))
        }
    }
}

fn by_package(lines: Vec<Line>) -> BTreeMap<PackageName, Vec<Line>> {
    let mut packages = BTreeMap::<PackageName, Vec<Line>>::new();
    for line in lines {
        packages.entry(line.package.clone()).or_default().push(line);
    }
    packages
}

/// How many lines the registry lacks, before any of them is appended; faults where one can't follow on it.
fn check(
    registry: &dyn RegistryStorage,
    packages: &BTreeMap<PackageName, Vec<Line>>,
) -> Result<Result<usize, Vec<Fault>>, RegistryError> {
    let (mut lacking, mut faults) = (0, Vec::new());
    for (package, lines) in packages {
        let mut history = registry.history(package)?.unwrap_or_default();
        for line in lines {
            match missing_event(&mut history, line) {
                Ok(missing) => lacking += usize::from(missing.is_some()),
                Err(fault) => faults.push(fault),
            }
        }
    }
    faults.truncate(MAX_FAULTS);
    Ok(if faults.is_empty() { Ok(lacking) } else { Err(faults) })
}

/// The event of a line, unless the history has it, which then knows it, too; a fault if it can't follow.
fn missing_event(history: &mut History, line: &Line) -> Result<Option<Event>, Fault> {
    if has(history, &line.event) {
        return Ok(None);
    }
    let followed = history.apply(&line.package, line.event.clone());
    followed.map_err(|message| {
        let is_other_card =
            matches!(&line.event, Event::Release(entry) if history.release(&entry.version).is_some());
        let cure = if is_other_card { " with another card; `--revise REASON` corrects a card" } else { "" };
        Fault::new("registry.bad-line", format!("{}: {message}{cure}", line.package), line.span.clone())
    })?;
    Ok(Some(line.event.clone()))
}

fn has(history: &History, event: &Event) -> bool {
    match event {
        Event::Release(entry) => {
            history.release(&entry.version).is_some_and(|there| there.entry.card == entry.card)
        }
        Event::Withdrawn(withdrawal) => {
            let release = history.release(&withdrawal.version);
            release.is_some_and(|release| release.withdrawn.as_ref() == Some(withdrawal))
        }
        Event::Deprecated(deprecation) => {
            history.releases().iter().any(|release| release.deprecated.as_ref() == Some(deprecation))
        }
        Event::Revised(revision) => history
            .release(&revision.entry.version)
            .is_some_and(|there| there.entry.card == revision.entry.card),
        Event::Provided(provider) => history.providers().contains(&provider.by),
        Event::Restored(_) | Event::Undeprecated(_) => false,
    }
}
