//! How tags of a repository name releases: patterns with pieces, and what a list of tags suggests.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

use crate::fault::Fault;
use crate::upstream::version_of;
use crate::version::Version;

/// The pieces that stand for a version's numbers, in the order in which it has them.
pub(crate) const NUMBERS: [&str; 4] = ["{major}", "{minor}", "{patch}", "{fourth}"];

/// The piece of an early release.
const EARLY: &str = "{pre}";

/// A pattern of tags: `*` or `{version}` stands for the version as upstream writes it; or its numbers stand by themselves as `{major}`,
/// `{minor}`, `{patch}` and `{fourth}`, and `{pre}` for what makes it an early release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TagPattern {
    text: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    Text(String),
    Version,
    Number(usize),
    Early,
}

/// Why a tag names no release.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoRelease {
    /// It isn't like the pattern.
    #[error("not like the pattern")]
    Unlike,
    /// What stands in the place of the version can't be read as one.
    #[error("`{0}` can't be read as a version")]
    NoVersion(String),
    /// Another tag names the same version.
    #[error("the same version as {0}")]
    Twice(String),
}

impl TagPattern {
    /// The pattern that holds where nothing else is said, in which the letter may lack.
    pub const USUAL: &str = "v*";

    /// The text.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The version that a tag names.
    pub fn release_of(&self, tag: &str) -> Result<Version, NoRelease> {
        let read = self.read(tag);
        match read {
            // Some repositories stop writing the letter at some time.
            Err(NoRelease::Unlike) if self.text == Self::USUAL => version_in(tag),
            read => read,
        }
    }

    /// The part of a tag that is the version as upstream writes it; `None` where its numbers stand by themselves.
    pub fn text_of<'t>(&self, tag: &'t str) -> Option<&'t str> {
        let at = self.parts.iter().position(|part| *part == Part::Version)?;
        let text = |part: Option<&Part>| match part {
            Some(Part::Text(text)) => text.clone(),
            _ => String::new(),
        };
        let before = text(at.checked_sub(1).and_then(|at| self.parts.get(at)));
        let without = tag.strip_prefix(before.as_str()).unwrap_or(tag);
        Some(without.strip_suffix(text(self.parts.get(at + 1)).as_str()).unwrap_or(without))
    }

    fn read(&self, tag: &str) -> Result<Version, NoRelease> {
        let (mut rest, mut numbers, mut early) = (tag, [None; 4], None);
        for (at, part) in self.parts.iter().enumerate() {
            let next = match self.parts.get(at + 1) {
                Some(Part::Text(text)) => Some(text.as_str()),
                _ => None,
            };
            match part {
                Part::Text(text) => rest = rest.strip_prefix(text.as_str()).ok_or(NoRelease::Unlike)?,
                Part::Version => {
                    let behind = next.unwrap_or_default();
                    return version_in(rest.strip_suffix(behind).ok_or(NoRelease::Unlike)?);
                }
                Part::Number(place) => {
                    let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
                    numbers[*place] = Some(rest[..end].parse::<u64>().map_err(|_| NoRelease::Unlike)?);
                    rest = &rest[end..];
                }
                Part::Early => {
                    let end = next.and_then(|next| rest.find(next)).unwrap_or(rest.len());
                    early = Some(&rest[..end]).filter(|early| !early.is_empty());
                    rest = &rest[end..];
                }
            }
        }
        if !rest.is_empty() {
            return Err(NoRelease::Unlike);
        }
        let numbers: Vec<String> =
            numbers.into_iter().map_while(|number| Some(number?.to_string())).collect();
        let early = early.map(|early| format!("-{}", early.trim_start_matches(['-', '_', '.'])));
        version_in(&format!("{}{}", numbers.join("."), early.unwrap_or_default()))
    }

    /// The releases that tags name, oldest first, each with its tag, and the tags that name none. Of two tags that name one version, the
    /// first by name counts.
    pub fn releases<'t>(&self, tags: impl IntoIterator<Item = &'t str>) -> ReadTags<'t> {
        let mut releases: BTreeMap<Version, &str> = BTreeMap::new();
        let mut left_out = Vec::new();
        for tag in tags {
            match self.release_of(tag) {
                Ok(version) => match releases.get(&version) {
                    Some(first) => left_out.push((tag, NoRelease::Twice((*first).to_owned()))),
                    None => drop(releases.insert(version, tag)),
                },
                Err(why) => left_out.push((tag, why)),
            }
        }
        ReadTags { releases: releases.into_iter().collect(), left_out }
    }
}

