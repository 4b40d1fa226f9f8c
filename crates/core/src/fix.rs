//! What to change in a text that people write, so that a fault in it is gone.
//!
//! A [`Fix`] is made where a text is read, from places alone. [`Fix::edit`] works out what exactly changes, with the text at hand.

use std::ops::Range;

/// Most characters of a text that a title repeats.
const MAX_TITLE: usize = 60;

/// A change of a text. All places are in bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fix {
    /// Write a text at a place, which is empty where something is missing. Quotes that stand there stay.
    Write {
        /// The place.
        span: Range<usize>,
        /// The text to stand there.
        text: String,
    },
    /// Write a word in the quotes in which another one first stands behind a place.
    WriteBehind {
        /// The place.
        place: usize,
        /// The word that stands there.
        word: String,
        /// The word to stand there.
        text: String,
    },
    /// Remove a part of a word, a `key = value` or an element of a list; of the latter two with the comma or the line that is left over.
    Remove {
        /// The place.
        span: Range<usize>,
    },
    /// Add a key to the table at a place.
    Add {
        /// The table: an inline one, or one with a head.
        table: Range<usize>,
        /// The `key = value`.
        line: String,
    },
    /// Add a key to a table with a head, which is added as well where it is missing.
    AddUnder {
        /// The head, without brackets.
        head: String,
        /// The `key = value`.
        line: String,
    },
}

impl Fix {
    /// The same, its place moved by `offset` bytes: for a text that stands inside another.
    #[must_use]
    pub fn shifted(self, offset: usize) -> Self {
        let moved = |span: Range<usize>| span.start + offset..span.end + offset;
        match self {
            Self::Write { span, text } => Self::Write { span: moved(span), text },
            Self::WriteBehind { place, word, text } => {
                Self::WriteBehind { place: place + offset, word, text }
            }
            Self::Remove { span } => Self::Remove { span: moved(span) },
            Self::Add { table, line } => Self::Add { table: moved(table), line },
            Self::AddUnder { .. } => self,
        }
    }

    /// What it does, for a person: `` Write `1.4` ``. Nothing of a place that the text doesn't have.
    pub fn title(&self, text: &str) -> Option<String> {
        Some(match self {
            Self::Write { .. } | Self::WriteBehind { .. } => {
                format!("Write `{}`", shortened(self.edit(text)?.1.trim()))
            }
            Self::Remove { span } => format!("Remove `{}`", shortened(text.get(span.clone())?.trim())),
            Self::Add { line, .. } => format!("Add `{line}`"),
            Self::AddUnder { head, line } => format!("Add `{line}` under `[{head}]`"),
        })
    }

    /// The bytes to replace in a text, and what has to stand there. Nothing where the place doesn't allow it.
    pub fn edit(&self, text: &str) -> Option<(Range<usize>, String)> {
        match self {
            Self::Write { span, text: new } => Some((span.clone(), quoted_as(new, text, span)?)),
            Self::WriteBehind { place, word, text: new } => {
                Some((quoted_behind(text, *place, word)?, new.clone()))
            }
            Self::Remove { span } => Some((with_separator(text, span)?, String::new())),
            Self::Add { table, line } => added(text, table, line),
            Self::AddUnder { head, line } => Some(added_under(text, head, line)),
        }
    }
}

/// A text with the quotes that stand at a place, or that TOML wants around a name with a `/`.
fn quoted_as(new: &str, text: &str, span: &Range<usize>) -> Option<String> {
    let there = text.get(span.clone())?;
    let quote = there.chars().next().filter(|letter| matches!(letter, '"' | '\''));
    let is_quoted = quote.is_some() && there.len() > 1 && there.ends_with(quote.unwrap_or_default());
    let has_own = new.starts_with(['"', '\'']);
    let is_within_quotes = text[..span.start].ends_with(['"', '\'']);
    Some(match quote {
        Some(quote) if is_quoted && !has_own => format!("{quote}{new}{quote}"),
        None if new.contains('/') && !there.is_empty() && !has_own && !is_within_quotes => {
            format!("\"{new}\"")
        }
        _ => new.to_owned(),
    })
}

