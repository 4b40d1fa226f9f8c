//! The grammar of ranges: parsing, printing, and the set that a clause stands for.
//!
//! ```text
//! range  = clause ("\|" clause)*
//! clause = bound ("," bound)*
//! bound  = "any" | VERSION | ("=" | "!=" | ">=" | ">" | "<=" | "<") VERSION
//!        | VERSION ".." [VERSION] | ".." VERSION
//! ```

use std::ops;

use super::intervals::Intervals;
use super::set::VersionSet;
use crate::fault::Fault;
use crate::version::{Point, Version, successor};

/// Longest text of a range, in bytes.
const MAX_RANGE_LEN: usize = 4096;

/// One bound of a clause.
#[derive(Debug, Clone)]
pub enum Bound {
    Any,
    /// Every version that begins so; a version with a pre-release begins only itself.
    Begins(Version),
    Equal(Version),
    NotEqual(Version),
    AtLeast(Version),
    Above(Version),
    AtMost(Version),
    Below(Version),
    /// From one version (included) to another (excluded, with its own pre-releases).
    Between(Option<Version>, Option<Version>),
}

impl PartialEq for Bound {
    /// By the words: `1.2` and `1.2.0` are one version, but not one beginning.
    fn eq(&self, other: &Self) -> bool {
        std::mem::discriminant(self) == std::mem::discriminant(other) && self.words() == other.words()
    }
}

/// Bounds that all hold.
pub type Clause = Vec<Bound>;

impl Bound {
    /// The texts of its versions, in their places.
    fn words(&self) -> [Option<&str>; 2] {
        match self {
            Self::Between(from, to) => [from.as_ref(), to.as_ref()].map(|end| end.map(Version::as_str)),
            bound => [bound.versions().next().map(Version::as_str), None],
        }
    }

    fn versions(&self) -> impl Iterator<Item = &Version> {
        let pair = match self {
            Self::Any => [None, None],
            Self::Between(from, to) => [from.as_ref(), to.as_ref()],
            Self::Begins(v) | Self::Equal(v) | Self::NotEqual(v) => [Some(v), None],
            Self::AtLeast(v) | Self::Above(v) | Self::AtMost(v) | Self::Below(v) => [Some(v), None],
        };
        pair.into_iter().flatten()
    }

    fn intervals(&self) -> Intervals {
        let from_to =
            |from: Option<Point>, to| from.map_or_else(Intervals::default, |f| Intervals::between(f, to));
        let only = |v: &Version| from_to(Some(v.point().clone()), v.point().next());
        match self {
            Self::Any => Intervals::all(),
            Self::Begins(v) if v.is_pre() => only(v),
            Self::Begins(v) => {
                let to = successor(v.point().numeric, v.parts() - 1).map(Point::lowest);
                from_to(Some(Point::lowest(v.point().numeric)), to)
            }
            Self::Equal(v) => only(v),
            Self::NotEqual(v) => only(v).not(),
            Self::AtLeast(v) => from_to(Some(v.point().clone()), None),
            Self::Above(v) => from_to(v.point().next(), None),
            Self::AtMost(v) => from_to(Some(Point::origin()), v.point().next()),
            Self::Below(v) => from_to(Some(Point::origin()), Some(v.point().clone())),
            Self::Between(from, to) => {
                let from = from.as_ref().map_or_else(Point::origin, |v| v.point().clone());
                from_to(Some(from), to.as_ref().map(up_to))
            }
        }
    }
}

/// The excluded end of `.. V`: in front of V's own pre-releases, unless V is one itself.
fn up_to(version: &Version) -> Point {
    if version.is_pre() { version.point().clone() } else { Point::lowest(version.point().numeric) }
}

fn intervals(clause: &Clause) -> Intervals {
    clause.iter().fold(Intervals::all(), |all, bound| all.and(&bound.intervals()))
}

/// Whether some version is accepted for certain, as far as a glance can tell.
pub fn is_surely_some(clause: &Clause) -> bool {
    match clause.as_slice() {
        [Bound::Between(Some(from), Some(to))] => *from.point() < up_to(to),
        [
            Bound::Any
            | Bound::Begins(_)
            | Bound::Equal(_)
            | Bound::AtLeast(_)
            | Bound::Between(Some(_), None),
        ] => true,
        _ => false,
    }
}

/// What a clause accepts: its pre-releases only for the numbers whose pre-releases it names.
pub fn accepted(clause: &Clause) -> VersionSet {
    let named = clause.iter().flat_map(Bound::versions).filter(|version| version.is_pre());
    let asked = named.map(|version| version.point().numeric).fold(Intervals::default(), |all, numeric| {
        all.or(&Intervals::between(Point::lowest(numeric), Some(Point::last(numeric))))
    });
    let intervals = intervals(clause);
    VersionSet::new(&intervals, &intervals.and(&asked))
}

/// What a clause accepts where pre-releases count like any other version.
pub fn accepted_with_prereleases(clause: &Clause) -> VersionSet {
    let intervals = intervals(clause);
    VersionSet::new(&intervals, &intervals)
}

