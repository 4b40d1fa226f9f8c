//! A local search database of a registry's list of names.
//!
//! The database follows the list: it knows how far it has read, and what stood just before, so that it reads on where the
//! list only grew and starts over where it didn't. It can be thrown away at any time.

use std::collections::{HashMap, HashSet};
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::time::Duration;

use bibliotax_core::name::{PackageName, Tag};
use bibliotax_core::upstream::UpstreamVersion;
use bibliotax_disk::DiskError;
use bibliotax_disk::write::{folder_of, make_folder};
use rusqlite::{Connection, ErrorCode, OptionalExtension, Transaction, params};

use super::spelling;
use crate::model::error::RegistryError;
use crate::model::names::{Named, TAIL, read_lines, whole_frames};

/// What the tables look like; a database of another form is made again.
const FORM: i64 = 1;

/// How much of the list is read at once, in bytes.
const CHUNK_SIZE: usize = 4 << 20;

/// How much of the database is kept in memory, in KiB.
const CACHE: i64 = 64 << 10;

/// Most packages whose uses are counted before they are written.
const MAX_COUNTED: usize = 200_000;

/// How long to wait for another process that brings the database up to date.
const LOCK_TIMEOUT: Duration = Duration::from_secs(300);

const TABLES: &str = "
    CREATE TABLE state (read_up_to INTEGER NOT NULL, tail BLOB NOT NULL);
    INSERT INTO state VALUES (0, x'');
    CREATE TABLE packages (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, line TEXT NOT NULL);
    CREATE TABLE needs (needed TEXT NOT NULL, by_id INTEGER NOT NULL, PRIMARY KEY (needed, by_id)) WITHOUT ROWID;
    CREATE TABLE uses (name TEXT PRIMARY KEY, count INTEGER NOT NULL) WITHOUT ROWID;
    CREATE INDEX uses_by_count ON uses (count);
    CREATE VIRTUAL TABLE words USING fts5 (name, tags, summary, content='', contentless_delete=1,
        tokenize='unicode61');
    INSERT INTO words (words, rank) VALUES ('hashsize', 16777216);
    CREATE TABLE terms (id INTEGER PRIMARY KEY, term TEXT NOT NULL UNIQUE);
    CREATE TABLE grams (gram TEXT NOT NULL, term_id INTEGER NOT NULL, PRIMARY KEY (gram, term_id)) WITHOUT ROWID;
";

/// The database of one registry's names.
pub struct Index {
    pub(super) database: Connection,
    path: PathBuf,
}

/// How far a list was read.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ReadUpTo {
    /// The bytes that were read.
    pub bytes: u64,
    /// The last of them.
    pub tail: Vec<u8>,
}

/// The packages whose names are in a part of the alphabet, those that most need first: of very many, the first ones, so that the answer
/// to a letter or two is as quick as any.
const BY_NAME: &str = "SELECT line FROM
    (SELECT name, line FROM packages WHERE name >= ? AND name < ? ORDER BY name LIMIT 2000) LEFT JOIN uses USING (name)
    ORDER BY count DESC, name LIMIT ?";

/// The packages whose names have these words.
const BY_WORD: &str = "SELECT line FROM words JOIN packages ON packages.id = words.rowid LEFT JOIN uses ON uses.name = packages.name
    WHERE words MATCH ? ORDER BY count DESC, packages.name LIMIT ?";

impl ReadUpTo {
    /// Where to read on, so that what was read last comes once more and can be compared.
    pub fn from(&self) -> u64 {
        self.bytes - self.tail.len() as u64
    }
}

impl Index {
    /// Opens the database at a path, or makes it.
    pub fn open(path: &Path) -> Result<Self, RegistryError> {
        make_folder(folder_of(path))?;
        match Self::prepared(path) {
            Ok(index) => Ok(index),
            // Somebody else is making it, for longer than anybody waits.
            Err(error) if error.sqlite_error_code() == Some(ErrorCode::DatabaseBusy) => {
                Err(broken(path, &error))
            }
            // Torn by a power cut, or of another form: all that is in it can be read again.
            Err(_) => {
                remove(path);
                Self::prepared(path).map_err(|error| broken(path, &error))
            }
        }
    }

