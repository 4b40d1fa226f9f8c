//! Text on its one way to the terminal: our own styles become what the terminal understands, all else that it would act on
//! becomes an escape.
//!
//! Styles travel as characters of their own until then, so that an escape sequence in a text is never ours.

use std::borrow::Cow;
use std::fmt::{self, Write as _};
use std::ops::Range;

use anstyle::{Ansi256Color, Style};
use bibliotax_core::escape::{escaped, escaped_but, is_hidden};
use textwrap::{Options, WordSeparator, WordSplitter, fill};
use unicode_width::UnicodeWidthStr;

/// How words look; one of a few.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Look(usize);

/// The looks there are, the same everywhere; none carries a meaning alone. The colours are of the 256 that terminals agree on, and
/// have a contrast of at least 4.5 : 1 to black and to white (WCAG 2.2, success criterion 1.4.3).
const LOOKS: [Style; 5] = [
    Style::new().bold(),
    Ansi256Color(243).on_default(),
    Ansi256Color(29).on_default(),
    Ansi256Color(131).on_default(),
    Ansi256Color(163).on_default().bold(),
];

/// The looks by name.
pub mod style {
    use super::Look;

    /// For titles and names.
    pub const STRONG: Look = Look(0);
    /// For what may be skipped.
    pub const FAINT: Look = Look(1);
    /// For what is well.
    pub const GOOD: Look = Look(2);
    /// For warnings.
    pub const WARNING: Look = Look(3);
    /// For what is wrong.
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

/// Our own lines as a terminal gets them, with foreign text in them made harmless.
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

/// A line on lines of a width, broken between words only; those below are as far in as the first one, and so much further.
pub fn wrapped(line: &str, width: usize, further: usize) -> String {
    if line.width() <= width {
        return line.to_owned();
    }
    let text = line.trim_start_matches(' ');
    let begin = " ".repeat(line.len() - text.len());
    let go_on = format!("{begin}{}", " ".repeat(further));
    let options = Options::new(width)
        .initial_indent(&begin)
        .subsequent_indent(&go_on)
        .break_words(false)
        .word_splitter(WordSplitter::NoHyphenation)
        .word_separator(WordSeparator::AsciiSpace);
    fill(text, options)
}

/// A text in ASCII: our own signs as what looks like them, each other character as `?`.
pub fn ascii(text: &str) -> Cow<'_, str> {
    if text.is_ascii() {
        return text.into();
    }
    let sign = |c: char| match c {
        '…' => "...",
        '→' => "->",
        '–' | '—' | '─' => "-",
        '‘' | '’' => "'",
        '“' | '”' => "\"",
        '·' | '•' => "*",
        '│' => "|",
        '×' => "x",
        _ => "?",
    };
    let mut written = String::with_capacity(text.len());
    for c in text.chars() {
        if c.is_ascii() { written.push(c) } else { written.push_str(sign(c)) }
    }
    written.into()
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

/// How many bytes of a line are shown on each side of a place in it.
const AROUND_PLACE: usize = 200;

/// How many bytes of what is pointed at are shown.
const MAX_PLACE_LEN: usize = 400;

/// The lines around a place in a text, with what a terminal would act on as escapes, and where the place is then.
///
/// All lines before are there, but empty, so that each keeps its number; a long line is cut around the place.
pub fn lines_around(text: &str, place: Range<usize>) -> (String, Range<usize>) {
    let start = text.floor_char_boundary(place.start);
    let end = text.floor_char_boundary(place.end.clamp(start, start + MAX_PLACE_LEN));
    let shown = |text: &str| escaped_but(text, |c| matches!(c, '\n' | '\t')).into_owned();
    let line_start = text[..start].rfind('\n').map_or(0, |at| at + 1);
    let before = before_place(&text[..line_start], &text[line_start..start]);
    let mut lines = shown(&before);
    let from = lines.len();
    lines += &shown(&text[start..end]);
    let to = lines.len();
    lines += &shown(after_place(&text[end..]));
    (lines, from..to)
}

/// Empty lines, the line before that of the place, and the beginning of its own.
fn before_place(lines: &str, own: &str) -> String {
    let count = lines.matches('\n').count();
    let last = lines.lines().next_back().filter(|line| line.len() <= AROUND_PLACE).unwrap_or("");
    let numbered = if count > 0 { "\n".repeat(count - 1) + last + "\n" } else { String::new() };
    let cut = own.ceil_char_boundary(own.len().saturating_sub(AROUND_PLACE));
    numbered + if cut > 0 { "…" } else { "" } + &own[cut..]
}

/// The rest of the line, and the next one.
fn after_place(rest: &str) -> &str {
    let end = rest.match_indices('\n').nth(1).map_or(rest.len(), |(at, _)| at + 1);
    &rest[..rest.floor_char_boundary(end.min(AROUND_PLACE))]
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
    fn lines_are_broken_between_words_and_stay_as_far_in_as_they_were() {
        assert_eq!(wrapped("  dew-point is needed here", 16, 2), "  dew-point is\n    needed here");
        assert_eq!(
            wrapped("https://packages.example/dew-point", 10, 2),
            "https://packages.example/dew-point"
        );
        assert_eq!(wrapped("short", 10, 2), "short");
    }

    #[test]
    fn what_is_not_ascii_looks_like_it() {
        assert_eq!(ascii("3.0.0 … 2.3.0 → 1 “x” – moß"), "3.0.0 ... 2.3.0 -> 1 \"x\" - mo?");
    }

    /// The share of light that a level of a colour gives (WCAG 2.2, relative luminance).
    fn light(level: u8) -> f64 {
        let share = f64::from(level) / 255.0;
        if share <= 0.04045 { share / 12.92 } else { ((share + 0.055) / 1.055).powf(2.4) }
    }

    #[test]
    fn colours_can_be_read_on_black_and_on_white() {
        const STEPS: [u8; 6] = [0, 95, 135, 175, 215, 255];
        for style in LOOKS {
            let Some(anstyle::Color::Ansi256(color)) = style.get_fg_color() else { continue };
            let (red, green, blue) = match color.0 {
                number @ 16..=231 => {
                    let [r, g, b] = [(number - 16) / 36, (number - 16) / 6 % 6, (number - 16) % 6];
                    (STEPS[r as usize], STEPS[g as usize], STEPS[b as usize])
                }
                number => (8 + (number - 232) * 10, 8 + (number - 232) * 10, 8 + (number - 232) * 10),
            };
            let luminance = 0.2126 * light(red) + 0.7152 * light(green) + 0.0722 * light(blue);
            assert!((luminance + 0.05) / 0.05 >= 4.5, "{color:?} on black");
            assert!(1.05 / (luminance + 0.05) >= 4.5, "{color:?} on white");
        }
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
        let (shown, place) = lines_around(text, text.len() - 1..text.len());
        assert_eq!((shown.as_str(), &shown[place]), ("a = \"\\u{202e}\"\nb", "b"));
    }

    #[test]
    fn of_a_long_text_only_what_is_around_a_place_is_shown_with_its_line_number() {
        let long = "é".repeat(5000);
        let text = format!("{}{long} dew {long}\n{}", "moss\n".repeat(100), "fern\n".repeat(100));
        let at = text.find("dew").unwrap();
        let (shown, place) = lines_around(&text, at..at + 3);
        assert_eq!(&shown[place.clone()], "dew");
        assert_eq!(shown[..place.start].matches('\n').count(), 100);
        assert!(shown.len() < 100 + 3 * AROUND_PLACE, "{}", shown.len());
        let (shown, place) = lines_around(&text, 0..text.len());
        assert!(place.start == 0 && shown.len() < 2 * MAX_PLACE_LEN, "{}", shown.len());
    }
}
