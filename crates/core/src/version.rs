//! Versions: Semantic Versioning 2.0.0, with one to four numeric parts.
//!
//! Missing parts are 0, so `1.2` and `1.2.0` are one version, printed as each was published. Build metadata
//! (`+…`) is kept for printing and never counts. Precedence is SemVer's, section 11.

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::ops::Deref;
use std::str::FromStr;
use std::sync::Arc;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;

/// The numeric parts, missing ones as 0.
pub type Numeric = [u64; 4];

/// Longest text of a version, in bytes.
pub const MAX_VERSION_LEN: usize = 256;

/// One dot-separated identifier of a pre-release; numbers come before words (SemVer 11.4.3).
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Identifier {
    /// Digits only; compared as a number.
    Number(u64),
    /// Anything else; compared by its ASCII bytes.
    Word(Box<str>),
}

impl fmt::Display for Identifier {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Number(number) => write!(f, "{number}"),
            Self::Word(word) => f.write_str(word),
        }
    }
}

/// A place in the order of all versions: the numeric parts and what follows the first `-`.
///
/// An empty `pre` is the final version, which comes after all its pre-releases.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Point {
    /// The numeric parts.
    pub numeric: Numeric,
    /// The pre-release identifiers; empty for a final version.
    pub pre: Pre,
}

/// Pre-release identifiers; none takes no memory of its own, as most versions have none.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Default)]
pub struct Pre(Option<Arc<[Identifier]>>);

impl FromIterator<Identifier> for Pre {
    fn from_iter<I: IntoIterator<Item = Identifier>>(identifiers: I) -> Self {
        let mut identifiers = identifiers.into_iter().peekable();
        Self(identifiers.peek().is_some().then(|| identifiers.collect()))
    }
}

impl Deref for Pre {
    type Target = [Identifier];

    fn deref(&self) -> &[Identifier] {
        self.0.as_deref().unwrap_or_default()
    }
}

impl Point {
    /// The final version of these numeric parts.
    pub fn last(numeric: Numeric) -> Self {
        Self { numeric, pre: Pre::default() }
    }

    /// The lowest pre-release of these numeric parts: `-0`.
    pub fn lowest(numeric: Numeric) -> Self {
        Self { numeric, pre: [Identifier::Number(0)].into_iter().collect() }
    }

    /// The very first place of all.
    pub fn origin() -> Self {
        Self::lowest([0; 4])
    }

    /// Whether a pre-release stands here.
    pub fn is_pre(&self) -> bool {
        !self.pre.is_empty()
    }

    /// The place right behind this one, nothing between; `None` behind the highest number of all.
    pub fn next(&self) -> Option<Self> {
        if self.is_pre() {
            let longer = self.pre.iter().cloned().chain([Identifier::Number(0)]).collect();
            return Some(Self { numeric: self.numeric, pre: longer });
        }
        successor(self.numeric, 3).map(Self::lowest)
    }
}

/// The first number that does not begin like the first `index + 1` parts of `numeric`.
pub fn successor(mut numeric: Numeric, index: usize) -> Option<Numeric> {
    numeric[index + 1..].fill(0);
    for place in (0..=index).rev() {
        if let Some(more) = numeric[place].checked_add(1) {
            numeric[place] = more;
            return Some(numeric);
        }
        numeric[place] = 0;
    }
    None
}

impl Ord for Point {
    fn cmp(&self, other: &Self) -> Ordering {
        let by_pre = || match (self.pre.is_empty(), other.pre.is_empty()) {
            (true, true) => Ordering::Equal,
            (true, false) => Ordering::Greater,
            (false, true) => Ordering::Less,
            (false, false) => self.pre.cmp(&other.pre),
        };
        self.numeric.cmp(&other.numeric).then_with(by_pre)
    }
}

impl PartialOrd for Point {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// A version as published.
#[derive(Clone)]
pub struct Version {
    point: Point,
    parts: u8,
    text: Arc<str>,
}

impl Version {
    /// The place of the version in the order of all versions.
    pub fn point(&self) -> &Point {
        &self.point
    }

    /// How many numeric parts are written: 1 to 4.
    pub fn parts(&self) -> usize {
        usize::from(self.parts)
    }