    fn prepared(path: &Path) -> rusqlite::Result<Self> {
        let mut database = Connection::open(path)?;
        database.busy_timeout(LOCK_TIMEOUT)?;
        database.pragma_update(None, "journal_mode", "wal")?;
        database.pragma_update(None, "synchronous", "normal")?;
        database.pragma_update(None, "cache_size", -CACHE)?;
        // Who only reads waits for nobody who writes.
        if form_of(&database)? == FORM {
            return Ok(Self { database, path: path.to_owned() });
        }
        let making = database.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
        match form_of(&making)? {
            FORM => {}
            0 => {
                making.execute_batch(TABLES)?;
                making.pragma_update(None, "user_version", FORM)?;
            }
            _ => return Err(rusqlite::Error::InvalidQuery),
        }
        making.commit()?;
        Ok(Self { database, path: path.to_owned() })
    }

    /// How far the list was read.
    pub fn read_up_to(&self) -> Result<ReadUpTo, RegistryError> {
        let read = |row: &rusqlite::Row<'_>| Ok(ReadUpTo { bytes: row.get(0)?, tail: row.get(1)? });
        self.tried(self.database.query_row("SELECT read_up_to, tail FROM state", [], read))
    }

    /// Reads on in a list that begins at [`ReadUpTo::from`]; `false` where it is not the one that was read before, whose
    /// database then is empty.
    pub fn read_on(&mut self, since: &ReadUpTo, mut list: impl Read) -> Result<bool, RegistryError> {
        let wrong = |path: &Path, error| DiskError::new("read the list of names for", path, error);
        let path = self.path.clone();
        let mut tail = vec![0; since.tail.len()];
        let is_same = list.read_exact(&mut tail).is_ok() && tail == since.tail;
        if !is_same {
            self.begin_anew()?;
            return Ok(false);
        }
        let mut open = Vec::new();
        let mut more = fill(&mut open, &mut list).map_err(|error| wrong(&path, error))?;
        if open.is_empty() {
            return Ok(true);
        }
        let adding = self.database.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate);
        let adding = adding.map_err(|error| broken(&path, &error))?;
        let now: u64 = adding
            .query_row("SELECT read_up_to FROM state", [], |row| row.get(0))
            .map_err(|error| broken(&path, &error))?;
        if now != since.bytes {
            // Another process read on meanwhile.
            return Ok(true);
        }
        let mut read = since.clone();
        let mut noting = Noting { adding: &adding, seen: HashSet::new(), uses: HashMap::new() };
        loop {
            let whole = whole_frames(&open);
            let mut failed = Ok(());
            read_lines(&open[..whole], |named| {
                if failed.is_ok() {
                    failed = noting.note(&named);
                }
            });
            failed.map_err(|error| broken(&path, &error))?;
            read.bytes += whole as u64;
            read.tail.extend_from_slice(&open[..whole]);
            read.tail.drain(..read.tail.len().saturating_sub(TAIL as usize));
            open.drain(..whole);
            if !more {
                break;
            }
            more = fill(&mut open, &mut list).map_err(|error| wrong(&path, error))?;
        }
        noting.flush_uses().map_err(|error| broken(&path, &error))?;
        let set = adding.execute("UPDATE state SET read_up_to = ?, tail = ?", params![read.bytes, read.tail]);
        set.and_then(|_| adding.commit()).map_err(|error| broken(&path, &error))?;
        Ok(true)
    }

    /// Forgets all that was read.
    pub fn begin_anew(&mut self) -> Result<(), RegistryError> {
        let path = self.path.clone();
        // The place is taken by an empty database.
        self.database = Connection::open_in_memory().map_err(|error| broken(&path, &error))?;
        remove(&path);
        *self = Self::prepared(&path).map_err(|error| broken(&path, &error))?;
        Ok(())
    }

    /// How many packages need one, in their newest releases.
    pub fn uses(&self, name: &str) -> Result<u64, RegistryError> {
        let count = "SELECT count FROM uses WHERE name = ?";
        let count = self.database.query_row(count, [name], |row| row.get(0)).optional();
        Ok(self.tried(count)?.unwrap_or(0))
    }

    /// The packages whose newest releases need one: so many of them, those that are needed most first.
    pub fn needed_by(&self, name: &PackageName, most: usize) -> Result<Vec<PackageName>, RegistryError> {
        let names = "SELECT packages.name FROM needs JOIN packages ON packages.id = needs.by_id
            LEFT JOIN uses ON uses.name = packages.name
            WHERE needs.needed = ? ORDER BY uses.count DESC NULLS LAST, packages.name LIMIT ?";
        let all = || {
            let mut select = self.database.prepare(names)?;
            let rows =
                select.query_map(params![name.as_str(), most as i64], |row| row.get::<_, String>(0))?;
            rows.collect::<rusqlite::Result<Vec<String>>>()
        };
        Ok(self.tried(all())?.iter().filter_map(|name| name.parse().ok()).collect())
    }

    /// What is known of the packages whose names, or the parts of them behind a scope, begin with a text: those that most packages
    /// need first.
    pub fn beginning_with(&self, text: &str, most: usize) -> Result<Vec<Named>, RegistryError> {
        // Between a text and the one behind all that begin with it; no name has this letter.
        let (from, to) = (text.to_owned(), format!("{text}\u{7f}"));
        let words = text.split(['/', '-']).filter(|word| !word.is_empty());
        let words: Vec<String> = words.map(|word| format!("\"{}\"", word.replace('"', ""))).collect();
        let mut lines = self.lines_of(BY_NAME, params![from, to, most])?;
        // Whoever doesn't know the scope finds a package by the words of its name.
        if lines.len() < most && !words.is_empty() {
            let matching = format!("name : {} *", words.join(" + "));
            let more = self.lines_of(BY_WORD, params![matching, most])?;
            let missing: Vec<String> = more.into_iter().filter(|line| !lines.contains(line)).collect();
            lines.extend(missing);
        }
        lines.truncate(most);
        Ok(lines.iter().filter_map(|line| serde_json::from_str(line).ok()).collect())
    }

    fn lines_of(&self, query: &str, with: impl rusqlite::Params) -> Result<Vec<String>, RegistryError> {
        let mut asked = self.tried(self.database.prepare_cached(query))?;
        let lines = self.tried(asked.query_map(with, |row| row.get(0)))?;
        self.tried(lines.collect())
    }

    /// How many names there are.
    pub fn len(&self) -> Result<u64, RegistryError> {
        self.tried(self.database.query_row("SELECT count(*) FROM packages", [], |row| row.get(0)))
    }

    /// Whether there is no name.
    pub fn is_empty(&self) -> Result<bool, RegistryError> {
        Ok(self.len()? == 0)
    }

    pub(super) fn tried<T>(&self, result: rusqlite::Result<T>) -> Result<T, RegistryError> {
        result.map_err(|error| broken(&self.path, &error))
    }
}

