//! URLs of releases with pieces in the places of their versions.

use std::fmt;
use std::str::FromStr;

use crate::fault::Fault;
use crate::tags::{NUMBERS, parts, version_in};
use crate::version::Version;

/// Longest pattern, in bytes.
const MAX_LEN: usize = 1_000;

/// Longest text of a version that is read in a URL, in bytes.
const MAX_VERSION_LEN: usize = 64;

const VERSION: &str = "{version}";
const TAG: &str = "{tag}";

/// A URL, or the end of one behind a slash, with `{version}` where it has the version as upstream writes it. The numbers of the version
/// may stand by themselves as `{major}`, `{minor}`, `{patch}` and `{fourth}`, and `{tag}` is the tag of its commit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UrlPattern {
    text: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Version,
    Number(usize),
    Tag,
}

/// A version as upstream names it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NamedVersion<'n> {
    /// The version.
    pub version: &'n Version,
    /// As upstream writes it.
    pub text: &'n str,
    /// The tag of its commit, where there is one.
    pub tag: Option<&'n str>,
}

impl UrlPattern {
    /// The text.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether it is a whole URL, not only the end of one.
    pub fn is_whole(&self) -> bool {
        self.text.contains("://")
    }

    /// Whether it takes a tag to fill it.
    pub fn has_tag(&self) -> bool {
        self.parts.contains(&Part::Tag)
    }

    /// The pattern of a URL in which the names of a version stand; `None` where none does.
    pub fn of_url(url: &str, named: NamedVersion<'_>) -> Option<Self> {
        // A host's name says nothing of versions.
        let host_end = url.split_inclusive('/').take(3).map(str::len).sum();
        let (host, path) = url.split_at(host_end);
        if path.contains(['{', '}']) {
            return None;
        }
        let own = named.version.as_str();
        let text = if named.text.is_empty() { own } else { named.text };
        let tag = named.tag.filter(|tag| ![text, own].contains(tag));
        // Beside the tag, a URL may have the version by itself; the tag's piece has no version in it.
        let path = tag.map_or_else(|| path.to_owned(), |tag| replaced(path, tag, TAG));
        let with_text = replaced(&path, text, VERSION);
        let with_own = if with_text == path { replaced(&path, own, VERSION) } else { with_text };
        format!("{host}{with_own}").parse().ok()
    }

    /// The URL of a version; `None` where it takes a tag and there is none that can be part of a URL.
    pub fn filled(&self, named: NamedVersion<'_>) -> Option<String> {
        let numbers = named.version.point().numeric;
        let mut url = String::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => url.push_str(text),
                Part::Version => url.push_str(named.text),
                Part::Number(place) => url.push_str(&numbers[*place].to_string()),
                Part::Tag => url.push_str(named.tag.filter(|tag| is_plain(tag))?),
            }
        }
        Some(url)
    }

    /// The version that a URL is of, and its text there; `None` where the URL isn't like this.
    pub fn release_of<'u>(&self, url: &'u str) -> Option<(Version, &'u str)> {
        if self.is_whole() {
            return self.read(url);
        }
        let ends = url.rmatch_indices('/').map(|(at, _)| &url[at + 1..]);
        ends.take(self.text.matches('/').count() + 1).last().and_then(|end| self.read(end))
    }

    fn read<'u>(&self, url: &'u str) -> Option<(Version, &'u str)> {
        let mut found = Found::default();
        if !matches(&self.parts, url, &mut found) {
            return None;
        }
        let numbers: Vec<String> =
            found.numbers.iter().map_while(|n| Some(n.as_ref()?.to_string())).collect();
        let version = match found.text {
            Some(text) => version_in(text).ok()?,
            None => numbers.join(".").parse().ok()?,
        };
        let own = version.point().numeric;
        let agrees = found.numbers.iter().zip(own).all(|(said, own)| said.is_none_or(|said| said == own));
        agrees.then(|| (version, found.text.unwrap_or_default()))
    }
}

