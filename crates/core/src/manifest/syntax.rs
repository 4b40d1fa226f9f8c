//! Faults of texts that aren't TOML: what is wrong, where, and the fix.

use std::ops::Range;

use toml_edit::TomlError;

use crate::fault::{Fault, conflict_marker};
use crate::fix::Fix;

const CURLY: [char; 4] = ['“', '”', '‘', '’'];

/// The fault behind what the TOML parser stumbled over.
pub fn fault(text: &str, error: &TomlError) -> Fault {
    if let Some(span) = conflict_marker(text) {
        return Fault::new("manifest.conflict", "the manifest has unresolved merge conflicts", span)
            .label("a conflict marker")
            .advice("run `bibliotax merge`: it leaves markers only around keys that both sides changed; edit these and run it again");
    }
    let span = error.span().unwrap_or(0..0);
    let line = line_around(text, span.start);
    if let Some(at) = text[line.clone()].find(CURLY) {
        let at = line.start + at;
        return curly_quotes(text, line, at);
    }
    let found = error.message();
    if found.starts_with("duplicate key") {
        return duplicate(text, span);
    }
    if found.starts_with("missing comma") || stands_after_an_element(text, &line, span.start) {
        let at = text[..span.start].trim_end().len();
        let fault = Fault::new("manifest.missing-comma", "a comma is missing", span);
        return fault.label("write a `,` here").fix(at..at, ",");
    }
    if found.starts_with("invalid unquoted key") {
        return unquoted_name(text, line, span);
    }
    if found.starts_with("string values must be quoted") || found.starts_with("unexpected key or value") {
        return unquoted_value(text, line, span);
    }
    let label = match found {
        _ if found.starts_with("key with no value") => "a `=` and a value are missing",
        _ if found.starts_with("unclosed") => "the closing bracket is missing",
        _ if found.contains("basic string") || found.contains("literal string") => {
            "the closing quote is missing"
        }
        _ if found.starts_with("unquoted keys cannot be empty") => "a key is missing",
        _ if found.contains("escape") => "unknown escape; a backslash is written `\\\\`",
        _ => "unexpected here",
    };
    Fault::new("manifest.syntax", "this can't be read as TOML", span).label(label)
}

fn line_around(text: &str, at: usize) -> Range<usize> {
    let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
    let end = text[at..].find('\n').map_or(text.len(), |end| at + end);
    start..end
}

fn curly_quotes(text: &str, line: Range<usize>, at: usize) -> Fault {
    let width = text[at..].chars().next().map_or(0, char::len_utf8);
    Fault::new("manifest.curly-quotes", "curly quotes aren't allowed here", at..at + width)
        .label("an editor may have changed it")
        .advice("use straight quotes: `\"`")
        .fix(line.clone(), text[line].replace(CURLY, "\""))
}

fn duplicate(text: &str, span: Range<usize>) -> Fault {
    let key = &text[span.clone()];
    let fault = Fault::new("manifest.duplicate-key", format!("`{key}` is defined twice"), span.clone())
        .label("defined here again")
        .advice("remove one of them");
    fault.offering(lines_of(text, &span).into_iter().map(|span| Fix::Remove { span }))
}

/// The lines of a table that define a key, as far as each is complete in itself.
fn lines_of(text: &str, key: &Range<usize>) -> Vec<Range<usize>> {
    let word = &text[key.clone()];
    let mut at = text[..key.start].rfind("\n[").map_or(0, |end| end + 1);
    let mut found = Vec::new();
    for line in text[at..].split_inclusive('\n') {
        let content = line.trim();
        if line.starts_with('[') && at > key.start {
            break;
        }
        let value = content.strip_prefix(word).and_then(|rest| rest.trim_start().strip_prefix('='));
        let is_complete = |value: &str| {
            let count = |letters: [char; 2]| value.matches(letters).count();
            count(['[', '{']) == count([']', '}']) && count(['"', '\'']) % 2 == 0
        };
        if value.is_some_and(is_complete) {
            let start = at + line.len() - line.trim_start().len();
            found.push(start..start + content.len());
        }
        at += line.len();
    }
    found
}

/// Whether the parser stumbled in an array, behind an element and in front of another.
fn stands_after_an_element(text: &str, line: &Range<usize>, at: usize) -> bool {
    let before = text[line.start..at].trim_end();
    let in_array = before.matches('[').count() > before.matches(']').count() && before.contains('=');
    in_array && before.ends_with(['"', '\''])
}

fn unquoted_name(text: &str, line: Range<usize>, span: Range<usize>) -> Fault {
    let key = text[line.clone()].split('=').next().unwrap_or_default().trim();
    if key.contains('/') && !key.starts_with('[') {
        let start = text[line.clone()].find(key).map_or(span.start, |at| line.start + at);
        return Fault::new("manifest.unquoted-name", "a name with `/` needs quotes", span)
            .label("TOML requires quotes around this key")
            .advice(format!("write `\"{key}\"`"))
            .fix(start..start + key.len(), format!("\"{key}\""));
    }
    Fault::new("manifest.syntax", "this can't be read as TOML", span).label("a key can't have this character")
}

fn unquoted_value(text: &str, line: Range<usize>, span: Range<usize>) -> Fault {
    let value = text[line.clone()]
        .split_once('=')
        .map(|(_, value)| value.split('#').next().unwrap_or_default().trim());
    let fault = |span| Fault::new("manifest.unquoted-value", "a text needs quotes", span);
    match value {
        Some("") | None => {
            Fault::new("manifest.syntax", "a value is missing", span).label("expected a value")
        }
        Some(value) if !value.contains(['"', '\'', '{', '[']) => {
            let start = text[line.clone()].find(value).map_or(span.start, |at| line.start + at);
            fault(start..start + value.len())
                .label("no quotes around it")
                .advice(format!("write `\"{value}\"`"))
                .fix(start..start + value.len(), format!("\"{value}\""))
        }
        Some(_) => fault(span).label("expected the end of the line, or quotes around a text"),
    }
}
