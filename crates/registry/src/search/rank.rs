//! Which packages match words, and in which order.

use std::collections::{HashMap, HashSet};

use bibliotax_core::facet::Facets;
use jiff::Timestamp;
use rusqlite::{OptionalExtension, params};

use super::index::Index;
use super::spelling;
use super::{FitWord, Found, Hit, LAST_PAGE, PAGE, Query, ReadAs};
use crate::model::error::RegistryError;
use crate::model::names::Named;

/// Most words that are looked for.
const MAX_WORDS: usize = 12;

/// How many of those that match best are ranked.
const MAX_RANKED: usize = PAGE * (LAST_PAGE + 1) + 100;

/// How many of the packages that are used most are ranked, too, wherever they match.
const MAX_USED: usize = 1000;

/// What a match in a name, in a tag, in a summary weighs.
const WEIGHTS: &str = "10.0, 5.0, 1.0";

/// What is found, before it is ranked: the rowid of a package and how well its words match.
type Matches = HashMap<i64, f64>;

impl Index {
    /// Finds packages by words; fits are those that the list tells of, newest releases alone.
    pub fn find(&self, query: &Query, facets: &Facets, now: Timestamp) -> Result<Found, RegistryError> {
        let mut found = Found::default();
        let words: Vec<String> = spelling::words(&query.words).take(MAX_WORDS).collect();
        let mut clauses = Vec::new();
        for word in &words {
            let instead = self.tried(self.instead_of(word))?;
            if !instead.is_empty() {
                found.read_as.push(ReadAs { word: word.clone(), instead: instead.clone() });
            }
            let meant = if instead.is_empty() { vec![word.clone()] } else { instead };
            let meant: Vec<String> = meant.iter().map(|word| format!("\"{word}\"*")).collect();
            clauses.push(format!("({})", meant.join(" OR ")));
        }
        let mut matches = if clauses.is_empty() {
            self.tried(self.most_used())?
        } else {
            self.tried(self.matching(&clauses.join(" AND ")))?
        };
        if matches.is_empty() && clauses.len() > 1 {
            matches = self.tried(self.matching(&clauses.join(" OR ")))?;
            found.is_loose = !matches.is_empty();
        }
        if found.is_loose || !found.read_as.is_empty() {
            // Only what was written exactly may be called by its name.
        } else if let Some(id) = self.tried(self.called(&words))? {
            matches.entry(id).or_insert(0.0);
        }
        let mut hits = Vec::with_capacity(matches.len());
        for (id, matched) in matches {
            hits.extend(self.tried(self.hit(id, matched, &words, query, facets, now))?);
        }
        hits.sort_by(Hit::rank);
        let begin = query.page.min(LAST_PAGE) * PAGE;
        found.more = hits.len() > begin + PAGE && query.page < LAST_PAGE;
        found.hits = hits.into_iter().skip(begin).take(PAGE).collect();
        Ok(found)
    }

    /// The words that one is read as that no name, tag or summary has.
    fn instead_of(&self, word: &str) -> rusqlite::Result<Vec<String>> {
        if spelling::is_known(&self.database, word)? {
            return Ok(Vec::new());
        }
        spelling::nearest(&self.database, word)
    }

    fn matching(&self, clause: &str) -> rusqlite::Result<Matches> {
        let all =
            format!("SELECT rowid, -rank FROM words WHERE words MATCH ? AND rank MATCH 'bm25({WEIGHTS})'");
        let mut matches: Vec<(i64, f64)> = self.pairs(&all, &[&clause])?;
        if matches.len() <= MAX_RANKED {
            return Ok(matches.into_iter().collect());
        }
        matches.select_nth_unstable_by(MAX_RANKED, |(_, one), (_, other)| other.total_cmp(one));
        let (best, rest) = matches.split_at(MAX_RANKED);
        let used = self.used_most()?;
        let rest = rest.iter().filter(|(id, _)| used.contains(id));
        Ok(best.iter().chain(rest).copied().collect())
    }

