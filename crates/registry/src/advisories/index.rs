//! The index of a feed: which of its records are about which package, in a small database that can be deleted at any time.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use bibliotax_core::advisory::{Advisory, Key, read};
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, params};

use super::records::{self, Positioned, RecordPlace};
use crate::client::database::{self, Form};
use crate::model::mutex::lock;

const FORM: Form = Form {
    number: 1,
    tables: "
        CREATE TABLE feed (stamp TEXT NOT NULL, looked INTEGER NOT NULL);
        CREATE TABLE records (number INTEGER PRIMARY KEY, id TEXT NOT NULL, place TEXT NOT NULL);
        CREATE TABLE keys (key TEXT NOT NULL, number INTEGER NOT NULL);
        CREATE TABLE faults (name TEXT NOT NULL, why TEXT NOT NULL);",
};

/// Most records that can't be read of which it is remembered why.
const MAX_FAULTS: usize = 100;

/// How many bytes of an index are mapped.
const MAX_MAPPED: i64 = 1 << 30;

/// A record that can't be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordFault {
    /// Its name in the feed.
    pub name: String,
    /// Why.
    pub why: String,
}

/// The index of a feed that is on this machine.
pub struct Index {
    database: Mutex<Connection>,
    /// What it is the index of.
    path: PathBuf,
    /// The same, open, where it is an archive.
    file: Option<Positioned>,
}

impl Index {
    /// Opens the index of a feed, if it was made when the feed had this stamp.
    pub fn open(place: &Path, path: &Path, stamp: &str) -> Option<Self> {
        let database = database::open(place, FORM)?;
        let made_of: String = database.query_row("SELECT stamp FROM feed", [], |row| row.get(0)).ok()?;
        if made_of == stamp { Self::of(database, path).ok() } else { None }
    }

    fn of(database: Connection, path: &Path) -> rusqlite::Result<Self> {
        // It is never written again, only replaced. So it is locked once and not for each of thousands of questions, and it is mapped.
        database.pragma_update(None, "locking_mode", "exclusive")?;
        database.pragma_update(None, "mmap_size", MAX_MAPPED)?;
        let file = if path.is_file() { Positioned::open(path).ok() } else { None };
        Ok(Self { database: Mutex::new(database), path: path.to_owned(), file })
    }

    /// When all files of the feed were last looked at, and its stamp then.
    pub fn looked(place: &Path) -> Option<(Timestamp, String)> {
        let database = database::open(place, FORM)?;
        let found =
            database.query_row("SELECT looked, stamp FROM feed", [], |row| Ok((row.get(0)?, row.get(1)?)));
        let (at, stamp): (i64, String) = found.optional().ok()??;
        Some((Timestamp::from_second(at).ok()?, stamp))
    }

    /// Reads a feed into a new index, which takes the place of any that is there.
    pub fn make(place: &Path, path: &Path, stamp: &str, now: Timestamp) -> Result<Self, IndexError> {
        let folder = bibliotax_disk::write::folder_of(place);
        bibliotax_disk::write::make_folder(folder).map_err(|error| IndexError::Io(error.source))?;
        let new = tempfile::Builder::new().prefix(bibliotax_disk::temporary::TEMPORARY).tempdir_in(folder)?;
        let file = new.path().join("index");
        {
            let mut database = database::made(&file, FORM)?;
            // It is made again where it is torn, so nothing is waited for.
            database.pragma_update(None, "synchronous", "off")?;
            database.pragma_update(None, "journal_mode", "off")?;
            fill(&mut database, path, stamp, now)?;
        }
        std::fs::rename(&file, place)?;
        let database = database::open(place, FORM).ok_or_else(|| io::Error::other("the index vanished"))?;
        Ok(Self::of(database, path)?)
    }

    /// The records that any of these keys names, but for those that were withdrawn.
    pub fn records(&self, keys: &[Key]) -> Result<Vec<Advisory>, IndexError> {
        let places = self.places(keys)?;
        let mut found = Vec::with_capacity(places.len());
        for place in places {
            let text = records::text(&self.path, self.file.as_ref(), &place)?;
            // It was readable when it was put there; what changed since is read at the next look.
            found.extend(read(&text).ok().flatten());
        }
        Ok(found)
    }