/// The form of a database; 0 of one that is empty.
fn form_of(database: &Connection) -> rusqlite::Result<i64> {
    database.pragma_query_value(None, "user_version", |row| row.get(0))
}

/// Takes lines in.
struct Noting<'t> {
    adding: &'t Transaction<'t>,
    /// Words whose spelling is known.
    seen: HashSet<String>,
    /// By how much more or fewer packages need each.
    uses: HashMap<PackageName, i64>,
}

impl Noting<'_> {
    /// Takes in what a line says, in place of what an earlier one said.
    fn note(&mut self, named: &Named) -> rusqlite::Result<()> {
        let (adding, name) = (self.adding, named.name.as_str());
        let known = "SELECT id, line FROM packages WHERE name = ?";
        let read = |row: &rusqlite::Row<'_>| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?));
        let known = adding.prepare_cached(known)?.query_row([name], read).optional()?;
        // Texts: nothing that could fail to be JSON.
        let line = serde_json::to_string(named).unwrap_or_default();
        let id = match known {
            Some((id, before)) => {
                adding
                    .prepare_cached("UPDATE packages SET line = ? WHERE id = ?")?
                    .execute(params![line, id])?;
                adding.prepare_cached("DELETE FROM words WHERE rowid = ?")?.execute([id])?;
                let before = serde_json::from_str::<Named>(&before).map(|named| named.needs);
                self.count_uses(id, &before.unwrap_or_default(), -1)?;
                id
            }
            None => {
                let insert = "INSERT INTO packages (name, line) VALUES (?, ?)";
                adding.prepare_cached(insert)?.insert(params![name, line])?
            }
        };
        self.count_uses(id, &named.needs, 1)?;
        let words = words_of_name(name);
        let tags: Vec<&str> = named.tags.iter().map(Tag::as_str).collect();
        let upstream_version = named.upstream_version.as_ref().map_or("", UpstreamVersion::as_str);
        let summary = format!("{} {upstream_version}", named.summary.as_deref().unwrap_or_default());
        let tags = tags.join(" ");
        let insert = "INSERT INTO words (rowid, name, tags, summary) VALUES (?, ?, ?, ?)";
        adding.prepare_cached(insert)?.execute(params![id, words, tags, summary])?;
        spelling::learn(adding, &[&words, &tags, &summary], &mut self.seen)
    }

    fn count_uses(&mut self, id: i64, needs: &[PackageName], by: i64) -> rusqlite::Result<()> {
        let link = if by > 0 {
            "INSERT OR IGNORE INTO needs VALUES (?, ?)"
        } else {
            "DELETE FROM needs WHERE needed = ? AND by_id = ?"
        };
        for need in needs {
            self.adding.prepare_cached(link)?.execute(params![need.as_str(), id])?;
            *self.uses.entry(need.clone()).or_default() += by;
        }
        if self.uses.len() > MAX_COUNTED { self.flush_uses() } else { Ok(()) }
    }

    fn flush_uses(&mut self) -> rusqlite::Result<()> {
        let count = "INSERT INTO uses VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET count = count + ?2";
        let mut count = self.adding.prepare_cached(count)?;
        // In the order in which they are kept, so that neighbours are written together.
        let mut uses: Vec<(PackageName, i64)> = self.uses.drain().collect();
        uses.sort_unstable();
        for (name, by) in uses.into_iter().filter(|(_, by)| *by != 0) {
            count.execute(params![name.as_str(), by])?;
        }
        Ok(())
    }
}