/// A clause in the one form in which it is printed.
pub fn written(clause: &[Bound]) -> String {
    let bound = |bound: &Bound| match bound {
        Bound::Any => "any".to_owned(),
        Bound::Begins(v) => v.to_string(),
        Bound::Equal(v) => format!("= {v}"),
        Bound::NotEqual(v) => format!("!= {v}"),
        Bound::AtLeast(v) => format!(">= {v}"),
        Bound::Above(v) => format!("> {v}"),
        Bound::AtMost(v) => format!("<= {v}"),
        Bound::Below(v) => format!("< {v}"),
        Bound::Between(from, to) => {
            let text = |v: &Option<Version>| v.as_ref().map(Version::to_string).unwrap_or_default();
            format!("{} .. {}", text(from), text(to)).trim().to_owned()
        }
    };
    clause.iter().map(bound).collect::<Vec<_>>().join(", ")
}

/// Reads a range of the grammar above; VERS texts are read by their own module.
///
/// The fault tells what was expected; what was probably meant is for `advice` to say.
pub fn parse(text: &str) -> Result<Vec<Clause>, Fault> {
    if text.len() > MAX_RANGE_LEN {
        let message = format!("a range has at most {MAX_RANGE_LEN} characters");
        return Err(Fault::new("range.unexpected", message, 0..text.len()));
    }
    Parser { text, at: 0 }.range()
}

struct Parser<'t> {
    text: &'t str,
    at: usize,
}

impl<'t> Parser<'t> {
    fn range(&mut self) -> Result<Vec<Clause>, Fault> {
        let mut clauses = vec![self.clause()?];
        while self.take("|") {
            clauses.push(self.clause()?);
        }
        match self.rest() {
            "" => Ok(clauses),
            _ => Err(self.unexpected("expected `,`, `|` or the end")),
        }
    }

    fn clause(&mut self) -> Result<Clause, Fault> {
        let mut clause = vec![self.bound()?];
        while self.take(",") {
            clause.push(self.bound()?);
        }
        Ok(clause)
    }

    fn bound(&mut self) -> Result<Bound, Fault> {
        type Make = fn(Version) -> Bound;
        const MARKS: [(&str, Make); 6] = [
            (">=", Bound::AtLeast),
            ("<=", Bound::AtMost),
            ("!=", Bound::NotEqual),
            (">", Bound::Above),
            ("<", Bound::Below),
            ("=", Bound::Equal),
        ];
        if self.take("any") {
            return Ok(Bound::Any);
        }
        if let Some((_, make)) = MARKS.into_iter().find(|(mark, _)| self.take(mark)) {
            return Ok(make(self.version("expected a version")?));
        }
        if self.take("..") {
            return Ok(Bound::Between(None, Some(self.version("expected a version after `..`")?)));
        }
        let from = self.version("expected a version, a comparison, `..` or `any`")?;
        if !self.take("..") {
            return Ok(Bound::Begins(from));
        }
        let open = matches!(self.rest().chars().next(), None | Some(',' | '|'));
        let to = if open { None } else { Some(self.version("expected a version, or nothing, after `..`")?) };
        Ok(Bound::Between(Some(from), to))
    }

    fn version(&mut self, expected: &str) -> Result<Version, Fault> {
        let span = self.word();
        let word = &self.text[span.clone()];
        if !word.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(self.unexpected(expected));
        }
        let version = word.parse::<Version>().map_err(|fault| fault.shifted(span.start))?;
        self.at = span.end;
        Ok(version)
    }

    /// The span of the word that stands next: up to a blank, a mark of the grammar, or `..`.
    fn word(&mut self) -> ops::Range<usize> {
        let rest = self.rest();
        let marks = |c: char| c.is_whitespace() || matches!(c, ',' | '<' | '>' | '=' | '!' | '|');
        let end = rest.find(marks).unwrap_or(rest.len());
        let end = rest[..end].find("..").unwrap_or(end);
        self.at..self.at + end
    }

    fn take(&mut self, token: &str) -> bool {
        let is_word = token.starts_with(|c: char| c.is_ascii_alphabetic());
        let found = if is_word { self.sees_word(token) } else { self.rest().starts_with(token) };
        if found {
            self.at += token.len();
        }
        found
    }

    fn sees_word(&mut self, token: &str) -> bool {
        let span = self.word();
        &self.text[span] == token
    }

    /// The text from the next character that is no blank.
    fn rest(&mut self) -> &'t str {
        let rest = self.text[self.at..].trim_start();
        self.at = self.text.len() - rest.len();
        rest
    }

    fn unexpected(&mut self, expected: &str) -> Fault {
        let rest = self.rest();
        let message = match rest.chars().next() {
            None if self.text.trim().is_empty() => "the range is empty".to_owned(),
            None => "the range ends too early".to_owned(),
            Some(_) => format!("`{}` isn't allowed here in a range", self.next_piece()),
        };
        let width = self.next_piece().len();
        Fault::new("range.unexpected", message, self.at..self.at + width).label(expected)
    }

    /// The word that stands next or, where a mark does, its first character.
    fn next_piece(&mut self) -> &'t str {
        let span = self.word();
        let width = self.rest().chars().next().map_or(0, char::len_utf8);
        if span.is_empty() { &self.text[self.at..self.at + width] } else { &self.text[span] }
    }
}
