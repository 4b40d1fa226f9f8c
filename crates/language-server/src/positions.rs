//! Places in texts: bytes here, lines and columns in the protocol (Language Server Protocol 3.17, section "Position").

use std::ops::Range;

use lsp_types::{Position, PositionEncodingKind, Range as LspRange};

/// What a column counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Encoding {
    /// Bytes.
    Utf8,
    /// Units of UTF-16, which every client knows.
    #[default]
    Utf16,
}

impl Encoding {
    /// The one to use with a client that offers these, the first being its favourite.
    pub fn chosen(offered: Option<&[PositionEncodingKind]>) -> Self {
        let offered = offered.unwrap_or_default();
        if offered.contains(&PositionEncodingKind::UTF8) { Self::Utf8 } else { Self::Utf16 }
    }

    /// How the protocol names it.
    pub fn kind(self) -> PositionEncodingKind {
        match self {
            Self::Utf8 => PositionEncodingKind::UTF8,
            Self::Utf16 => PositionEncodingKind::UTF16,
        }
    }

    fn width(self, letter: char) -> usize {
        match self {
            Self::Utf8 => letter.len_utf8(),
            Self::Utf16 => letter.len_utf16(),
        }
    }
}

/// Where the lines of a text begin.
#[derive(Debug, Clone)]
pub struct Lines {
    starts: Vec<usize>,
    encoding: Encoding,
}

impl Lines {
    /// The lines of a text.
    pub fn of(text: &str, encoding: Encoding) -> Self {
        let ends = text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1);
        Self { starts: [0].into_iter().chain(ends).collect(), encoding }
    }

    /// The byte that a position means; the nearest one, where there is no such line or column.
    pub fn offset(&self, text: &str, position: Position) -> usize {
        let Some(start) = self.starts.get(position.line as usize) else { return text.len() };
        let line = self.line(text, position.line as usize);
        let (mut column, wanted) = (0, position.character as usize);
        for (at, letter) in line.char_indices() {
            if column + self.encoding.width(letter) > wanted {
                return start + at;
            }
            column += self.encoding.width(letter);
        }
        start + line.len()
    }

    /// The position of a byte.
    pub fn position(&self, text: &str, offset: usize) -> Position {
        let offset = text.floor_char_boundary(offset);
        let line = self.starts.partition_point(|start| *start <= offset) - 1;
        let before = &text[self.starts[line]..offset];
        let column: usize = before.chars().map(|letter| self.encoding.width(letter)).sum();
        // Texts of manifests have at most a million bytes.
        Position {
            line: u32::try_from(line).unwrap_or(u32::MAX),
            character: u32::try_from(column).unwrap_or(u32::MAX),
        }
    }

    /// The same of a range.
    pub fn range(&self, text: &str, range: &Range<usize>) -> LspRange {
        LspRange { start: self.position(text, range.start), end: self.position(text, range.end) }
    }

    /// The bytes that a range of the protocol means.
    pub fn bytes(&self, text: &str, range: LspRange) -> Range<usize> {
        let (start, end) = (self.offset(text, range.start), self.offset(text, range.end));
        start.min(end)..end.max(start)
    }

    /// A line without its end.
    fn line<'t>(&self, text: &'t str, line: usize) -> &'t str {
        let end = self.starts.get(line + 1).copied().unwrap_or(text.len());
        text[self.starts[line]..end].trim_end_matches(['\n', '\r'])
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn columns_count_what_was_agreed_on() {
        let text = "a = \"🌿é\"\r\nb\n";
        let utf16 = Lines::of(text, Encoding::Utf16);
        assert_eq!(utf16.position(text, text.find('é').unwrap()), Position::new(0, 7));
        assert_eq!(utf16.offset(text, Position::new(0, 7)), text.find('é').unwrap());
        // The middle of a pair of units is the letter that they make.
        assert_eq!(utf16.offset(text, Position::new(0, 6)), text.find('🌿').unwrap());
        let utf8 = Lines::of(text, Encoding::Utf8);
        assert_eq!(utf8.position(text, text.find('é').unwrap()), Position::new(0, 9));
        // Beyond a line is its end, beyond the text its end.
        assert_eq!(utf16.offset(text, Position::new(0, 99)), text.find('\r').unwrap());
        assert_eq!(utf16.offset(text, Position::new(9, 0)), text.len());
    }

    proptest! {
        #[test]
        fn a_position_leads_back_to_its_byte(text in "[a🌿é\n]{0,40}", at in 0..80_usize) {
            let at = text.floor_char_boundary(at.min(text.len()));
            for encoding in [Encoding::Utf8, Encoding::Utf16] {
                let lines = Lines::of(&text, encoding);
                prop_assert_eq!(lines.offset(&text, lines.position(&text, at)), at);
            }
        }
    }
}
