//! Versions as upstreams write them, and what they are here.
//!
//! All of this is a proposal: people confirm it or say otherwise, since no rule knows every upstream's habits.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

use crate::fault::Fault;
use crate::version::Version;

/// Longest text of a version, in characters.
const MAX_LEN: usize = 64;

/// Words before a version that say nothing of it.
const PREFIXES: [&str; 5] = ["version", "release", "ver", "rel", "v"];

/// Words of early releases, in the order of their releases, with the words that they become: numbers come before words, and words are
/// ordered by their letters.
const EARLY: [(&str, &[&str]); 15] = [
    ("dev", &["0", "dev"]),
    ("snapshot", &["0", "snapshot"]),
    ("nightly", &["0", "snapshot"]),
    ("alpha", &["alpha"]),
    ("a", &["alpha"]),
    ("beta", &["beta"]),
    ("b", &["beta"]),
    ("milestone", &["milestone"]),
    ("m", &["milestone"]),
    ("pre", &["pre"]),
    ("preview", &["pre"]),
    ("rc", &["rc"]),
    ("cr", &["rc"]),
    ("c", &["rc"]),
    ("test", &["test"]),
];

/// Words of final releases, which say nothing more.
const FINAL: [&str; 5] = ["final", "release", "stable", "ga", "orig"];

/// Words of releases after a final one.
const LATER: [&str; 7] = ["p", "pl", "patch", "post", "sp", "rev", "r"];

/// A version as its upstream writes it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(transparent)]
pub struct UpstreamVersion(String);

impl UpstreamVersion {
    /// The text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for UpstreamVersion {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let is_fine = !text.is_empty() && text.chars().count() <= MAX_LEN && text.trim() == text;
        if is_fine && !text.contains(char::is_control) {
            return Ok(Self(text.to_owned()));
        }
        let message = format!("`{text}` can't be upstream's version");
        Err(Fault::new("upstream.version", message, 0..text.len())
            .advice(format!("write one line of at most {MAX_LEN} characters")))
    }
}