/// What a pattern makes of the tags of a repository.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadTags<'t> {
    /// The releases, oldest first, each with its tag.
    pub releases: Vec<(Version, &'t str)>,
    /// The tags that name none, and why.
    pub left_out: Vec<(&'t str, NoRelease)>,
}

/// The version that the part of a tag is which stands for it: as it is here, or as upstream writes it.
pub(crate) fn version_in(text: &str) -> Result<Version, NoRelease> {
    let own: Option<Version> = text.parse().ok();
    let version = match own {
        Some(own) if !own.is_pre() => Some(own),
        // A hyphen is more often a separator than the beginning of an early release, which begins with a word.
        own => version_of(text).filter(|_| text.starts_with(|c: char| c.is_ascii_digit())).or_else(|| {
            let early = text.split_once('-').map(|(_, early)| early);
            own.filter(|_| early.is_some_and(|early| early.starts_with(|c: char| c.is_ascii_alphabetic())))
        }),
    };
    version.ok_or_else(|| NoRelease::NoVersion(text.to_owned()))
}

impl FromStr for TagPattern {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let pattern = Self { text: text.to_owned(), parts: parts(text, piece, Part::Text) };
        pattern.check()?;
        Ok(pattern)
    }
}

/// The parts of a pattern: its pieces, and the texts between them.
pub(crate) fn parts<P>(
    pattern: &str,
    piece: impl Fn(&str) -> Option<(P, usize)>,
    of_text: fn(String) -> P,
) -> Vec<P> {
    let mut parts = Vec::new();
    let mut rest = pattern;
    while !rest.is_empty() {
        let (part, length) = piece(rest).unwrap_or_else(|| {
            let end = rest.char_indices().skip(1).find(|(at, _)| piece(&rest[*at..]).is_some());
            let end = end.map_or(rest.len(), |(at, _)| at);
            (of_text(rest[..end].to_owned()), end)
        });
        parts.push(part);
        rest = &rest[length..];
    }
    parts
}

/// The piece that a text begins with, and its length.
fn piece(text: &str) -> Option<(Part, usize)> {
    let version = ["*", "{version}"].into_iter().find(|piece| text.starts_with(piece));
    let number = NUMBERS.iter().position(|piece| text.starts_with(piece));
    let early = text.starts_with(EARLY).then_some((Part::Early, EARLY.len()));
    let version = version.map(|piece| (Part::Version, piece.len()));
    version.or(number.map(|place| (Part::Number(place), NUMBERS[place].len()))).or(early)
}

impl TagPattern {
    fn check(&self) -> Result<(), Fault> {
        let count = |is: fn(&Part) -> bool| self.parts.iter().filter(|part| is(part)).count();
        let numbers: Vec<usize> = self
            .parts
            .iter()
            .filter_map(|part| if let Part::Number(place) = part { Some(*place) } else { None })
            .collect();
        let is_by_numbers = !numbers.is_empty() && numbers.iter().copied().eq(0..numbers.len());
        let is_whole = count(|part| *part == Part::Version) == 1;
        let is_early_once = count(|part| *part == Part::Early) <= usize::from(is_by_numbers);
        let has_other_pieces =
            self.parts.iter().any(|part| matches!(part, Part::Text(text) if text.contains(['{', '}'])));
        let ends =
            !is_whole || self.parts.iter().rev().take_while(|part| **part != Part::Version).count() <= 1;
        if (is_whole && numbers.is_empty() || is_by_numbers && !is_whole)
            && is_early_once
            && !has_other_pieces
            && ends
        {
            return Ok(());
        }
        let fault = Fault::new(
            "tags.pattern",
            format!("`{}` doesn't say where in a tag the version is", self.text),
            0..self.text.len(),
        );
        Err(fault.advice(
            "write one `*` in its place, such as `palette-v*`, or its pieces: `VER-{major}-{minor}-{patch}`",
        ))
    }
}

impl fmt::Display for TagPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

/// The patterns that tags suggest, each with how many releases it finds, the best first: one that has the package's name, then one
/// that finds more.
pub fn proposed<'t>(tags: impl IntoIterator<Item = &'t str>, package: &str) -> Vec<(TagPattern, usize)> {
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for prefix in tags.into_iter().filter_map(prefix_of) {
        *counts.entry(prefix.to_owned()).or_default() += 1;
    }
    let is_usual = |prefix: &str| matches!(prefix, "" | "v");
    let mut patterns: BTreeMap<String, usize> = BTreeMap::new();
    for (prefix, count) in counts {
        let pattern = if is_usual(&prefix) { TagPattern::USUAL.to_owned() } else { format!("{prefix}*") };
        *patterns.entry(pattern).or_default() += count;
    }
    let found = patterns.into_iter().filter_map(|(pattern, count)| Some((pattern.parse().ok()?, count)));
    let mut found: Vec<(TagPattern, usize)> = found.collect();
    let last = package.rsplit('/').next().unwrap_or(package);
    let is_named = |pattern: &TagPattern| {
        let text = pattern.as_str().to_lowercase().replace('_', "-");
        text.trim_end_matches(['*', 'v', '-', '/', '@', '.']).ends_with(last)
    };
    found.sort_by_key(|(pattern, count)| {
        (std::cmp::Reverse((is_named(pattern), *count)), pattern.text.clone())
    });
    found
}