/// A text with a piece in the places of a name, but for those in a longer number.
fn replaced(text: &str, name: &str, piece: &str) -> String {
    let (mut found, mut done) = (String::new(), 0);
    for (at, _) in text.match_indices(name) {
        let behind = &text[at + name.len()..];
        let goes_on = behind.starts_with(|c: char| c.is_ascii_digit())
            || behind.strip_prefix('.').is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
        let begins_before = text[..at].ends_with(|c: char| c.is_ascii_digit());
        if !goes_on && !begins_before {
            found.push_str(&text[done..at]);
            found.push_str(piece);
            done = at + name.len();
        }
    }
    found + &text[done..]
}

/// What stands in the places of the pieces.
#[derive(Default, Clone)]
struct Found<'u> {
    text: Option<&'u str>,
    numbers: [Option<u64>; 4],
}

/// Whether a text is like these parts, and what stands in their places. A version that stands twice is the same in both places.
fn matches<'u>(parts: &[Part], text: &'u str, found: &mut Found<'u>) -> bool {
    let Some((part, behind)) = parts.split_first() else { return text.is_empty() };
    match part {
        Part::Text(own) => text.strip_prefix(own.as_str()).is_some_and(|rest| matches(behind, rest, found)),
        Part::Tag => false,
        Part::Number(place) => {
            let end = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
            let Ok(number) = text[..end].parse::<u64>() else { return false };
            if found.numbers[*place].is_some_and(|before| before != number) {
                return false;
            }
            found.numbers[*place] = Some(number);
            matches(behind, &text[end..], found)
        }
        Part::Version => {
            if let Some(known) = found.text {
                return text.strip_prefix(known).is_some_and(|rest| matches(behind, rest, found));
            }
            let end = text.find(|c: char| !is_of_version(c)).unwrap_or(text.len()).min(MAX_VERSION_LEN);
            (1..=end).rev().any(|end| {
                let mut tried = Found { text: Some(&text[..end]), ..found.clone() };
                let is_like = matches(behind, &text[end..], &mut tried);
                if is_like {
                    *found = tried;
                }
                is_like
            })
        }
    }
}

fn is_of_version(c: char) -> bool {
    c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | '+' | '~')
}

/// Whether a tag can be part of a URL as it is.
fn is_plain(tag: &str) -> bool {
    tag.chars().all(|c| is_of_version(c) || matches!(c, '/' | '@'))
        && !tag.split('/').any(|part| part == "..")
}

impl FromStr for UrlPattern {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let fault = |message: String| {
            Fault::new("follow.pattern", message, 0..text.len()).advice(
                "write the URL with `{version}` in the place of the version: `https://files.example/moss-{version}.tar.gz`",
            )
        };
        let is_fine =
            |c: char| c.is_ascii_graphic() && !matches!(c, '"' | '<' | '>' | '\\' | '`' | '^' | '|');
        if text.len() > MAX_LEN || !text.chars().all(is_fine) {
            return Err(fault(format!("`{text}` can't be part of a URL")));
        }
        let parts = parts(text, piece, Part::Text);
        let unknown = |part: &Part| matches!(part, Part::Text(text) if text.contains(['{', '}']));
        if parts.iter().any(unknown) {
            return Err(fault(format!("`{text}` has a piece that isn't known")));
        }
        if !parts.iter().any(|part| matches!(part, Part::Version | Part::Tag | Part::Number(0))) {
            return Err(fault(format!("`{text}` doesn't say where the version is")));
        }
        Ok(Self { text: text.to_owned(), parts })
    }
}

/// The piece that a text begins with, and its length.
fn piece(text: &str) -> Option<(Part, usize)> {
    if text.starts_with(VERSION) {
        return Some((Part::Version, VERSION.len()));
    }
    if text.starts_with(TAG) {
        return Some((Part::Tag, TAG.len()));
    }
    let place = NUMBERS.iter().position(|piece| text.starts_with(piece))?;
    Some((Part::Number(place), NUMBERS[place].len()))
}

