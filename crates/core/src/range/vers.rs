//! The VERS notation for version ranges (package-url project, "VERS: version range specification").
//!
//! Of its versioning schemes `semver` and `generic` are read, both by the order of our versions; the others
//! order versions in ways of their own and are refused by name. Constraints may stand in any order, as they
//! are sorted before they are paired.

use super::syntax::{Bound, Clause};
use crate::fault::Fault;
use crate::version::Version;

/// Reads what follows `vers:`; spans count from there.
pub fn parse(text: &str) -> Result<Vec<Clause>, Fault> {
    let Some((scheme, constraints)) = text.split_once('/') else {
        let fault = Fault::new("range.unexpected", "a VERS range is `vers:semver/…`", 0..text.len());
        return Err(fault.label("expected a scheme and `/`"));
    };
    if !matches!(scheme, "semver" | "generic") {
        let message = format!("versions of the scheme `{scheme}` can't be compared here");
        return Err(Fault::new("range.scheme", message, 0..scheme.len())
            .label("not `semver` or `generic`")
            .advice("write the range for `vers:semver/`, or in words such as `2.4 .. 3`"));
    }
    let start = scheme.len() + 1;
    if constraints.trim() == "*" {
        return Ok(vec![vec![Bound::Any]]);
    }
    let mut parsed = Vec::new();
    let mut at = start;
    for part in constraints.split('|') {
        parsed.push(constraint(part, at)?);
        at += part.len() + 1;
    }
    parsed.sort_by(|(_, a), (_, b)| a.cmp(b));
    if let Some(pair) = parsed.windows(2).find(|pair| pair[0].1 == pair[1].1) {
        let message = format!("`{}` occurs twice in one VERS range", pair[1].1);
        return Err(Fault::new("range.unexpected", message, start..text.len()));
    }
    Ok(paired(parsed))
}

#[derive(Clone, Copy, PartialEq)]
enum Mark {
    Equal,
    NotEqual,
    AtLeast,
    Above,
    AtMost,
    Below,
}

impl Mark {
    fn bound(self, version: Version) -> Bound {
        match self {
            Self::Equal => Bound::Equal(version),
            Self::NotEqual => Bound::NotEqual(version),
            Self::AtLeast => Bound::AtLeast(version),
            Self::Above => Bound::Above(version),
            Self::AtMost => Bound::AtMost(version),
            Self::Below => Bound::Below(version),
        }
    }
}

fn constraint(part: &str, at: usize) -> Result<(Mark, Version), Fault> {
    const MARKS: [(&str, Mark); 6] = [
        (">=", Mark::AtLeast),
        ("<=", Mark::AtMost),
        ("!=", Mark::NotEqual),
        (">", Mark::Above),
        ("<", Mark::Below),
        ("=", Mark::Equal),
    ];
    let found = MARKS.iter().find_map(|(text, mark)| Some((*mark, part.strip_prefix(text)?)));
    let (mark, version) = found.unwrap_or((Mark::Equal, part));
    let start = at + part.len() - version.len();
    let decoded = percent_decoded(version).ok_or_else(|| {
        Fault::new("range.unexpected", "a `%` here needs two hexadecimal digits", start..at + part.len())
    })?;
    // A percent-encoded version no longer has the places of its text: the whole word is pointed at.
    let parsed = decoded.parse::<Version>().map_err(|fault| match decoded == version {
        true => fault.shifted(start),
        false => Fault { span: start..at + part.len(), ..fault },
    });
    Ok((mark, parsed?))
}

fn percent_decoded(text: &str) -> Option<String> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((&byte, tail)) = rest.split_first() {
        if byte != b'%' {
            bytes.push(byte);
            rest = tail;
            continue;
        }
        let digits = std::str::from_utf8(tail.get(..2)?).ok()?;
        bytes.push(u8::from_str_radix(digits, 16).ok()?);
        rest = &tail[2..];
    }
    String::from_utf8(bytes).ok()
}

/// Sorted constraints as clauses: single versions, and pairs of a lower and an upper bound with the
/// exclusions that are in them.
fn paired(sorted: Vec<(Mark, Version)>) -> Vec<Clause> {
    let (apart, bounds): (Vec<_>, Vec<_>) =
        sorted.into_iter().partition(|(mark, _)| matches!(mark, Mark::Equal | Mark::NotEqual));
    let (single, excluded): (Vec<_>, Vec<_>) = apart.into_iter().partition(|(mark, _)| *mark == Mark::Equal);
    let mut clauses: Vec<Clause> = Vec::new();
    let mut lower: Option<Bound> = None;
    for (mark, version) in bounds {
        match mark {
            Mark::AtLeast | Mark::Above => lower = lower.or(Some(mark.bound(version))),
            _ => clauses.push(lower.take().into_iter().chain([mark.bound(version)]).collect()),
        }
    }
    clauses.extend(lower.map(|bound| vec![bound]));
    if clauses.is_empty() && single.is_empty() {
        clauses.push(vec![Bound::Any]);
    }
    for clause in &mut clauses {
        clause.extend(excluded.iter().map(|(mark, version)| mark.bound(version.clone())));
    }
    clauses.extend(single.into_iter().map(|(mark, version)| vec![mark.bound(version)]));
    clauses
}
