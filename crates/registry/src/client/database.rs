//! Small databases in the store: opened if they exist, created when there is something to remember.
//!
//! They are kept with a rollback journal, so that a store that this user may only read can still be read. One that is torn or of
//! another form is made again.

use std::path::Path;
use std::time::Duration;

use bibliotax_disk::folder::Folder;
use bibliotax_disk::write::folder_of;
use rusqlite::{Connection, ErrorCode, OpenFlags, TransactionBehavior};

/// How long to wait for another process that writes.
const LOCK_TIMEOUT: Duration = Duration::from_secs(10);

/// What a database's tables are.
#[derive(Debug, Clone, Copy)]
pub struct Form {
    /// The number of this form.
    pub number: i64,
    /// The statements that make the tables.
    pub tables: &'static str,
}

/// Opens a database to read it, if there is one of this form.
pub fn open(path: &Path, form: Form) -> Option<Connection> {
    let database = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY).ok()?;
    database.busy_timeout(LOCK_TIMEOUT).ok()?;
    (number_of(&database).ok()? == form.number).then_some(database)
}

/// Opens a database to write it, and makes it if there is none.
pub fn made(path: &Path, form: Form) -> rusqlite::Result<Connection> {
    // Where the folder can't be made, neither can the database.
    let _ = Folder::make(folder_of(path));
    match prepared(path, form) {
        Err(error)
            if matches!(
                error.sqlite_error_code(),
                Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt | ErrorCode::Unknown)
            ) =>
        {
            // What can't be removed is met when it is opened.
            let _ = std::fs::remove_file(path);
            prepared(path, form)
        }
        made => made,
    }
}

fn prepared(path: &Path, form: Form) -> rusqlite::Result<Connection> {
    let mut database = Connection::open(path)?;
    database.busy_timeout(LOCK_TIMEOUT)?;
    database.pragma_update(None, "synchronous", "normal")?;
    if number_of(&database)? == form.number {
        return Ok(database);
    }
    let making = database.transaction_with_behavior(TransactionBehavior::Immediate)?;
    match number_of(&making)? {
        there if there == form.number => {}
        0 => {
            making.execute_batch(form.tables)?;
            making.pragma_update(None, "user_version", form.number)?;
        }
        // Of another form: made again.
        _ => {
            return Err(rusqlite::Error::SqliteFailure(
                rusqlite::ffi::Error::new(rusqlite::ffi::SQLITE_NOTADB),
                None,
            ));
        }
    }
    making.commit()?;
    Ok(database)
}

fn number_of(database: &Connection) -> rusqlite::Result<i64> {
    database.pragma_query_value(None, "user_version", |row| row.get(0))
}

#[cfg(test)]
mod tests {
    use super::*;

    const FORM: Form = Form { number: 1, tables: "CREATE TABLE t (a INTEGER);" };

    #[test]
    fn a_database_is_made_when_it_is_written_and_made_anew_when_it_is_torn_or_of_another_form() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/t.sqlite");
        assert!(open(&path, FORM).is_none() && !path.exists());
        made(&path, FORM).unwrap().execute("INSERT INTO t VALUES (7)", []).unwrap();
        let read =
            |form| open(&path, form)?.query_row("SELECT a FROM t", [], |row| row.get::<_, i64>(0)).ok();
        assert_eq!(read(FORM), Some(7));
        let other = Form { number: 2, ..FORM };
        assert_eq!(read(other), None);
        made(&path, other).unwrap();
        assert_eq!(read(FORM), None);
        std::fs::write(&path, "torn").unwrap();
        assert!(open(&path, FORM).is_none());
        made(&path, FORM).unwrap().execute("INSERT INTO t VALUES (8)", []).unwrap();
        assert_eq!(read(FORM), Some(8));
    }
}