/// Where a word first stands in quotes behind a place, without these.
fn quoted_behind(text: &str, place: usize, word: &str) -> Option<Range<usize>> {
    let behind = text.get(place..)?;
    let found =
        ['"', '\''].into_iter().filter_map(|quote| behind.find(&format!("{quote}{word}{quote}"))).min()?;
    let start = place + found + 1;
    Some(start..start + word.len())
}

/// What to remove, so that neither a comma nor an empty line is left over.
fn with_separator(text: &str, span: &Range<usize>) -> Option<Range<usize>> {
    let is_blank = |letter: char| matches!(letter, ' ' | '\t');
    let (before, behind) = (text.get(..span.start)?, text.get(span.end..)?);
    let blanks_before = before.len() - before.trim_end_matches(is_blank).len();
    let start = span.start - blanks_before;
    let next = behind.trim_start_matches(is_blank);
    let end = text.len() - next.len();
    let is_first_of_line = text[..start].is_empty() || text[..start].ends_with('\n');
    let is_first = is_first_of_line || text[..start].ends_with(['{', '[', ',']);
    if let (true, Some(rest)) = (is_first, next.strip_prefix(',')) {
        let rest = rest.trim_start_matches(is_blank);
        if is_first_of_line && rest.starts_with('\n') {
            return Some(start..text.len() - rest.len() + 1);
        }
        // The blanks in front stay, and what follows the comma moves there.
        return Some(span.start..text.len() - rest.len());
    }
    if is_first_of_line && (next.is_empty() || next.starts_with(['\n', '\r', '#'])) {
        let line_end = next.find('\n').map_or(text.len(), |at| end + at + 1);
        return Some(start..line_end);
    }
    if text[..start].ends_with(',') && next.starts_with(['}', ']', '\n', '\r']) {
        return Some(start - 1..span.end);
    }
    Some(span.clone())
}

/// A key added to a table that stands at a place.
fn added(text: &str, table: &Range<usize>, line: &str) -> Option<(Range<usize>, String)> {
    let there = text.get(table.clone())?;
    if let Some(inner) = there.strip_prefix('{').and_then(|rest| rest.strip_suffix('}')) {
        let end = table.start + 1 + inner.trim_end().len();
        let comma = match inner.trim_end() {
            "" => " ",
            entries if entries.ends_with(',') => " ",
            _ => ", ",
        };
        return Some((end..table.end - 1, format!("{comma}{line} ")));
    }
    if !there.starts_with('[') {
        return None;
    }
    let end = text[table.start..].find('\n').map_or(text.len(), |end| table.start + end);
    Some((end..end, format!("\n{line}")))
}

/// A key added behind the head of a table, or with a head behind all else.
fn added_under(text: &str, head: &str, line: &str) -> (Range<usize>, String) {
    let mut at = 0;
    for written in text.split_inclusive('\n') {
        at += written.len();
        let named = written.trim().strip_prefix('[').and_then(|rest| rest.split(']').next());
        if named.is_some_and(|named| named.trim() == head) {
            let gap = if written.ends_with('\n') { "" } else { "\n" };
            return (at..at, format!("{gap}{line}\n"));
        }
    }
    let gap = match text {
        "" => "",
        text if text.ends_with('\n') => "\n",
        _ => "\n\n",
    };
    (text.len()..text.len(), format!("{gap}[{head}]\n{line}\n"))
}

