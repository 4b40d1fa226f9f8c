//! A fault in a text that people write, with advice.
//!
//! A [`Fault`] is data: a stable code, one sentence, the place in the text and, where there is one,
//! the advice. It knows nothing of files or terminals; the code that read the text adds its path and shows it.

use std::fmt;
use std::ops::Range;

/// How many faults of one text are shown; the rest are counted.
pub const MAX_SHOWN: usize = 20;

/// One thing that is wrong in a text, with its place in bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Stable dotted code, such as `range.unexpected`; `docs/errors.md` lists them all.
    pub code: &'static str,
    /// What is wrong, as one sentence without a full stop.
    pub message: String,
    /// Where in the text, in bytes; may be empty to point between two characters.
    pub span: Range<usize>,
    /// A few words to stand at the place itself; may be empty.
    pub label: Box<str>,
    /// What to write or run instead.
    pub advice: Option<String>,
    /// Texts that would be right, as far as they can be told, the likeliest first.
    pub fixes: Box<[Fix]>,
}

/// A text that would be right at a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fix {
    /// The place, in bytes; empty where something is missing.
    pub span: Range<usize>,
    /// The text to stand there. Quotes that stand there stay.
    pub text: String,
}

impl Fix {
    /// What has to stand at the place in a text, with the quotes that are there, or that TOML wants around a name with a `/`.
    pub fn written_in(&self, text: &str) -> String {
        let there = text.get(self.span.clone()).unwrap_or_default();
        let quote = there.chars().next().filter(|letter| matches!(letter, '"' | '\''));
        let is_quoted = quote.is_some() && there.len() > 1 && there.ends_with(quote.unwrap_or_default());
        let has_own = self.text.starts_with(['"', '\'']);
        match quote {
            Some(quote) if is_quoted && !has_own => format!("{quote}{}{quote}", self.text),
            None if self.text.contains('/')
                && !there.is_empty()
                && !has_own
                && !is_within_quotes(text, self.span.start) =>
            {
                format!("\"{}\"", self.text)
            }
            _ => self.text.clone(),
        }
    }
}

/// Whether the byte before a place is a quote, so that the place is inside of a text.
fn is_within_quotes(text: &str, at: usize) -> bool {
    text.get(..at).is_some_and(|before| before.ends_with(['"', '\'']))
}

impl Fault {
    /// A fault at `span`, yet without label or advice.
    pub fn new(code: &'static str, message: impl Into<String>, span: Range<usize>) -> Self {
        Self {
            code,
            message: message.into(),
            span,
            label: Box::default(),
            advice: None,
            fixes: Box::default(),
        }
    }

    /// The same fault with a few words to stand at its place.
    #[must_use]
    pub fn label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into().into_boxed_str();
        self
    }

    /// The same fault with what to write or run instead.
    #[must_use]
    pub fn advice(mut self, advice: impl Into<String>) -> Self {
        self.advice = Some(advice.into());
        self
    }

    /// The same fault with a text that would be right at a place.
    #[must_use]
    pub fn fix(mut self, span: Range<usize>, text: impl Into<String>) -> Self {
        let mut fixes = self.fixes.into_vec();
        fixes.push(Fix { span, text: text.into() });
        self.fixes = fixes.into_boxed_slice();
        self
    }

    /// The same fault, its place moved by `offset` bytes: for a text that stands inside another.
    #[must_use]
    pub fn shifted(mut self, offset: usize) -> Self {
        let moved = |span: &Range<usize>| span.start + offset..span.end + offset;
        self.span = moved(&self.span);
        self.fixes.iter_mut().for_each(|fix| fix.span = moved(&fix.span));
        self
    }

    /// The line and column of its place in a text, both from 1; the column counts characters.
    pub fn line_and_column(&self, text: &str) -> (usize, usize) {
        line_and_column(text, self.span.start)
    }
}

impl fmt::Display for Fault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)?;
        match &self.advice {
            Some(advice) => write!(f, " (try: {advice})"),
            None => Ok(()),
        }
    }
}

impl std::error::Error for Fault {}

/// The line and column of a byte of a text, both from 1; the column counts characters.
pub fn line_and_column(text: &str, at: usize) -> (usize, usize) {
    let before = &text[..text.floor_char_boundary(at)];
    let start = before.rfind('\n').map_or(0, |end| end + 1);
    (before.matches('\n').count() + 1, before[start..].chars().count() + 1)
}

/// The first line that a version control system leaves where two sides of a merge can't be put together.
pub fn conflict_marker(text: &str) -> Option<Range<usize>> {
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        if ["<<<<<<<", ">>>>>>>", "=======", "|||||||"].iter().any(|marker| line.starts_with(marker)) {
            return Some(start..start + line.trim_end().len());
        }
        start += line.len();
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fix_keeps_the_quotes_that_are_there_and_adds_those_that_a_name_needs() {
        let fixed = |text: &str, span: Range<usize>, fix: &str| {
            let fix = Fix { span, text: fix.to_owned() };
            let written = fix.written_in(text);
            format!("{}{written}{}", &text[..fix.span.start], &text[fix.span.end..])
        };
        assert_eq!(fixed("a = 'linx'", 4..10, "linux"), "a = 'linux'");
        assert_eq!(fixed("nedds = 1", 0..5, "needs"), "needs = 1");
        assert_eq!(fixed("core = 1", 0..4, "pergola/core"), "\"pergola/core\" = 1");
        assert_eq!(fixed("a = \"core\"", 5..9, "pergola/core"), "a = \"pergola/core\"");
        assert_eq!(fixed("a = [\"1\" \"2\"]", 8..8, ","), "a = [\"1\", \"2\"]");
    }
}