    /// Whether this is a pre-release.
    pub fn is_pre(&self) -> bool {
        self.point.is_pre()
    }

    /// The text as published.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The first version that may break what worked with this one: the next major, or the next minor
    /// while the major is 0, or the next patch while both are.
    pub fn next_breaking(&self) -> Option<Self> {
        let numeric = self.point.numeric;
        let index = numeric.iter().take(2).position(|&part| part > 0).unwrap_or(2);
        successor(numeric, index).map(|next| Self::from_numeric(next, index + 1))
    }

    /// The version `numeric` written with its first `parts` numbers, or with more where those are not 0.
    pub fn from_numeric(numeric: Numeric, parts: usize) -> Self {
        let needed = numeric.iter().rposition(|&part| part != 0).map_or(1, |last| last + 1);
        let parts = parts.clamp(needed, 4);
        let text = numeric[..parts].iter().map(u64::to_string).collect::<Vec<_>>().join(".");
        // `parts` is at most 4, which every width holds.
        Self { point: Point::last(numeric), parts: parts as u8, text: text.into() }
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.point == other.point
    }
}

impl Eq for Version {}

impl Hash for Version {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.point.hash(state);
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.point.cmp(&other.point)
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl fmt::Debug for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl Serialize for Version {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

impl<'de> Deserialize<'de> for Version {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl FromStr for Version {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        if text.len() > MAX_VERSION_LEN {
            let message = format!("a version has at most {MAX_VERSION_LEN} characters");
            return Err(Fault::new("version.invalid", message, 0..text.len()));
        }
        let (rest, build) = text.split_once('+').map_or((text, None), |(rest, build)| (rest, Some(build)));
        let (numbers, pre) = rest.split_once('-').map_or((rest, None), |(numbers, pre)| (numbers, Some(pre)));
        let (numeric, parts) = parse_numbers(numbers)?;
        let pre = pre.map_or(Ok(Vec::new()), |pre| parse_pre(pre, numbers.len() + 1))?;
        if let Some(build) = build {
            check_build(build, rest.len() + 1)?;
        }
        Ok(Self { point: Point { numeric, pre: pre.into_iter().collect() }, parts, text: text.into() })
    }
}

fn invalid(message: impl Into<String>, start: usize, part: &str) -> Fault {
    Fault::new("version.invalid", message, start..start + part.len())
}

fn parse_numbers(text: &str) -> Result<(Numeric, u8), Fault> {
    let mut numeric = [0; 4];
    let mut start = 0;
    let mut parts = 0;
    for part in text.split('.') {
        if parts == 4 {
            return Err(invalid("a version has at most four numbers", start, &text[start..])
                .label("one number too many"));
        }
        numeric[usize::from(parts)] = parse_number(part, start)?;
        parts += 1;
        start += part.len() + 1;
    }
    Ok((numeric, parts))
}

fn parse_number(part: &str, start: usize) -> Result<u64, Fault> {
    if part.is_empty() {
        return Err(invalid("a version needs a number here", start, part).label("a number is missing"));
    }
    if let Some((at, bad)) = part.char_indices().find(|(_, c)| !c.is_ascii_digit()) {
        let fault = invalid("a version's parts are numbers", start + at, &part[at..at + bad.len_utf8()]);
        let fault = fault.label("not a digit");
        let plain = part.trim_start_matches(['v', 'V']);
        let only_a_letter = plain.len() < part.len() && plain.bytes().all(|b| b.is_ascii_digit());
        let letter = start..start + part.len() - plain.len();
        return Err(if only_a_letter { fault.advice("remove the `v`").fix(letter, "") } else { fault });
    }
    if part.len() > 1 && part.starts_with('0') {
        let plain = part.trim_start_matches('0');
        let plain = if plain.is_empty() { "0" } else { plain };
        let fault = invalid("a number can't have a leading zero", start, part);
        return Err(fault.advice(format!("write `{plain}`")).fix(start..start + part.len(), plain));
    }
    part.parse()
        .map_err(|_| invalid("the number is too large", start, part).label(format!("over {}", u64::MAX)))
}

fn parse_pre(text: &str, mut start: usize) -> Result<Vec<Identifier>, Fault> {
    let mut identifiers = Vec::new();
    for part in text.split('.') {
        identifiers.push(parse_identifier(part, start)?);
        start += part.len() + 1;
    }
    Ok(identifiers)
}

fn parse_identifier(part: &str, start: usize) -> Result<Identifier, Fault> {
    check_identifier(part, start)?;
    if part.bytes().all(|b| b.is_ascii_digit()) {
        return parse_number(part, start).map(Identifier::Number);
    }
    Ok(Identifier::Word(part.into()))
}

fn check_build(text: &str, mut start: usize) -> Result<(), Fault> {
    for part in text.split('.') {
        check_identifier(part, start)?;
        start += part.len() + 1;
    }
    Ok(())
}

fn check_identifier(part: &str, start: usize) -> Result<(), Fault> {
    if part.is_empty() {
        return Err(
            invalid("a part of the version is empty", start, part).label("a word or number is missing")
        );
    }
    match part.char_indices().find(|(_, c)| !c.is_ascii_alphanumeric() && *c != '-') {
        None => Ok(()),
        Some((at, bad)) => {
            let fault = invalid("this part of a version consists of A–Z, a–z, 0–9 and `-`", start + at, "");
            Err(Fault { span: start + at..start + at + bad.len_utf8(), ..fault }.label("isn't allowed here"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn version(text: &str) -> Version {
        text.parse().unwrap()
    }

    #[test]
    fn precedence_is_that_of_semver() {
        // The row of SemVer 2.0.0, section 11, with four-part numbers around it.
        let rising = [
            "0.0.0-0",
            "0.9",
            "1.0.0-alpha",
            "1.0.0-alpha.1",
            "1.0.0-alpha.beta",
            "1.0.0-beta",
            "1.0.0-beta.2",
            "1.0.0-beta.11",
            "1.0.0-rc.1",
            "1.0.0",
            "1.0.0.1-a",
            "1.0.0.1",
            "1.0.1",
            "1.2",
            "1.10",
            "2",
        ];
        for pair in rising.windows(2) {
            assert!(version(pair[0]) < version(pair[1]), "{} < {}", pair[0], pair[1]);
        }
    }

    #[test]
    fn missing_parts_and_builds_do_not_count_but_are_printed() {
        for same in ["1.2", "1.2.0", "1.2.0.0", "1.2+linux.7"] {
            assert_eq!(version(same), version("1.2"));
            assert_eq!(version(same).to_string(), same);
        }
    }

    #[test]
    fn refuses_with_the_place_and_the_mend() {
        let rows = [
            ("", 0..0, None),
            ("v1.2", 0..1, Some("remove the `v`")),
            ("1..2", 2..2, None),
            ("1.02", 2..4, Some("write `2`")),
            ("1.2.3.4.5", 8..9, None),
            ("1.2-", 4..4, None),
            ("1.2-rc_1", 6..7, None),
            ("1.2-01", 4..6, Some("write `1`")),
            ("1+é", 2..4, None),
            ("99999999999999999999", 0..20, None),
        ];
        for (bad, span, advice) in rows {
            let fault = bad.parse::<Version>().unwrap_err();
            assert_eq!((fault.span, fault.advice.as_deref()), (span, advice), "{bad}");
        }
    }

    #[test]
    fn the_next_breaking_version_heeds_leading_zeros() {
        let rows = [
            ("2.4.1", "3"),
            ("0.9.2", "0.10"),
            ("0.0.3", "0.0.4"),
            ("1.2.3-rc.1", "2"),
            ("0.0.0.7", "0.0.1"),
        ];
        for (from, next) in rows {
            assert_eq!(version(from).next_breaking().unwrap().to_string(), next);
        }
        assert_eq!(version("18446744073709551615").next_breaking(), None);
    }

    #[test]
    fn nothing_lies_between_a_point_and_the_next() {
        assert_eq!(version("1.2.3-rc.1").point().next().unwrap(), *version("1.2.3-rc.1.0").point());
        assert_eq!(version("1.2.3").point().next().unwrap(), *version("1.2.3.1-0").point());
    }
}
