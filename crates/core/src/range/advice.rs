//! What was probably meant by a range that can't be parsed: foreign notations and typos.

use super::Range;
use super::syntax::{self, Bound, Clause, written};
use crate::fault::Fault;
use crate::version::{Version, successor};

/// The fault with what was probably meant, if that is clear.
pub fn offer(text: &str, fault: Fault) -> Fault {
    if fault.advice.is_some() && fault.code != "version.invalid" {
        return fault;
    }
    match meant(text.trim()) {
        Some(meant) => fault.advice(format!("write `{meant}`")).fix(0..text.len(), meant),
        None => fault,
    }
}

/// The fault of a range that no version can be in.
pub fn empty(text: &str, clauses: &[Clause]) -> Fault {
    let fault = Fault::new("range.empty", format!("no version is in `{}`", text.trim()), 0..text.len());
    match clauses.iter().flatten().next() {
        Some(Bound::Between(Some(from), Some(to))) if to < from => {
            let turned = written(&[Bound::Between(Some(to.clone()), Some(from.clone()))]);
            let fault = fault.label("the end comes before the start");
            fault.advice(format!("write `{turned}`")).fix(0..text.len(), turned)
        }
        _ => fault.label("its bounds contradict each other"),
    }
}

/// A range of our grammar that says what `text` seems to say.
fn meant(text: &str) -> Option<String> {
    let attempts = [compared, wildcard, caret_or_tilde, bracketed, dashed, respelled, spaced];
    attempts.iter().find_map(|attempt| read(&attempt(text)?)).map(|range| range.to_string())
}

/// The range that `text` is, without an offer for what it is not: an offer must not ask for another.
fn read(text: &str) -> Option<Range> {
    let range = Range::from_clauses(syntax::parse(text).ok()?);
    (!range.is_none()).then_some(range)
}

/// `>= `, `2 ..  ..`: nothing to keep but the version, if there is one.
fn compared(text: &str) -> Option<String> {
    let missing = [">=", "<=", "!=", ">", "<", "="].contains(&text);
    missing.then(|| format!("{text} 1.0"))
}

/// `1.x`, `1.2.*`, `*`, `latest`.
fn wildcard(text: &str) -> Option<String> {
    if matches!(text, "*" | "x" | "X" | "latest" | "newest" | "Any" | "ANY" | "all" | "+") {
        return Some("any".into());
    }
    let kept: Vec<&str> =
        text.split('.').take_while(|part| !matches!(*part, "x" | "X" | "*" | "+")).collect();
    let wild = kept.len() < text.split('.').count() && !kept.is_empty();
    wild.then(|| kept.join("."))
}

/// A leading sign that elsewhere means "compatible with".
fn caret_or_tilde(text: &str) -> Option<String> {
    let rest = text.trim_start_matches(['^', '~', '=', '>']).trim_start();
    let sign = text.chars().next().filter(|c| matches!(c, '^' | '~'))?;
    let version: Version = rest.parse().ok()?;
    let short = version.parts() == 1 || (sign == '~' && version.parts() == 2);
    if short && !version.is_pre() {
        return Some(rest.to_owned());
    }
    let next = match sign {
        '^' => version.next_breaking()?,
        _ => Version::from_numeric(successor(version.point().numeric, 1)?, 2),
    };
    Some(written(&[Bound::Between(Some(version), Some(next))]))
}

/// `[1.2,2.0)`: intervals in mathematical brackets.
fn bracketed(text: &str) -> Option<String> {
    let inner = text.strip_prefix(['[', '('])?.strip_suffix([']', ')'])?;
    let (from, to) = inner.split_once(',')?;
    let (lower, upper) =
        (if text.starts_with('[') { ">=" } else { ">" }, if text.ends_with(']') { "<=" } else { "<" });
    let bound = |mark: &str, version: &str| {
        (!version.trim().is_empty()).then(|| format!("{mark} {}", version.trim()))
    };
    let bounds: Vec<String> = [bound(lower, from), bound(upper, to)].into_iter().flatten().collect();
    Some(bounds.join(", "))
}

/// `1.2 - 2.0`, `1.2 to 2.0`.
fn dashed(text: &str) -> Option<String> {
    let (from, to) = text.split_once(" - ").or_else(|| text.split_once(" to "))?;
    Some(format!("{} .. {}", from.trim(), to.trim()))
}

/// Operators by other names.
fn respelled(text: &str) -> Option<String> {
    const RESPELLED: [(&str, &str); 14] = [
        ("===", "="),
        ("==", "="),
        ("=>", ">="),
        ("=<", "<="),
        ("<>", "!="),
        ("≥", ">="),
        ("≤", "<="),
        ("≠", "!="),
        ("||", "|"),
        (" or ", " | "),
        ("&&", ","),
        (" and ", ", "),
        ("…", ".."),
        (";", ","),
    ];
    let plain = RESPELLED.iter().fold(text.to_owned(), |text, (from, to)| text.replace(from, to));
    Some(plain.split(' ').map(without_v).collect::<Vec<_>>().join(" "))
}

fn without_v(word: &str) -> &str {
    let rest = word.trim_start_matches(['v', 'V']);
    if rest.starts_with(|c: char| c.is_ascii_digit()) { rest } else { word }
}

/// `>=1 <2`: bounds with no comma between.
fn spaced(text: &str) -> Option<String> {
    let mut joined = String::new();
    for (at, c) in text.char_indices() {
        let before = text[..at].trim_end();
        let starts_bound =
            matches!(c, '<' | '>' | '!' | '=') && before.ends_with(|c: char| c.is_ascii_alphanumeric());
        if starts_bound {
            joined.truncate(joined.trim_end().len());
            joined.push_str(", ");
        }
        joined.push(c);
    }
    Some(joined)
}
