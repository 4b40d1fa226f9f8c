//! A fault in a text that people write, with advice.
//!
//! A [`Fault`] is data: a stable code, one sentence, the place in the text and, where there is one,
//! the advice. It knows nothing of files or terminals; the code that read the text adds its path and shows it.

use std::fmt;
use std::ops::Range;

use crate::fix::Fix;

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
    /// Changes that would put it right, as far as they are known, the likeliest first.
    pub fixes: Box<[Fix]>,
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
    pub fn fix(self, span: Range<usize>, text: impl Into<String>) -> Self {
        self.offering([Fix::Write { span, text: text.into() }])
    }

    /// The same fault with changes that would put it right.
    #[must_use]
    pub fn offering(mut self, fixes: impl IntoIterator<Item = Fix>) -> Self {
        self.fixes = self.fixes.into_iter().chain(fixes).collect();
        self
    }

    /// The same fault, its place moved by `offset` bytes: for a text that stands inside another.
    #[must_use]
    pub fn shifted(mut self, offset: usize) -> Self {
        self.span = self.span.start + offset..self.span.end + offset;
        self.fixes = self.fixes.into_iter().map(|fix| fix.shifted(offset)).collect();
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
