//! Spelling: the known words nearest to an unknown one.
//!
//! A word is known by its runs of three letters, with its ends; what shares most of them is compared letter by letter.

use std::collections::{BTreeSet, HashSet};

use rusqlite::{Connection, OptionalExtension, Transaction, params, params_from_iter};

/// Shortest word that may be misspelt, in characters.
const MIN_WORD_LEN: usize = 4;

/// Longest word that is kept, in characters.
const MAX_WORD_LEN: usize = 40;

/// Most words that are kept in mind while words are taken in.
const MAX_SEEN: usize = 50_000;

/// How many words that share most are compared.
const MAX_COMPARED: usize = 200;

/// Most words that are taken for one.
const MAX_SUGGESTIONS: usize = 3;

/// The words of a text, in small letters.
pub fn words(text: &str) -> impl Iterator<Item = String> {
    text.split(|c: char| !c.is_alphanumeric()).filter(|word| !word.is_empty()).map(str::to_lowercase)
}

/// Takes in the words of texts; those of `seen` are known already.
pub fn learn(adding: &Transaction<'_>, texts: &[&str], seen: &mut HashSet<String>) -> rusqlite::Result<()> {
    for word in texts.iter().flat_map(|text| words(text)) {
        let length = word.chars().count();
        if !(MIN_WORD_LEN - 1..=MAX_WORD_LEN).contains(&length) || seen.contains(&word) {
            continue;
        }
        if seen.len() == MAX_SEEN {
            seen.clear();
        }
        seen.insert(word.clone());
        let known = "SELECT 1 FROM terms WHERE term = ?";
        if adding.prepare_cached(known)?.exists([&word])? {
            continue;
        }
        let id = adding.prepare_cached("INSERT INTO terms (term) VALUES (?)")?.insert([&word])?;
        for gram in grams(&word) {
            adding.prepare_cached("INSERT INTO grams VALUES (?, ?)")?.execute(params![gram, id])?;
        }
    }
    Ok(())
}

/// Whether some known word begins with this one.
pub fn is_known(database: &Connection, word: &str) -> rusqlite::Result<bool> {
    let after = format!("{word}\u{10ffff}");
    let known = "SELECT 1 FROM terms WHERE term >= ? AND term < ? LIMIT 1";
    Ok(database.prepare_cached(known)?.query_row([word, &after], |_| Ok(())).optional()?.is_some())
}

/// The known words that are nearest to one, the nearest first; none where none is near.
pub fn nearest(database: &Connection, word: &str) -> rusqlite::Result<Vec<String>> {
    let length = word.chars().count();
    if length < MIN_WORD_LEN {
        return Ok(Vec::new());
    }
    let grams = grams(word);
    let marks = vec!["?"; grams.len()].join(", ");
    let sharing = format!(
        "SELECT terms.term FROM (SELECT term_id, count(*) AS shared FROM grams WHERE gram IN ({marks})
            GROUP BY term_id ORDER BY shared DESC LIMIT {MAX_COMPARED}) JOIN terms ON terms.id = term_id"
    );
    let mut select = database.prepare_cached(&sharing)?;
    let rows = select.query_map(params_from_iter(&grams), |row| row.get::<_, String>(0))?;
    let allowed = if length < 8 { 1 } else { 2 };
    let mut near = Vec::new();
    for term in rows {
        let term = term?;
        let distance = distance(word, &term);
        if distance.0 <= allowed {
            near.push((distance, term));
        }
    }
    near.sort();
    let best = near.first().map(|(distance, _)| *distance);
    near.retain(|(distance, _)| Some(*distance) == best);
    Ok(near.into_iter().take(MAX_SUGGESTIONS).map(|(_, term)| term).collect())
}

/// How many letters have to be changed to get from a word to another one, or else to the beginning of it; and whether that
/// is only its beginning.
fn distance(word: &str, term: &str) -> (usize, bool) {
    let whole = strsim::damerau_levenshtein(word, term);
    let beginning: String = term.chars().take(word.chars().count()).collect();
    (whole, false).min((strsim::damerau_levenshtein(word, &beginning), true))
}

/// A word's runs of three letters, with marks at its ends.
fn grams(word: &str) -> BTreeSet<String> {
    let marked: Vec<char> = "  ".chars().chain(word.chars()).chain(" ".chars()).collect();
    marked.windows(3).map(|gram| gram.iter().collect()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_slip_of_the_finger_is_near_and_another_word_is_not() {
        let mut database = Connection::open_in_memory().unwrap();
        database
            .execute_batch(
                "CREATE TABLE terms (id INTEGER PRIMARY KEY, term TEXT UNIQUE);
                 CREATE TABLE grams (gram TEXT, term_id INTEGER, PRIMARY KEY (gram, term_id)) WITHOUT ROWID;",
            )
            .unwrap();
        let adding = database.transaction().unwrap();
        learn(
            &adding,
            &["rain-ledger rainledger moss map", "Thermometer for compost heaps", "moss"],
            &mut HashSet::new(),
        )
        .unwrap();
        adding.commit().unwrap();
        for (word, wanted) in [
            ("rian", "rain"),
            ("ledgre", "ledger"),
            ("ldeger", "ledger"),
            ("termometer", "thermometer"),
            ("thermomter", "thermometer"),
            ("thermomt", "thermometer"),
            ("kompost", "compost"),
        ] {
            assert_eq!(nearest(&database, word).unwrap(), [wanted], "{word}");
        }
        for word in ["kettle", "xy", "map"] {
            assert!(nearest(&database, word).unwrap().is_empty(), "{word}");
        }
        assert!(is_known(&database, "led").unwrap() && !is_known(&database, "ldeg").unwrap());
    }
}