    /// The record of this name.
    pub fn named(&self, name: &str) -> Result<Option<Advisory>, IndexError> {
        let place: Option<String> = {
            let database = lock(&self.database);
            let asked = "SELECT place FROM records WHERE id = ?1";
            database.query_row(asked, [name], |row| row.get(0)).optional()?
        };
        let Some(place) = place else { return Ok(None) };
        let place = serde_json::from_str(&place).map_err(io::Error::other)?;
        Ok(read(&records::text(&self.path, self.file.as_ref(), &place)?).ok().flatten())
    }

    fn places(&self, keys: &[Key]) -> Result<Vec<RecordPlace>, IndexError> {
        let database = lock(&self.database);
        let asked = "SELECT place FROM records JOIN keys USING (number) WHERE key = ?1 ORDER BY number";
        let mut statement = database.prepare_cached(asked)?;
        let mut places: Vec<RecordPlace> = Vec::new();
        for key in keys {
            let rows = statement.query_map([key.as_str()], |row| row.get::<_, String>(0))?;
            for row in rows {
                let place = serde_json::from_str(&row?).map_err(io::Error::other)?;
                if !places.contains(&place) {
                    places.push(place);
                }
            }
        }
        Ok(places)
    }

    /// How many records there are, and those that can't be read.
    pub fn summary(&self) -> (usize, Vec<RecordFault>) {
        let database = lock(&self.database);
        let count = database.query_row("SELECT count(*) FROM records", [], |row| row.get(0)).unwrap_or(0);
        let faults = database.prepare("SELECT name, why FROM faults").and_then(|mut statement| {
            let rows =
                statement.query_map([], |row| Ok(RecordFault { name: row.get(0)?, why: row.get(1)? }))?;
            rows.collect::<rusqlite::Result<Vec<_>>>()
        });
        (count, faults.unwrap_or_default())
    }
}

fn fill(database: &mut Connection, path: &Path, stamp: &str, now: Timestamp) -> Result<(), IndexError> {
    let filling = database.transaction()?;
    {
        let mut add = filling.prepare("INSERT INTO records VALUES (?1, ?2, ?3)")?;
        let mut name = filling.prepare("INSERT INTO keys VALUES (?1, ?2)")?;
        let mut blame = filling.prepare("INSERT INTO faults VALUES (?1, ?2)")?;
        let (mut number, mut faults) = (0_i64, 0);
        let mut take = |batch: Vec<records::Found>| -> rusqlite::Result<()> {
            for found in batch {
                match found.brief {
                    Err(why) if faults < MAX_FAULTS => {
                        faults += 1;
                        blame.execute([&found.name, &why])?;
                    }
                    Err(_) => faults += 1,
                    Ok(brief) => {
                        number += 1;
                        // Names and numbers: nothing in it can fail to be JSON.
                        let place = serde_json::to_string(&found.place).unwrap_or_default();
                        add.execute(params![number, brief.id, place])?;
                        brief
                            .keys
                            .iter()
                            .try_for_each(|key| name.execute(params![key.as_str(), number]).map(drop))?;
                    }
                }
            }
            Ok(())
        };
        records::each(path, &mut |batch| take(batch).map_err(io::Error::other))?;
    }
    filling.execute("CREATE INDEX by_key ON keys (key)", [])?;
    filling.execute("CREATE INDEX by_id ON records (id)", [])?;
    filling.execute("INSERT INTO feed VALUES (?1, ?2)", params![stamp, now.as_second()])?;
    filling.commit()?;
    Ok(())
}

/// Why there is no index.
#[derive(Debug, thiserror::Error)]
pub enum IndexError {
    /// A file can't be read or written.
    #[error("{0}")]
    Io(#[from] io::Error),
    /// The database can't be read or written.
    #[error("{0}")]
    Database(#[from] rusqlite::Error),
}
