//! The lines of a text around a fault, with their numbers and a mark under the place.

use std::ops::Range;

use bibliotax_core::fault::Fault;
use unicode_width::{UnicodeWidthChar, UnicodeWidthStr};

use crate::terminal::{clean, lines_around, style, styled};

/// How wide a tab is shown.
const TAB: &str = "    ";

/// Where a fault is, the line before it, its own line, and a mark under the place with the fault's label.
///
/// The lines must not be broken, since the mark stands under the place: those that are wider than `width` columns are cut.
pub fn excerpt(name: &str, text: &str, fault: &Fault, width: usize) -> Vec<String> {
    let (line, column) = fault.line_and_column(text);
    let (shown, place) = lines_around(text, fault.span.clone());
    let start = shown[..place.start].rfind('\n').map_or(0, |at| at + 1);
    let end = shown[place.start..].find('\n').map_or(shown.len(), |length| place.start + length);
    let is_one_line = line == 1 && end == shown.len();
    let at = if is_one_line { clean(name) } else { format!("{}:{line}:{column}", clean(name)) };
    let margin = Margin { digits: line.to_string().len() };
    let columns = width.saturating_sub(margin.width());
    let before = shown[..start].lines().next_back().filter(|line| !line.trim().is_empty());
    let own = Marked::new(&shown[start..end], place.start - start..place.end.min(end) - start, columns);
    let mut lines = vec![format!("  at {at}")];
    lines.extend(before.map(|before| margin.numbered(line - 1, &beginning(&expanded(before), columns))));
    lines.push(margin.numbered(line, &own.line));
    let mark = " ".repeat(margin.width() + own.from) + &styled(style::BAD, "~".repeat(own.width));
    let label = clean(&fault.label);
    if label.is_empty() || own.from + own.width + label.width() < columns {
        lines.push(format!("{mark} {label}").trim_end().to_owned());
    } else {
        lines.extend([mark, " ".repeat(margin.width()) + &label]);
    }
    lines
}

/// What stands before the lines of a text.
struct Margin {
    /// How many digits the largest line number has.
    digits: usize,
}

impl Margin {
    fn width(&self) -> usize {
        4 + self.digits + 2
    }

    fn numbered(&self, number: usize, text: &str) -> String {
        let number = styled(style::FAINT, format!("{number:>width$}:", width = self.digits));
        format!("    {number} {}", text.trim_end())
    }
}

/// A line that fits, and the columns of it that are marked.
struct Marked {
    line: String,
    from: usize,
    width: usize,
}

impl Marked {
    fn new(line: &str, place: Range<usize>, columns: usize) -> Self {
        let [before, marked, after] =
            [&line[..place.start], &line[place.clone()], &line[place.end..]].map(expanded);
        let is_wide = before.width() + marked.width() + after.width() > columns;
        let before = if is_wide { ending(&before, columns / 3) } else { before };
        let marked = beginning(&marked, columns.saturating_sub(before.width()));
        let after = beginning(&after, columns.saturating_sub(before.width() + marked.width()));
        let (from, width) = (before.width(), marked.width().max(1));
        Self { line: before + &marked + &after, from, width }
    }
}

fn expanded(text: &str) -> String {
    text.replace('\t', TAB)
}

/// A text, or as much of its beginning as fits.
fn beginning(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    let (mut kept, mut width) = (String::new(), 1);
    for c in text.chars() {
        width += c.width().unwrap_or(0);
        if width > columns {
            break;
        }
        kept.push(c);
    }
    kept + "…"
}

/// A text, or as much of its end as fits.
fn ending(text: &str, columns: usize) -> String {
    if text.width() <= columns {
        return text.to_owned();
    }
    let turned = |text: &str| text.chars().rev().collect::<String>();
    turned(&beginning(&turned(text), columns))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::terminal::for_terminal;

    fn shown(text: &str, part: &str, label: &str) -> String {
        let start = text.find(part).unwrap();
        let fault = Fault::new("manifest.unknown-key", "", start..start + part.len()).label(label);
        let lines = excerpt("bibliotax.toml", text, &fault, 60);
        let lines: Vec<String> = lines.iter().map(|line| for_terminal(line)).collect();
        anstream::adapter::strip_str(&lines.join("\n")).to_string()
    }

    #[test]
    fn the_mark_stands_under_its_place() {
        let text = "[project]\nname = \"gate\"\n\tmoss = \"雨 9 .. 2\" # é\n";
        let expected =
            "  at bibliotax.toml:3:12\n    2: name = \"gate\"\n    3:     moss = \"雨 9 .. 2\" # é\n";
        let expected = format!("{expected}{}~~~~~~ turned", " ".repeat(7 + 15));
        assert_eq!(shown(text, "9 .. 2", "turned"), expected);
    }

    #[test]
    fn a_word_of_a_command_line_has_no_line_number_in_its_place() {
        assert_eq!(shown("9 .. 2", "2", ""), "  at bibliotax.toml\n    1: 9 .. 2\n            ~");
    }

    #[test]
    fn a_place_of_several_lines_is_marked_to_the_end_of_the_first() {
        assert_eq!(shown("a\nbc\nd", "bc\nd", ""), "  at bibliotax.toml:2:1\n    1: a\n    2: bc\n       ~~");
    }

    #[test]
    fn a_line_that_is_too_wide_is_cut_around_its_place() {
        let text = format!("{}moss{}", "a".repeat(100), "b".repeat(100));
        let cut = shown(&text, "moss", "a label that is too long to stand beside the mark itself");
        let line = cut.lines().nth(1).unwrap();
        assert_eq!(line.chars().count(), 60);
        assert_eq!(
            line.find("moss").map(|at| line[..at].chars().count()),
            cut.lines().nth(2).unwrap().find('~')
        );
        assert_eq!(cut.lines().count(), 4);
    }
}
