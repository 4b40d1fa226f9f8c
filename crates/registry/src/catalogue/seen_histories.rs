//! Remembers what registries said, so that vanished or changed events are noticed.
//!
//! A history only grows: what was seen of a package has to be the beginning of what a registry says now, whichever
//! mirror answers for
//! it. It is kept in the store for each registry, apart from the answers that may be thrown away: the length and digest of each
//! history, and its text for telling what became of it. Where the store can't be written, what is in it still counts.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use bibliotax_core::card::Event;
use bibliotax_core::digest::Digest;
use bibliotax_core::name::{PackageName, RegistryName};
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, params};

use crate::client::database::{self, Form};
use crate::client::network::Network;
use crate::model::error::RegistryError;

const FORM: Form = Form {
    number: 1,
    tables: "CREATE TABLE seen (package TEXT PRIMARY KEY, at INTEGER NOT NULL, bytes INTEGER NOT NULL,
        digest BLOB NOT NULL, text BLOB NOT NULL) WITHOUT ROWID;",
};

/// How hard texts are compressed.
const LEVEL: i32 = 1;

/// Largest text that is kept beside its digest, in bytes before compressing.
const MAX_TEXT_SIZE: usize = 8 << 20;

/// Most things that vanished or changed that are shown.
const MAX_TOLD: usize = 5;

/// What one registry said of its packages before.
pub struct SeenHistories {
    registry: RegistryName,
    /// Where it is kept; without a place nothing is known and nothing kept.
    path: Option<PathBuf>,
    /// When what is seen now is seen.
    now: Timestamp,
    /// The packages whose changes are accepted.
    accepted: BTreeSet<PackageName>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// Opened when something is looked up first; nothing where it can't be.
    database: Option<Option<Connection>>,
    /// What is to be noted.
    new: BTreeMap<PackageName, String>,
    /// What was accepted of each package, for people.
    shown: BTreeMap<PackageName, Vec<String>>,
}

/// Whether what happened before has to stand where it stood.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Order {
    /// As it was appended.
    Kept,
    /// In any order: where those who publish at once may write over each other's list until it is complete.
    Any,
}

/// A history as it was seen.
struct Seen {
    at: Timestamp,
    bytes: usize,
    digest: Vec<u8>,
}

impl SeenHistories {
    /// What was seen of the registry at a place.
    pub fn of(registry: &RegistryName, place: &str, network: &Network) -> Self {
        let name = format!("{}.sqlite", Digest::of(place.as_bytes()));
        let path = network.memory.as_ref().map(|folder| folder.join(name));
        let accepted = network.accept_changed.iter().cloned().collect();
        Self { registry: registry.clone(), path, now: network.now, accepted, state: Mutex::default() }
    }

    /// Sees that what was seen of a package is the beginning of its history as it is now; an error that tells what isn't there
    /// any more or is another. `None` is a package that the registry doesn't hold.
    pub fn check(
        &self,
        package: &PackageName,
        text: Option<&str>,
        order: Order,
    ) -> Result<(), RegistryError> {
        let text = text.unwrap_or_default();
        // A last line without its line feed is not there yet.
        let text = &text[..text.rfind('\n').map_or(0, |end| end + 1)];
        let mut state = self.lock();
        let Some(seen) = state.seen(self.path.as_deref(), package) else {
            if !text.is_empty() {
                state.new.insert(package.clone(), text.to_owned());
            }
            return Ok(());
        };
        let is_beginning =
            text.as_bytes().get(..seen.bytes).is_some_and(|beginning| digest(beginning) == seen.digest);
        let before = if is_beginning { String::new() } else { state.text(package).unwrap_or_default() };
        if is_beginning || order == Order::Any && !before.is_empty() && has_all(text, &before) {
            if text.len() > seen.bytes {
                state.new.insert(package.clone(), text.to_owned());
            }
            return Ok(());
        }
        let what = changes(&before, text);
        if self.accepted.contains(package) {
            state.new.insert(package.clone(), text.to_owned());
            state.shown.insert(package.clone(), what);
            return Ok(());
        }
        let (registry, package) = (self.registry.clone(), package.clone());
        Err(RegistryError::ChangedHistory { registry, package, seen: seen.at, what })
    }

    /// Notes what was seen, for the next time. Where that fails, it is noted then.
    pub fn note(&self) {
        let mut state = self.lock();
        let new = std::mem::take(&mut state.new);
        let Some(path) = self.path.as_deref().filter(|_| !new.is_empty()) else { return };
        if let Ok(mut database) = database::made(path, FORM) {
            let _ = write(&mut database, &new, self.now);
            state.database = Some(Some(database));
        }
    }

