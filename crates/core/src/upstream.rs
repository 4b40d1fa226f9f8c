//! Versions and names as upstreams write them, in the names of archives and tags, and what they are here.
//!
//! All of this is a proposal: people confirm it or say otherwise, since no rule knows every upstream's habits.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

use crate::card::ArchiveFormat;
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

/// The numbers and words of a text, whatever is between them; `None` where there is something else.
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

/// What the name of an archive says of the package in it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NamedArchive {
    /// The package's name, as names are written here.
    pub name: Option<String>,
    /// The version as upstream writes it.
    pub upstream: Option<String>,
    /// The version that this becomes.
    pub version: Option<Version>,
}

/// Words of an archive's name that are no part of a version: what it holds, and what it is for.
const OTHER_WORDS: [&str; 36] = [
    "src",
    "source",
    "sources",
    "bin",
    "binary",
    "dist",
    "all",
    "any",
    "none",
    "noarch",
    "universal",
    "full",
    "minimal",
    "complete",
    "static",
    "shared",
    "sdk",
    "doc",
    "docs",
    "headers",
    "amalgamation",
    "autoconf",
    "linux",
    "windows",
    "win32",
    "win64",
    "macos",
    "darwin",
    "freebsd",
    "musl",
    "gnu",
    "x86",
    "x64",
    "amd64",
    "arm64",
    "aarch64",
];

/// Segments of URLs that name no package.
const OTHER_SEGMENTS: [&str; 12] = [
    "archive",
    "archives",
    "refs",
    "tags",
    "heads",
    "releases",
    "release",
    "download",
    "downloads",
    "tarball",
    "zipball",
    "files",
];

/// What the last name of a URL or path says of the package in the archive there, and the names before where it says none.
pub fn named_archive(url: &str) -> NamedArchive {
    let path = url.split(['?', '#']).next().unwrap_or(url);
    let segments: Vec<&str> = path.split('/').filter(|segment| !segment.is_empty()).collect();
    let Some((file, before)) = segments.split_last() else { return NamedArchive::default() };
    let stem = ArchiveFormat::stem(&file.to_lowercase()).map_or(*file, |stem| &file[..stem.len()]);
    // Its separator isn't one before a version.
    let stem = stem.strip_suffix(".orig").unwrap_or(stem).replace("x86_64", "amd64");
    let named = named_by(&stem);
    if named.name.is_some() {
        return named;
    }
    let is_name = |segment: &&&str| {
        let plain = segment.to_lowercase();
        let is_host = segment.contains(':') || plain.contains('.');
        !is_host && !OTHER_SEGMENTS.contains(&plain.as_str()) && version_of(segment).is_none()
    };
    let name = before.iter().rev().find(is_name).and_then(|segment| plain_name(segment));
    NamedArchive { name, ..named }
}

/// What an archive's name without its ending says.
fn named_by(stem: &str) -> NamedArchive {
    let starts = stem.match_indices(['-', '_', '.']).map(|(at, _)| (at, at + 1));
    let attached = stem.find(|c: char| c.is_ascii_digit()).map(|at| (at, at));
    for (end, start) in [(0, 0)].into_iter().chain(starts).chain(attached) {
        let (name, rest) = (&stem[..end], &stem[start..]);
        if !begins_version(rest) {
            continue;
        }
        let upstream = without_other_words(rest);
        if let Some(version) = version_of(upstream) {
            let upstream = Some(without_prefix(upstream).to_owned());
            return NamedArchive { name: plain_name(name), upstream, version: Some(version) };
        }
    }
    NamedArchive { name: plain_name(stem), upstream: None, version: None }
}

/// Whether a text begins as versions do: with a digit, or with `v` or `r` and a digit.
fn begins_version(text: &str) -> bool {
    let text = text.strip_prefix(['v', 'V', 'r']).unwrap_or(text);
    text.starts_with(|c: char| c.is_ascii_digit())
}

