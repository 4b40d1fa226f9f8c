//! Escapes characters that a terminal acts on, or that nobody sees.
//!
//! What such a character does is up to the terminal: it may move the cursor over what was written, set the window's title, or
//! let a text read otherwise than it is. No name, reason or message needs one.

use std::borrow::Cow;
use std::fmt::Write as _;

/// Whether a character is not just seen where it stands: control characters (ISO 6429), line separators, what changes the
/// direction of text (Unicode Standard Annex 9), and what has no width.
pub fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}' | '\u{1160}' | '\u{17b4}' | '\u{17b5}'
            | '\u{180b}'..='\u{180f}'
            | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}'
            | '\u{3164}' | '\u{feff}' | '\u{ffa0}' | '\u{fff0}'..='\u{fffb}'
            | '\u{1bca0}'..='\u{1bca3}' | '\u{1d173}'..='\u{1d17a}' | '\u{e0000}'..='\u{e0fff}')
}

/// The text with hidden characters as escapes such as `\u{1b}`.
pub fn escaped(text: &str) -> Cow<'_, str> {
    escaped_but(text, |_| false)
}

/// The same, where some hidden characters may stay.
pub fn escaped_but(text: &str, may_stay: impl Fn(char) -> bool) -> Cow<'_, str> {
    let has_to_go = |c: char| is_hidden(c) && !may_stay(c);
    if !text.chars().any(has_to_go) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match has_to_go(c) {
            // Writing into a string can't fail.
            true => _ = write!(shown, "\\u{{{:x}}}", u32::from(c)),
            false => shown.push(c),
        }
    }
    Cow::Owned(shown)
}

/// A text as Markdown takes it for what it is, also in a table.
pub fn in_markdown(text: &str) -> String {
    let escape = |c: char| match c {
        c if "\\`*_[]<>|~#!&".contains(c) => format!("\\{c}"),
        c if is_hidden(c) => " ".to_owned(),
        c => c.to_string(),
    };
    text.chars().map(escape).collect()
}

/// A text as XML and HTML take it for what it is, also as an attribute's value in quotes.
pub fn in_xml(text: &str) -> String {
    let mut shown = String::with_capacity(text.len() + 16);
    for c in escaped(text).chars() {
        match c {
            '&' => shown.push_str("&amp;"),
            '<' => shown.push_str("&lt;"),
            '>' => shown.push_str("&gt;"),
            '"' => shown.push_str("&quot;"),
            c => shown.push(c),
        }
    }
    shown
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_in_a_text_acts_in_a_page() {
        assert_eq!(in_xml("a <b \"c\"> & d\u{202e}"), "a &lt;b &quot;c&quot;&gt; &amp; d\\u{202e}");
    }

    #[test]
    fn what_a_terminal_acts_on_is_shown_and_all_else_stays() {
        assert_eq!(escaped("a\u{1b}[2Jb\u{9b}c\u{7f}\n"), "a\\u{1b}[2Jb\\u{9b}c\\u{7f}\\u{a}");
        assert_eq!(escaped("\u{202e}gnp\u{2066}\u{200b}\u{feff}"), "\\u{202e}gnp\\u{2066}\\u{200b}\\u{feff}");
        assert_eq!(escaped_but("a\nb\tc", |c| c == '\n'), "a\nb\\u{9}c");
        for stays in ["", "moss", "Grün – 苔 مطر", "👍🏽 ☂️", "a b"] {
            assert!(matches!(escaped(stays), Cow::Borrowed(_)), "{stays}");
        }
    }
}