    /// What was accepted though it changed, for people.
    pub fn accepted(&self) -> Vec<String> {
        let state = self.lock();
        let shown = state.shown.iter();
        shown
            .map(|(package, what)| format!("accepted of {package} in {}: {}", self.registry, what.join("; ")))
            .collect()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl State {
    fn database(&mut self, path: Option<&Path>) -> Option<&Connection> {
        self.database.get_or_insert_with(|| path.and_then(|path| database::open(path, FORM))).as_ref()
    }

    fn seen(&mut self, path: Option<&Path>, package: &PackageName) -> Option<Seen> {
        if let Some(text) = self.new.get(package) {
            // Seen a moment ago, by this very run.
            let digest = digest(text.as_bytes());
            return Some(Seen { at: Timestamp::now(), bytes: text.len(), digest });
        }
        let mut select = self
            .database(path)?
            .prepare_cached("SELECT at, bytes, digest FROM seen WHERE package = ?")
            .ok()?;
        let read = |row: &rusqlite::Row<'_>| {
            let at = Timestamp::from_second(row.get(0)?).unwrap_or(Timestamp::UNIX_EPOCH);
            Ok(Seen { at, bytes: row.get(1)?, digest: row.get(2)? })
        };
        select.query_row([package.as_str()], read).optional().ok().flatten()
    }

    /// The text of a history as it was seen.
    fn text(&mut self, package: &PackageName) -> Option<String> {
        if let Some(text) = self.new.get(package) {
            return Some(text.clone());
        }
        let database = self.database.as_ref()?.as_ref()?;
        let select = "SELECT text FROM seen WHERE package = ?";
        let packed: Vec<u8> = database.query_row(select, [package.as_str()], |row| row.get(0)).ok()?;
        let text = zstd::bulk::decompress(&packed, MAX_TEXT_SIZE).ok()?;
        String::from_utf8(text).ok()
    }
}

fn digest(text: &[u8]) -> Vec<u8> {
    blake3::hash(text).as_bytes().to_vec()
}

fn write(
    database: &mut Connection,
    new: &BTreeMap<PackageName, String>,
    now: Timestamp,
) -> rusqlite::Result<()> {
    let noting = database.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    {
        let mut insert = noting.prepare_cached("INSERT OR REPLACE INTO seen VALUES (?, ?, ?, ?, ?)")?;
        for (package, text) in new {
            let packed = if text.len() <= MAX_TEXT_SIZE {
                zstd::bulk::compress(text.as_bytes(), LEVEL).ok()
            } else {
                None
            };
            let digest = digest(text.as_bytes());
            insert.execute(params![
                package.as_str(),
                now.as_second(),
                text.len(),
                digest,
                packed.unwrap_or_default()
            ])?;
        }
    }
    noting.commit()
}

/// Whether a history has all events of another.
fn has_all(text: &str, before: &str) -> bool {
    let there: HashSet<&str> = text.lines().collect();
    before.lines().all(|line| there.contains(line))
}

/// What of a history isn't there any more, or is another.
fn changes(before: &str, now: &str) -> Vec<String> {
    let there: HashSet<&str> = now.lines().collect();
    let mut shown: Vec<String> = Vec::new();
    let mut more = 0;
    for line in before.lines().filter(|line| !there.contains(line)) {
        if shown.len() == MAX_TOLD {
            more += 1;
        } else {
            shown.push(change(line, now));
        }
    }
    if more > 0 {
        shown.push(format!("and {more} more"));
    }
    if shown.is_empty() {
        shown.push("events are in another order, or something was inserted".to_owned());
    }
    shown
}

/// What became of an event.
fn change(line: &str, now: &str) -> String {
    let Ok(event) = serde_json::from_str::<Event>(line) else { return "an event is gone".to_owned() };
    match event {
        Event::Release(entry) => {
            let later = now.lines().filter_map(|line| serde_json::from_str::<Event>(line).ok());
            let same =
                later.filter_map(|event| if let Event::Release(entry) = event { Some(entry) } else { None });
            let same = same.into_iter().find(|other| other.version == entry.version);
            match same {
                None => format!("the release {} is gone", entry.version),
                Some(other) if other.card != entry.card => {
                    format!(
                        "the release {} has another card ({}, and not {})",
                        entry.version,
                        other.card.short(),
                        entry.card.short()
                    )
                }
                Some(_) => format!("the release {} has changed", entry.version),
            }
        }
        Event::Revised(revision) => format!("a correction of the card of {} is gone", revision.entry.version),
        Event::Withdrawn(withdrawal) => format!("the withdrawal of {} is gone", withdrawal.version),
        Event::Undeprecated(over) => format!("the end of the deprecation of {} is gone", over.range),
        Event::Restored(restored) => format!("the end of the withdrawal of {} is gone", restored.version),
        Event::Deprecated(deprecation) => format!("the deprecation of {} is gone", deprecation.range),
        Event::Provided(provider) => format!("the provider {} is gone", provider.by),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn seen(folder: &Path, accepted: &[&str]) -> SeenHistories {
        let accepted: Vec<PackageName> = accepted.iter().map(|name| name.parse().unwrap()).collect();
        let now = Timestamp::from_second(1_772_355_600).unwrap();
        let network =
            Network { memory: Some(folder.to_owned()), now, accept_changed: accepted, ..Network::default() };
        SeenHistories::of(&"seedhouse".parse().unwrap(), "https://a", &network)
    }

    fn release(version: &str, card: char) -> String {
        let card = card.to_string().repeat(64);
        format!(
            "{{\"event\":\"release\",\"name\":\"moss\",\"version\":\"{version}\",\"published\":\"2026-03-01T08:00:00Z\",\"card\":\"{card}\"}}\n"
        )
    }

    #[test]
    fn a_history_may_grow_and_anything_else_is_told_until_it_is_accepted() {
        let folder = tempfile::tempdir().unwrap();
        let moss: PackageName = "moss".parse().unwrap();
        let withdrawn = "{\"event\":\"withdrawn\",\"version\":\"1.0\",\"reason\":\"x\",\"at\":\"2026-03-02T08:00:00Z\"}\n";
        let (one, two) = (release("1.0", 'a'), release("1.1", 'b'));
        let all = format!("{one}{two}{withdrawn}");
        let check = |text: Option<&str>| {
            let seen = seen(folder.path(), &[]);
            seen.check(&moss, text, Order::Kept).map(|()| seen.note())
        };
        for text in [&one, &format!("{one}{two}"), &all, &format!("{all}{{\"event\"")] {
            check(Some(text)).unwrap();
        }
        let refused = |text: Option<&str>| match check(text) {
            Err(RegistryError::ChangedHistory { what, seen, .. }) => {
                assert_eq!(seen.as_second(), 1_772_355_600);
                what.join("; ")
            }
            other => panic!("{other:?}"),
        };
        assert_eq!(refused(Some(&format!("{one}{two}"))), "the withdrawal of 1.0 is gone");
        assert_eq!(
            refused(None),
            "the release 1.0 is gone; the release 1.1 is gone; the withdrawal of 1.0 is gone"
        );
        let changed = format!("{}{two}{withdrawn}", release("1.0", 'c'));
        assert_eq!(
            refused(Some(&changed)),
            "the release 1.0 has another card (cccccccccccc, and not aaaaaaaaaaaa)"
        );
        let mixed = format!("{two}{one}{withdrawn}");
        assert!(refused(Some(&mixed)).contains("another order"));
        seen(folder.path(), &[]).check(&moss, Some(&mixed), Order::Any).unwrap();
        let accepting = seen(folder.path(), &["moss"]);
        accepting.check(&moss, Some(&changed), Order::Kept).unwrap();
        assert_eq!(accepting.accepted().len(), 1);
        accepting.note();
        check(Some(&changed)).unwrap();
    }

    #[test]
    fn many_processes_note_what_they_see_and_one_without_a_place_notes_nothing() {
        let folder = tempfile::tempdir().unwrap();
        std::thread::scope(|scope| {
            for number in 0..8 {
                let folder = folder.path();
                scope.spawn(move || {
                    let name: PackageName = format!("moss-{number}").parse().unwrap();
                    let seen = seen(folder, &[]);
                    seen.check(&name, Some(&release("1.0", 'a')), Order::Kept).unwrap();
                    seen.note();
                });
            }
        });
        for number in 0..8 {
            let name: PackageName = format!("moss-{number}").parse().unwrap();
            assert!(seen(folder.path(), &[]).check(&name, None, Order::Any).is_err(), "{name}");
        }
        let nowhere = SeenHistories::of(&"seedhouse".parse().unwrap(), "x", &Network::default());
        nowhere.check(&"moss".parse().unwrap(), Some(&release("1.0", 'a')), Order::Kept).unwrap();
    }
}