/// The beginning of a text that is a version: what is behind it says what the archive holds, or what it is for.
fn without_other_words(text: &str) -> &str {
    let mut end = 0;
    for field in text.split_inclusive('-') {
        let word = field.trim_end_matches('-');
        let is_version = end == 0 || begins_version(word) || is_early(word);
        let is_other = OTHER_WORDS.contains(&word.to_lowercase().as_str()) || is_tag_of_python(word);
        if end > 0 && (is_other || !is_version) {
            break;
        }
        end += field.len();
    }
    text[..end].trim_end_matches('-')
}

/// Whether a word is one of an early release, with a number behind or none.
fn is_early(word: &str) -> bool {
    let word = word.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.').to_lowercase();
    EARLY.iter().any(|(known, _)| *known == word) || LATER.contains(&word.as_str())
}

/// Whether a word says for which Python a wheel is (PEP 425).
fn is_tag_of_python(word: &str) -> bool {
    ["py2", "py3", "cp2", "cp3", "pp3"].iter().any(|tag| word.starts_with(tag))
}

fn without_prefix(text: &str) -> &str {
    match text.strip_prefix(['v', 'V']) {
        Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
        _ => text,
    }
}

/// A name as packages have them here: letters in lower case, digits, and hyphens.
pub fn plain_name(text: &str) -> Option<String> {
    let text = text.replace("++", "pp").to_lowercase();
    let plain: String = text.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let parts: Vec<&str> = plain.split('-').filter(|part| !part.is_empty()).collect();
    let name = parts.into_iter().filter(|part| !OTHER_WORDS.contains(part)).collect::<Vec<_>>().join("-");
    let name = name.trim_start_matches(|c: char| !c.is_ascii_alphabetic()).to_owned();
    (!name.is_empty()).then_some(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_archives_tell_the_package_and_upstreams_version() {
        for (url, name, upstream, version) in [
            ("https://files.example/soil-curve-1.1.zip", "soil-curve", "1.1", "1.1"),
            ("files/moss-map-v2.0.0-rc.1.tar.gz?x=1", "moss-map", "2.0.0-rc.1", "2.0.0-rc.1"),
            ("rain_1.7.15.orig.tar.gz", "rain", "1.7.15", "1.7.15"),
            ("dew-8.1.7-py3-none-any.zip", "dew", "8.1.7", "8.1.7"),
            ("dew_point-8.1.7-cp311-cp311-manylinux_2_17_x86_64.whl", "dew-point", "8.1.7", "8.1.7"),
            (
                "https://git.example/garden/leaf-palette/archive/refs/tags/v2.3.tar.gz",
                "leaf-palette",
                "2.3",
                "2.3",
            ),
            ("moss-amalgamation-3450100.zip", "moss", "3450100", "3450100"),
            ("frost-1.1.1w.tar.gz", "frost", "1.1.1w", "1.1.1.23"),
            ("soil_1_86_0.tar.bz2", "soil", "1_86_0", "1.86.0"),
            ("moss2024b.tar.lz4", "moss", "2024b", "2024.0.0.2"),
            ("mossrc.v9f.tar.gz", "mossrc", "9f", "9.0.0.6"),
            ("garden-7.1.1-39.tar.xz", "garden", "7.1.1-39", "7.1.1.39"),
            ("rain-3.45.01-src.tgz", "rain", "3.45.01", "3.45.1"),
            ("leaf++-1.0b2-linux-x86_64.tar.zst", "leafpp", "1.0b2", "1.0-beta.2"),
            ("files/r3.tar", "files", "r3", "3"),
            ("moss-x86_64-1.2.jar", "moss", "1.2", "1.2"),
        ] {
            let found = named_archive(url);
            let version = version.parse().ok();
            assert_eq!(found.upstream.as_deref(), Some(upstream), "{url}");
            assert_eq!(found.version, version, "{url}");
            if name != "files" {
                assert_eq!(found.name.as_deref(), Some(name), "{url}");
            }
        }
        let plain = named_archive("files/moss-map.zip");
        assert_eq!((plain.name.as_deref(), plain.upstream, plain.version), (Some("moss-map"), None, None));
        assert_eq!(named_archive(""), NamedArchive::default());
    }

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