    /// The packages that are used most.
    fn used_most(&self) -> rusqlite::Result<HashSet<i64>> {
        let most = format!(
            "SELECT packages.id FROM (SELECT name FROM uses ORDER BY count DESC LIMIT {MAX_USED})
                JOIN packages USING (name)"
        );
        let mut select = self.database.prepare_cached(&most)?;
        select.query_map([], |row| row.get(0))?.collect()
    }

    fn most_used(&self) -> rusqlite::Result<Matches> {
        let used = format!(
            "SELECT packages.id, 0.0 FROM (SELECT name FROM uses ORDER BY count DESC LIMIT {MAX_RANKED})
                JOIN packages USING (name)"
        );
        let mut matches: Matches = self.pairs(&used, &[])?;
        if matches.len() < MAX_RANKED {
            let any = format!("SELECT id, 0.0 FROM packages LIMIT {MAX_RANKED}");
            matches.extend(self.pairs::<Matches>(&any, &[])?);
        }
        Ok(matches)
    }

    fn pairs<C: FromIterator<(i64, f64)>>(
        &self,
        select: &str,
        values: &[&dyn rusqlite::ToSql],
    ) -> rusqlite::Result<C> {
        let mut select = self.database.prepare_cached(select)?;
        let rows = select.query_map(values, |row| Ok((row.get(0)?, row.get(1)?)))?;
        rows.collect()
    }

    /// The package that is called as the words say, however they are separated.
    fn called(&self, words: &[String]) -> rusqlite::Result<Option<i64>> {
        let id = "SELECT id FROM packages WHERE name = ?";
        let mut select = self.database.prepare_cached(id)?;
        select.query_row([words.join("-")], |row| row.get(0)).optional()
    }

    fn hit(
        &self,
        id: i64,
        matched: f64,
        words: &[String],
        query: &Query,
        facets: &Facets,
        now: Timestamp,
    ) -> rusqlite::Result<Option<Hit>> {
        let line = "SELECT line, (SELECT count FROM uses WHERE uses.name = packages.name) FROM packages WHERE id = ?";
        let mut select = self.database.prepare_cached(line)?;
        let read = |row: &rusqlite::Row<'_>| Ok((row.get::<_, String>(0)?, row.get::<_, Option<u64>>(1)?));
        let (line, uses) = select.query_row(params![id], read)?;
        let Ok(named) = serde_json::from_str::<Named>(&line) else { return Ok(None) };
        let uses = uses.unwrap_or(0);
        let fits: Vec<FitWord> =
            query.places.iter().map(|place| FitWord::from(&facets.fit(&named.fits, place))).collect();
        let score = matched.clamp(0.0, 30.0)
            + of_name(named.name.as_str(), words)
            + standing(&named, uses, &fits, now);
        Ok(Some(Hit::new(named, uses, score, fits)))
    }
}

/// What a name is worth that is what was written, or begins with it.
fn of_name(name: &str, words: &[String]) -> f64 {
    let wanted = words.join("-");
    let segment = name.rsplit('/').next().unwrap_or(name);
    let plain = name.replace('/', "-");
    match () {
        () if wanted.is_empty() => 0.0,
        () if plain == wanted => 60.0,
        () if segment == wanted || segment.replace('-', "") == wanted => 40.0,
        () if segment.starts_with(&wanted) || plain.starts_with(&wanted) => 10.0,
        () => 0.0,
    }
}

/// What counts beside the words: fit, use, freshness, deprecation.
fn standing(named: &Named, uses: u64, fits: &[FitWord], now: Timestamp) -> f64 {
    let fit: f64 = fits
        .iter()
        .map(|fit| match fit {
            FitWord::Yes => 0.0,
            FitWord::NotDeclared => -1.0,
            FitWord::No => -12.0,
        })
        .fold(0.0, f64::min);
    // What has no release is neither fresh nor old.
    let years = named.published.map_or(2.5, |at| now.duration_since(at).as_secs_f64() / (365.25 * 86_400.0));
    let gone = if named.newest.is_none() && named.providers == 0 { -25.0 } else { 0.0 };
    let deprecated = if named.deprecated { -15.0 } else { 0.0 };
    fit + 3.0 * (1.0 + uses as f64).ln() - 0.8 * years.clamp(0.0, 5.0) + gone + deprecated
}