fn shortened(text: &str) -> String {
    let line = text.lines().next().unwrap_or_default();
    match line.char_indices().nth(MAX_TITLE) {
        Some((end, _)) => format!("{}…", &line[..end]),
        None if line.len() < text.len() => format!("{line} …"),
        None => line.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn done(fix: &Fix, text: &str) -> String {
        let (span, new) = fix.edit(text).unwrap();
        let mut made = text.to_owned();
        made.replace_range(span, &new);
        made
    }

    fn place(text: &str, part: &str) -> Range<usize> {
        let start = text.find(part).unwrap();
        start..start + part.len()
    }

    #[test]
    fn what_is_removed_leaves_neither_a_comma_nor_an_empty_line() {
        for (text, part, left) in [
            ("x = { from = \"a\", path = \"b\" }", "from = \"a\"", "x = { path = \"b\" }"),
            ("x = { from = \"a\", path = \"b\" }", "path = \"b\"", "x = { from = \"a\" }"),
            (
                "x = { from = \"a\", git = \"c\", path = \"b\" }",
                "git = \"c\"",
                "x = { from = \"a\", path = \"b\" }",
            ),
            ("x = { from = \"a\" }", "from = \"a\"", "x = {  }"),
            ("a = [\"b\", \"c\"]", "\"b\"", "a = [\"c\"]"),
            ("a = [\"b\", \"c\"]", "\"c\"", "a = [\"b\"]"),
            ("a = [\n  \"b\",\n  \"c\",\n]", "\"b\"", "a = [\n  \"c\",\n]"),
            ("[n]\na = 1 # why\nb = 2\n", "a = 1", "[n]\nb = 2\n"),
            ("[n]\n  b = 2", "b = 2", "[n]\n"),
            ("r = \"v1.4\"", "v", "r = \"1.4\""),
        ] {
            let fix = Fix::Remove { span: place(text, part) };
            assert_eq!(done(&fix, text), left, "{text}");
            assert_eq!(fix.title(text).unwrap(), format!("Remove `{part}`"));
        }
    }

    #[test]
    fn a_key_is_added_where_its_table_stands() {
        let line = || "reason = \"\"".to_owned();
        for (text, table, made) in [
            ("x = { a = 1 }", "{ a = 1 }", "x = { a = 1, reason = \"\" }"),
            ("x = {}", "{}", "x = { reason = \"\" }"),
            ("[[w]]\na = 1\n", "[[w]]", "[[w]]\nreason = \"\"\na = 1\n"),
            ("[w] # all", "[w]", "[w] # all\nreason = \"\""),
        ] {
            let fix = Fix::Add { table: place(text, table), line: line() };
            assert_eq!(done(&fix, text), made);
        }
        assert_eq!(Fix::Add { table: 0..1, line: line() }.edit("w.a = 1"), None);
        for (text, made) in [
            ("", "[w]\nreason = \"\"\n"),
            ("a = 1", "a = 1\n\n[w]\nreason = \"\"\n"),
            ("[w] # all\n[v]\n", "[w] # all\nreason = \"\"\n[v]\n"),
            ("[w]", "[w]\nreason = \"\"\n"),
        ] {
            assert_eq!(done(&Fix::AddUnder { head: "w".to_owned(), line: line() }, text), made);
        }
    }

    #[test]
    fn a_text_gets_the_quotes_that_stand_there() {
        for (text, part, new, made) in [
            ("a = '1'", "'1'", "2", "a = '2'"),
            ("pergola/core = 1", "pergola/core", "pergola/base", "\"pergola/base\" = 1"),
            ("\"pergola/core\" = 1", "pergola/core", "pergola/base", "\"pergola/base\" = 1"),
            ("a = 1", "1", "\"1\"", "a = \"1\""),
            ("a = \"core\"", "core", "pergola/core", "a = \"pergola/core\""),
            ("nedds = 1", "nedds", "needs", "needs = 1"),
        ] {
            assert_eq!(done(&Fix::Write { span: place(text, part), text: new.to_owned() }, text), made);
        }
    }

    #[test]
    fn a_word_is_replaced_where_it_first_stands_in_quotes_behind_a_place() {
        let text = "a = \"kisk\"\nb = { to = 'kisk', targets = [\"kisk\"] } # kisk";
        let fix = |place| Fix::WriteBehind { place, word: "kisk".to_owned(), text: "kiosk".to_owned() };
        assert_eq!(done(&fix(12), text), text.replace("'kisk'", "'kiosk'"));
        assert_eq!(done(&fix(25), text), text.replace("[\"kisk\"]", "[\"kiosk\"]"));
        assert_eq!(fix(50).edit(text), None);
        assert_eq!(fix(0).title(text).unwrap(), "Write `kiosk`");
    }

    #[test]
    fn a_title_is_short_and_on_one_line() {
        let text = format!("a = [\n  1,\n]\nb = \"{}\"\n", "x".repeat(100));
        assert_eq!(Fix::Remove { span: 0..12 }.title(&text).unwrap(), "Remove `a = [ …`");
        let long = Fix::Remove { span: 13..text.len() }.title(&text).unwrap();
        assert!(long.ends_with("x…`") && long.len() < 80, "{long}");
    }
}
