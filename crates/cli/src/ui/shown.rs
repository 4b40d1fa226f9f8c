//! Text on its one way to the terminal: our own styles become what the terminal understands, all else that it would act on
//! becomes an escape.
//!
//! Styles travel as characters of their own until then, so that an escape sequence in a text is never ours.

use std::borrow::Cow;
use std::fmt::{self, Write as _};

use anstyle::{AnsiColor, Style};
use bibliotax_core::shown::{escaped, escaped_but, is_hidden};

/// How words look; one of a few.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look(usize);

/// The looks there are, the same everywhere; none carries a meaning alone.
const LOOKS: [Style; 5] = [
    Style::new().bold(),
    Style::new().dimmed(),
    AnsiColor::Green.on_default(),
    AnsiColor::Yellow.on_default(),
    AnsiColor::Red.on_default(),
];

/// The looks by name.
pub mod style {
    use super::Look;

    pub const STRONG: Look = Look(0);
    pub const FAINT: Look = Look(1);
    pub const GOOD: Look = Look(2);
    pub const HEED: Look = Look(3);
    pub const BAD: Look = Look(4);
}

/// Stand for the looks, and for their end, inside texts. They have no width, and no text has a use for them: they belong to the
/// variation selectors that no character has.
const MARKS: [char; LOOKS.len()] = ['\u{e01e0}', '\u{e01e1}', '\u{e01e2}', '\u{e01e3}', '\u{e01e4}'];
const END: char = '\u{e01ef}';

/// A text in a look.
pub fn styled(look: Look, text: impl fmt::Display) -> String {
    format!("{}{text}{END}", MARKS[look.0])
}

/// Foreign text on one line, without what a terminal would act on.
pub fn clean(text: &str) -> String {
    escaped(&on_one_line(text)).into_owned()
}

/// A text on one line.
pub fn on_one_line(text: &str) -> Cow<'_, str> {
    let is_blank = |c: char| matches!(c, '\n' | '\t' | '\r');
    if text.contains(is_blank) {
        text.replace("\r\n", " ").replace(is_blank, " ").into()
    } else {
        text.into()
    }
}

/// Our own lines as a terminal gets them, whatever foreign text is in them.
pub fn for_terminal(text: &str) -> String {
    let shown = escaped_but(text, |c| matches!(c, '\n' | '\t' | END) || MARKS.contains(&c));
    let mut written = String::with_capacity(shown.len());
    let mut open: Option<Style> = None;
    for c in shown.chars() {
        // Writing into a string can't fail.
        if let Some(look) = MARKS.iter().position(|mark| *mark == c) {
            open = Some(LOOKS[look]);
            let _ = write!(written, "{}", LOOKS[look]);
        } else if c == END {
            let _ = write!(written, "{:#}", open.take().unwrap_or_default());
        } else {
            written.push(c);
        }
    }
    written
}

/// JSON with everything that a terminal would act on as escapes of JSON (RFC 8259, section 7), which mean the same.
pub fn json_for_terminal(json: &str) -> String {
    let mut written = String::with_capacity(json.len());
    for c in json.chars() {
        if is_hidden(c) {
            let mut units = [0; 2];
            for unit in c.encode_utf16(&mut units) {
                let _ = write!(written, "\\u{unit:04x}");
            }
        } else {
            written.push(c);
        }
    }
    written
}

/// A text of several lines with what a terminal would act on as escapes, and where a byte of it stands then.
pub fn lines_with_places(text: &str, places: [usize; 2]) -> (String, [usize; 2]) {
    let shown = |text: &str| escaped_but(text, |c| matches!(c, '\n' | '\t')).into_owned();
    let place = |at: usize| shown(&text[..text.floor_char_boundary(at)]).len();
    (shown(text), places.map(place))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_our_own_styles_reach_a_terminal_as_such() {
        let line = format!("{}: {}\n", styled(style::STRONG, "lock"), "\u{1b}[31mred\u{9b}2J\u{202e}");
        assert_eq!(for_terminal(&line), "\u{1b}[1mlock\u{1b}[0m: \\u{1b}[31mred\\u{9b}2J\\u{202e}\n");
        assert_eq!(clean("two\r\nlines\u{1b}]0;x\u{7}"), "two lines\\u{1b}]0;x\\u{7}");
    }

    #[test]
    fn json_means_the_same_without_hidden_characters() {
        let text = "\u{9b}2J \u{202e} \u{e0041} moss \u{1b} \n";
        let json = json_for_terminal(&serde_json::to_string(text).unwrap());
        assert!(json.is_ascii(), "{json}");
        assert_eq!(serde_json::from_str::<String>(&json).unwrap(), text);
    }

    #[test]
    fn a_place_in_a_text_moves_along_with_what_is_escaped_before_it() {
        let text = "a = \"\u{202e}\"\nb";
        let (shown, [before, after]) = lines_with_places(text, [0, text.len() - 1]);
        assert_eq!((shown.as_str(), before, &shown[after..]), ("a = \"\\u{202e}\"\nb", 0, "b"));
    }
}