impl<'de> Deserialize<'de> for UpstreamVersion {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl fmt::Display for UpstreamVersion {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// A piece of a version's text.
#[derive(Debug, PartialEq, Eq)]
enum Piece<'t> {
    Number(&'t str),
    Word(String),
}

/// The version that upstream's text becomes; `None` where no rule says what it means.
///
/// Numbers become numeric parts; a letter or a patch level behind them becomes one more (`1.1.1w` is 1.1.1.23, `9.8p1` 9.8.0.1), and
/// words of early releases become identifiers in upstream's order (`1.0b2` is 1.0-beta.2).
pub fn version_of(text: &str) -> Option<Version> {
    let text = text.split('+').next()?;
    let mut pieces = pieces(text)?.into_iter().peekable();
    if let Some(Piece::Word(word)) = pieces.peek() {
        if !PREFIXES.contains(&word.as_str()) && word != "r" {
            return None;
        }
        pieces.next();
    }
    let mut numbers = Vec::new();
    while let Some(Piece::Number(number)) = pieces.peek() {
        numbers.push(number.parse::<u64>().ok()?);
        pieces.next();
    }
    let mut early: Vec<String> = Vec::new();
    while let Some(piece) = pieces.next() {
        let number = match pieces.peek() {
            Some(Piece::Number(number)) => Some(number.parse::<u64>().ok()?),
            _ => None,
        };
        let Piece::Word(word) = piece else {
            let Piece::Number(number) = piece else { continue };
            early.push(number.parse::<u64>().ok()?.to_string());
            continue;
        };
        let is_letter = word.len() == 1 && number.is_none();
        if !early.is_empty() {
            early.push(word);
        } else if FINAL.contains(&word.as_str()) && number.is_none() {
            continue;
        } else if is_letter || LATER.contains(&word.as_str()) {
            let more = number.unwrap_or_else(|| letter(&word));
            append(&mut numbers, more)?;
            number.and_then(|_| pieces.next());
        } else {
            let (_, words) = EARLY.iter().find(|(known, _)| *known == word)?;
            early.extend(words.iter().map(|word| (*word).to_owned()));
        }
    }
    let numbers: Vec<String> = numbers.iter().map(u64::to_string).collect();
    if numbers.is_empty() || numbers.len() > 4 {
        return None;
    }
    let early = if early.is_empty() { String::new() } else { format!("-{}", early.join(".")) };
    format!("{}{early}", numbers.join(".")).parse().ok()
}

/// The place of a letter in the alphabet, from 1; 1 for a word.
fn letter(word: &str) -> u64 {
    match word.as_bytes() {
        [letter @ b'a'..=b'z'] => u64::from(letter - b'a') + 1,
        _ => 1,
    }
}

/// Adds a number behind all that a release usually has, so that it comes before the next one.
fn append(numbers: &mut Vec<u64>, number: u64) -> Option<()> {
    if numbers.is_empty() || numbers.len() > 3 {
        return None;
    }
    numbers.resize(3, 0);
    numbers.push(number);
    Some(())
}

/// The numbers and words of a text, without what separates them; `None` where there is something else.
fn pieces(text: &str) -> Option<Vec<Piece<'_>>> {
    let mut pieces = Vec::new();
    let mut rest = text;
    while let Some(first) = rest.chars().next() {
        if matches!(first, '.' | '-' | '_' | '~' | ' ') {
            rest = &rest[1..];
            continue;
        }
        let is_digit = first.is_ascii_digit();
        if !is_digit && !first.is_ascii_alphabetic() {
            return None;
        }
        let is_same = |c: &char| if is_digit { c.is_ascii_digit() } else { c.is_ascii_alphabetic() };
        let end = rest.chars().take_while(is_same).count();
        let piece = &rest[..end];
        pieces.push(if is_digit { Piece::Number(piece) } else { Piece::Word(piece.to_lowercase()) });
        rest = &rest[end..];
    }
    Some(pieces)
}

/// Whether a word is one of an early release, with a number behind or none.
pub(crate) fn is_early(word: &str) -> bool {
    let word = word.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.').to_lowercase();
    EARLY.iter().any(|(known, _)| *known == word) || LATER.contains(&word.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_ordered_as_their_upstreams_order_them() {
        for order in [
            &["1.0.dev1", "1.0a1", "1.0a2", "1.0b2", "1.0b10", "1.0rc1", "1.0", "1.0.post1", "1.0.1"][..],
            &["1.1.0", "1.1.0a", "1.1.1", "1.1.1f", "1.1.1w", "1.1.2"],
            &["9.7", "9.7p1", "9.8", "9.8p1", "9.8p2", "9.9"],
            &["2.0-SNAPSHOT", "2.0-M1", "2.0-M2", "2.0-RC1", "2.0.Final", "2.0.1"],
            &["r3", "r4", "r10"],
            &["2023c", "2024a", "2024b"],
            &["3.44.09", "3.45.01", "3.45.10"],
            &["2024.11.08", "2024.11.28", "2025.1.1"],
            &["7.1.1-39", "7.1.1-40", "7.1.2-1"],
            &["VER-2-13-2", "VER-2-13-10"],
        ] {
            for pair in order.windows(2) {
                let [one, other] =
                    [pair[0], pair[1]].map(|text| version_of(text).unwrap_or_else(|| panic!("{text}")));
                assert!(one.point() < other.point(), "{} ({one}) and {} ({other})", pair[0], pair[1]);
            }
        }
        for text in ["", "latest", "1.2.3.4.5", "1.0-mystery", "é", "1.0+dfsg~"] {
            let version = version_of(text);
            assert!(version.is_none() || text.starts_with("1.0+"), "{text}: {version:?}");
        }
    }

    #[test]
    fn upstreams_text_is_one_short_line() {
        for text in ["1.0b2", "r3", "1.1.1w", "3.45.01", "Spring 2026"] {
            assert_eq!(text.parse::<UpstreamVersion>().unwrap().as_str(), text);
        }
        for text in ["", " 1", "1\n2", "\u{1b}[2J", &"1".repeat(65)] {
            assert!(text.parse::<UpstreamVersion>().is_err(), "{text:?}");
        }
    }
}