/// What stands before the version in a tag; `None` where it has none.
fn prefix_of(tag: &str) -> Option<&str> {
    let starts = tag.char_indices().filter(|(at, c)| {
        let before = tag[..*at].chars().next_back();
        // Inside a number or a name with digits no version begins.
        c.is_ascii_digit() && before.is_none_or(|before| !before.is_ascii_digit() && before != '.')
    });
    let mut starts = starts.map(|(at, _)| at);
    starts.find(|at| version_in(&tag[*at..]).is_ok() && !tag[..*at].contains('*')).map(|at| &tag[..at])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn release(pattern: &str, tag: &str) -> Result<String, NoRelease> {
        pattern.parse::<TagPattern>().unwrap().release_of(tag).map(|version| version.to_string())
    }

    #[test]
    fn tags_name_versions_as_repositories_write_them() {
        for (pattern, tag, version) in [
            ("v*", "v1.2.0", "1.2.0"),
            ("v*", "1.3", "1.3"),
            ("v*", "v5.4.07", "5.4.7"),
            ("v*", "v1.0.0-rc.1", "1.0.0-rc.1"),
            ("v*", "v2.0.0-canopy.1", "2.0.0-canopy.1"),
            ("VER-*", "VER-2-13-2", "2.13.2"),
            ("VER-{major}-{minor}-{patch}", "VER-2-13-2", "2.13.2"),
            ("moss-*", "moss-8_10_1", "8.10.1"),
            ("release/*", "release/2024.11.28", "2024.11.28"),
            ("libmoss-{version}", "libmoss-1.2", "1.2"),
            ("r{major}", "r36", "36"),
            ("{major}.{minor}{pre}", "3.1b2", "3.1-beta.2"),
            ("*-final", "1.4-final", "1.4"),
        ] {
            assert_eq!(release(pattern, tag).as_deref(), Ok(version), "{pattern} {tag}");
        }
        for (pattern, tag, text) in [
            ("v*", "v5.4.07", Some("5.4.07")),
            ("v*", "1.3", Some("1.3")),
            ("*-final", "1.4-final", Some("1.4")),
            ("VER-{major}-{minor}", "VER-2-13", None),
        ] {
            assert_eq!(pattern.parse::<TagPattern>().unwrap().text_of(tag), text, "{pattern} {tag}");
        }
        assert_eq!(release("VER-*", "latest"), Err(NoRelease::Unlike));
        assert_eq!(release("v*", "vNext"), Err(NoRelease::NoVersion("Next".into())));
        assert_eq!(release("VER-{major}-{minor}", "VER-2-13-2"), Err(NoRelease::Unlike));
        for wrong in
            ["", "v", "**", "{minor}", "{major}{patch}", "{pre}", "v*{major}", "v{x}", "a*b*", "*{pre}"]
        {
            assert!(wrong.parse::<TagPattern>().is_err(), "{wrong}");
        }
    }

    #[test]
    fn tags_suggest_their_pattern_and_none_is_dropped_silently() {
        let tags = ["VER-2-13-0", "VER-2-13-2", "VER-2-9-1", "VER-2-13-2-again", "nightly", "2024-build"];
        let (pattern, count) = proposed(tags, "frost").remove(0);
        assert_eq!((pattern.as_str(), count), ("VER-*", 3));
        let read = pattern.releases(tags);
        let shown: Vec<String> =
            read.releases.iter().map(|(version, tag)| format!("{version} {tag}")).collect();
        assert_eq!(shown, ["2.9.1 VER-2-9-1", "2.13.0 VER-2-13-0", "2.13.2 VER-2-13-2"]);
        assert_eq!(read.releases.len() + read.left_out.len(), tags.len());
        let many = ["moss-1.0", "moss-1.1", "libmap-2.0", "libmap-2.1", "libmap-2.2"];
        assert_eq!(proposed(many, "moss")[0].0.as_str(), "moss-*", "the package's own");
        assert_eq!(proposed(many, "leaf")[0].0.as_str(), "libmap-*");
        assert_eq!(proposed(["v1.0", "1.1", "v2"], "leaf")[0], ("v*".parse().unwrap(), 3));
        assert_eq!(proposed(["release/2024.11.28", "release/2025.1.2"], "x")[0].0.as_str(), "release/*");
        assert!(proposed(["nightly", "latest"], "x").is_empty());
    }

    #[test]
    fn of_two_tags_of_one_version_the_first_counts_and_the_other_is_told() {
        let read = "v*".parse::<TagPattern>().unwrap().releases(["1.0", "v1.0"]);
        assert_eq!(read.releases, [("1.0".parse().unwrap(), "1.0")]);
        assert_eq!(read.left_out, [("v1.0", NoRelease::Twice("1.0".into()))]);
    }
}