/// A name's words, and those of its segments written as one.
fn words_of_name(name: &str) -> String {
    let words = name.replace(['/', '-'], " ");
    let joined =
        name.split('/').filter(|segment| segment.contains('-')).map(|segment| segment.replace('-', ""));
    joined.fold(words, |words, joined| words + " " + &joined)
}

/// Reads on until there is enough for at least one frame; whether there may be more.
fn fill(open: &mut Vec<u8>, list: &mut impl Read) -> io::Result<bool> {
    // A frame that is larger than a piece is read whole before it counts.
    let wanted = open.len() + CHUNK_SIZE;
    let read = list.take((wanted - open.len()) as u64).read_to_end(open)?;
    Ok(read == CHUNK_SIZE)
}

/// Removes a database with what stands beside it.
fn remove(path: &Path) {
    for ending in ["", "-wal", "-shm"] {
        let mut beside = path.as_os_str().to_owned();
        beside.push(ending);
        // What can't be removed is met when it is opened.
        let _ = std::fs::remove_file(beside);
    }
}

fn broken(path: &Path, error: &rusqlite::Error) -> RegistryError {
    DiskError::new("use the index", path, io::Error::other(error.to_string())).into()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_by_their_beginning_those_that_are_needed_most_first() {
        let folder = tempfile::tempdir().unwrap();
        let mut index = Index::open(&folder.path().join("names.sqlite")).unwrap();
        let line = |name: &str, needs: &str| {
            format!("{{\"name\":\"{name}\",\"newest\":\"1.0\",\"needs\":[{needs}]}}\n")
        };
        let lines = [
            line("moss-map", ""),
            line("moss-bed", "\"moss-map\""),
            line("garden/moss-walk", "\"moss-map\""),
            line("mossy", ""),
            line("rain-ledger", "\"moss-bed\""),
        ];
        let list = crate::model::names::frames(lines.concat().as_bytes()).unwrap();
        assert!(index.read_on(&ReadUpTo::default(), &list[..]).unwrap());
        let found = |text: &str, most: usize| -> Vec<String> {
            index.beginning_with(text, most).unwrap().iter().map(|named| named.name.to_string()).collect()
        };
        // Behind those that begin with it come those that have it behind a scope.
        assert_eq!(found("moss", 9), ["moss-map", "moss-bed", "mossy", "garden/moss-walk"]);
        assert_eq!(found("moss", 2), ["moss-map", "moss-bed"]);
        assert_eq!(found("moss-w", 9), ["garden/moss-walk"]);
        assert_eq!(found("garden/", 9), ["garden/moss-walk"]);
        assert_eq!(found("rain-ledger", 9), ["rain-ledger"]);
        assert_eq!(found("", 9).len(), 5);
        assert!(found("\"* OR", 9).is_empty() && found("zinc", 9).is_empty());
    }

    #[test]
    fn who_searches_waits_for_nobody_who_reads_the_list_on() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("names.sqlite");
        let mut writer = Index::open(&path).unwrap();
        let list = crate::model::names::frames(b"{\"name\":\"moss-map\",\"newest\":\"1.0\"}\n").unwrap();
        assert!(writer.read_on(&ReadUpTo::default(), &list[..]).unwrap());
        let writing = writer.database.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate);
        let writing = writing.unwrap();
        writing.execute("DELETE FROM packages", []).unwrap();
        // It would wait for minutes, and then start over, if it wanted to write.
        assert_eq!(Index::open(&path).unwrap().len().unwrap(), 1);
        drop(writing);
        assert_eq!(writer.len().unwrap(), 1);
    }
}
