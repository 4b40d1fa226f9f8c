//! Lines of locks that were checked against their cards, so that a machine checks each once.
//!
//! A line is remembered by the digest of its text and of where its registry is. What is made here of cards is remembered as well.

use std::collections::HashSet;
use std::path::PathBuf;

use rusqlite::{Connection, params};

use crate::client::database::{self, Form};
use crate::client::network::Network;

const FORM: Form = Form { number: 1, tables: "CREATE TABLE lines (digest BLOB PRIMARY KEY) WITHOUT ROWID;" };

/// The file's name in the store's memory.
const FILE: &str = "lines.sqlite";

/// The lines that are known.
pub struct CheckedLines {
    path: Option<PathBuf>,
}

/// The digest of a line.
type Key = [u8; 32];

impl CheckedLines {
    /// Those that this machine's store remembers.
    pub fn of(network: &Network) -> Self {
        Self { path: network.memory.as_ref().map(|folder| folder.join(FILE)) }
    }

    /// What a line is remembered by; `place` is where its registry is.
    pub fn key(place: &str, line: &str) -> Key {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&(place.len() as u64).to_le_bytes()).update(place.as_bytes()).update(line.as_bytes());
        *hasher.finalize().as_bytes()
    }

    /// Those of these lines that are known.
    pub fn known(&self, keys: &[Key]) -> HashSet<Key> {
        let database = self.path.as_ref().and_then(|path| database::open(path, FORM));
        // What can't be read is not known, and checked against its card again.
        database.and_then(|database| read(&database, keys).ok()).unwrap_or_default()
    }

    /// Remembers lines. Where that fails, they are checked against their cards the next time.
    pub fn note(&self, keys: &[Key]) {
        let Some(path) = self.path.as_ref().filter(|_| !keys.is_empty()) else { return };
        if let Ok(mut database) = database::made(path, FORM) {
            let _ = write(&mut database, keys);
        }
    }
}

fn read(database: &Connection, keys: &[Key]) -> rusqlite::Result<HashSet<Key>> {
    let mut select = database.prepare("SELECT 1 FROM lines WHERE digest = ?")?;
    let mut known = HashSet::new();
    for key in keys {
        if select.exists([key])? {
            known.insert(*key);
        }
    }
    Ok(known)
}

fn write(database: &mut Connection, keys: &[Key]) -> rusqlite::Result<()> {
    let noting = database.transaction()?;
    {
        let mut insert = noting.prepare("INSERT OR IGNORE INTO lines VALUES (?)")?;
        for key in keys {
            insert.execute(params![key])?;
        }
    }
    noting.commit()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_known_for_its_registry_alone() {
        let folder = tempfile::tempdir().unwrap();
        let lines = CheckedLines::of(&Network { memory: Some(folder.path().into()), ..Network::default() });
        let (one, other) = (CheckedLines::key("a", "line"), CheckedLines::key("b", "line"));
        assert!(lines.known(&[one]).is_empty() && std::fs::read_dir(folder.path()).unwrap().count() == 0);
        lines.note(&[one]);
        lines.note(&[one]);
        assert_eq!(lines.known(&[one, other]), HashSet::from([one]));
        assert_ne!(CheckedLines::key("ab", "c"), CheckedLines::key("a", "bc"));
    }
}