impl fmt::Display for UrlPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pattern(text: &str) -> UrlPattern {
        text.parse().unwrap()
    }

    fn named<'n>(version: &'n Version, text: &'n str, tag: Option<&'n str>) -> NamedVersion<'n> {
        NamedVersion { version, text, tag }
    }

    #[test]
    fn a_url_tells_the_version_that_it_is_of() {
        for (text, url, version) in [
            ("moss-{version}.tar.gz", "https://files.example/a/moss-1.2.tar.gz", Some("1.2")),
            ("moss-{version}.tar.gz", "https://files.example/a/moss-1.1.1w.tar.gz", Some("1.1.1.23")),
            ("moss-{version}.tar.gz", "https://files.example/a/other-moss-1.2.tar.gz", None),
            ("moss-{version}.tar.gz", "https://files.example/a/moss-latest.tar.gz", None),
            ("{version}/moss-{version}.zip", "https://files.example/1.2/moss-1.2.zip", Some("1.2")),
            ("{version}/moss-{version}.zip", "https://files.example/1.3/moss-1.2.zip", None),
            ("{major}.{minor}/moss-{version}.zip", "https://files.example/1.2/moss-1.2.3.zip", Some("1.2.3")),
            ("{major}.{minor}/moss-{version}.zip", "https://files.example/1.4/moss-1.2.3.zip", None),
            ("https://files.example/v{version}", "https://files.example/v2.0-rc1", Some("2.0-rc.1")),
            ("https://files.example/v{version}", "https://elsewhere.example/v2.0", None),
            ("moss_{major}_{minor}.zip", "https://files.example/moss_8_10.zip", Some("8.10")),
        ] {
            let found = pattern(text).release_of(url).map(|(version, _)| version.to_string());
            assert_eq!(found.as_deref(), version, "{text} {url}");
        }
    }

    #[test]
    fn the_url_of_one_version_gives_that_of_another() {
        let [old, new] = ["1.1.1.22", "1.1.1.23"].map(|text| text.parse::<Version>().unwrap());
        for (url, text, tag, pattern, filled) in [
            (
                "https://f.example/1.1.1v/m-1.1.1v.zip",
                "1.1.1v",
                None,
                "https://f.example/{version}/m-{version}.zip",
                "https://f.example/1.1.1w/m-1.1.1w.zip",
            ),
            (
                "https://f.example/VER-1-1-1v.zip",
                "",
                Some("VER-1-1-1v"),
                "https://f.example/{tag}.zip",
                "https://f.example/VER-1-1-1w.zip",
            ),
            (
                "https://f.example/r/v1.1.1v/m-1.1.1v.zip",
                "1.1.1v",
                Some("v1.1.1v"),
                "https://f.example/r/{tag}/m-{version}.zip",
                "https://f.example/r/v1.1.1w/m-1.1.1w.zip",
            ),
        ] {
            let found = UrlPattern::of_url(url, named(&old, text, tag)).unwrap();
            assert_eq!(found.as_str(), pattern);
            let (text, tag) = (text.replace('v', "w"), tag.map(|tag| tag.replace("1v", "1w")));
            assert_eq!(found.filled(named(&new, &text, tag.as_deref())).as_deref(), Some(filled));
        }
        assert_eq!(UrlPattern::of_url("https://f.example/latest.zip", named(&old, "1.1.1v", None)), None);
        let one = "1".parse::<Version>().unwrap();
        let found = UrlPattern::of_url("https://f1.example/10/m-1.zip", named(&one, "1", None)).unwrap();
        assert_eq!(found.as_str(), "https://f1.example/10/m-{version}.zip", "not in hosts and other numbers");
        let tagged = pattern("https://f.example/{tag}.zip");
        for wrong in ["../../admin", "a?b", "a b", "a#b", "%2e"] {
            assert_eq!(tagged.filled(named(&old, "1", Some(wrong))), None, "{wrong}");
        }
    }

    #[test]
    fn a_pattern_has_a_place_for_the_version_and_no_unknown_piece() {
        for wrong in ["", "moss.zip", "{minor}.zip", "{x}", "{version", "moss {version}", "a\u{1b}{version}"]
        {
            assert!(wrong.parse::<UrlPattern>().is_err(), "{wrong}");
        }
        assert!("a".repeat(MAX_LEN + 1).parse::<UrlPattern>().is_err());
    }
}
