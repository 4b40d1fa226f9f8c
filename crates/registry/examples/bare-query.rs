//! Asks the database of names for words and nothing else: what `bench/scale.sh` holds `find` against.
//!
//! `bare-query DATABASE WORDS`

use std::error::Error;

use rusqlite::{Connection, OpenFlags};

fn main() -> Result<(), Box<dyn Error>> {
    let [_, database, words] = &std::env::args().collect::<Vec<_>>()[..] else {
        return Err("usage: bare-query DATABASE WORDS".into());
    };
    let database = Connection::open_with_flags(database, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
    let query =
        "SELECT packages.name FROM (SELECT rowid AS id FROM words WHERE words MATCH ? ORDER BY rank LIMIT 20)
        JOIN packages USING (id)";
    let mut select = database.prepare(query)?;
    let names = select.query_map([words], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
    if names.is_empty() { Err("nothing was found".into()) } else { Ok(()) }
}
