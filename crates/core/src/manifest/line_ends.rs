//! Line ends and byte order mark of a text, which edits keep.

const BYTE_ORDER_MARK: char = '\u{feff}';

/// The line ends of a text, with its lines, and whether it begins with a byte order mark.
#[derive(Debug, Clone)]
pub struct LineEnds {
    has_mark: bool,
    /// Each line without its end, and whether that is a carriage return and a line feed; nothing where it has none.
    lines: Vec<(String, Option<bool>)>,
}

impl LineEnds {
    /// Takes a text apart: its line ends, and the same text with line feeds alone.
    pub fn taken_off(text: &str) -> (Self, String) {
        let bare = text.strip_prefix(BYTE_ORDER_MARK);
        let plain = bare.unwrap_or(text).replace("\r\n", "\n");
        let line = |line: &str| match line.strip_suffix("\r\n") {
            Some(line) => (line.to_owned(), Some(true)),
            None => (line.trim_end_matches('\n').to_owned(), line.ends_with('\n').then_some(false)),
        };
        let lines = bare.unwrap_or(text).split_inclusive('\n').map(line).collect();
        (Self { has_mark: bare.is_some(), lines }, plain)
    }

    /// An edited text as it is to be written: each line that was there ends as it did, and a new one as the line before it.
    pub fn put_back(&self, edited: &str) -> String {
        let mut text = String::new();
        text.extend(self.has_mark.then_some(BYTE_ORDER_MARK));
        let (mut next, mut is_long) = (0, self.lines.first().and_then(|(_, end)| *end).unwrap_or_default());
        for line in edited.split_inclusive('\n') {
            let (line, has_end) = line.strip_suffix('\n').map_or((line, false), |line| (line, true));
            let same = self.lines[next..].iter().position(|(there, _)| there == line);
            if let Some(found) = same {
                is_long = self.lines[next + found].1.unwrap_or(is_long);
                next += found + 1;
            }
            text.push_str(line);
            text.push_str(match (has_end, is_long) {
                (false, _) => "",
                (true, true) => "\r\n",
                (true, false) => "\n",
            });
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use crate::manifest::ManifestText;

    const NEEDS: &str =
        "# A gate.\n[project]\nname = \"gate-kiosk\"\n\n[needs]\n# why\nmoss-map = \"1\"\nbark-log = \"2\"\n";

    /// The text with these line ends, in turn, and perhaps a mark before it.
    fn ended(text: &str, ends: &[bool], has_mark: bool) -> String {
        let lines = text.split_inclusive('\n').zip(ends.iter().cycle());
        let lines =
            lines.map(|(line, is_long)| if *is_long { line.replace('\n', "\r\n") } else { line.to_owned() });
        format!("{}{}", if has_mark { "\u{feff}" } else { "" }, lines.collect::<String>())
    }

    proptest! {
        #[test]
        fn an_edit_changes_no_other_line(
            ends in proptest::collection::vec(any::<bool>(), 1..9),
            has_mark in any::<bool>(),
        ) {
            let text = ended(NEEDS, &ends, has_mark);
            let mut open = ManifestText::open(&text).unwrap();
            prop_assert_eq!(open.to_string(), text.clone());
            open.set_need(None, &"moss-map".parse().unwrap(), &"3".parse().unwrap());
            open.set_need(None, &"dew-point".parse().unwrap(), &"1".parse().unwrap());
            let edited = open.to_string();
            let changed = text.replace("moss-map = \"1\"", "moss-map = \"3\"");
            prop_assert_eq!(edited.lines().count(), text.lines().count() + 1);
            let kept = edited.split_inclusive('\n').filter(|line| !line.contains("dew-point") && !line.contains("moss-map"));
            let before = changed.split_inclusive('\n').filter(|line| !line.contains("moss-map"));
            prop_assert_eq!(kept.collect::<Vec<_>>(), before.collect::<Vec<_>>());
        }

        #[test]
        fn texts_of_one_kind_stay_of_that_kind(is_long in any::<bool>(), has_mark in any::<bool>()) {
            let text = ended(NEEDS, &[is_long], has_mark);
            let mut open = ManifestText::open(&text).unwrap();
            open.set_need(None, &"moss-map".parse().unwrap(), &"3".parse().unwrap());
            open.set_need(None, &"dew-point".parse().unwrap(), &"1".parse().unwrap());
            let edited = open.to_string();
            prop_assert_eq!(edited.starts_with('\u{feff}'), has_mark);
            prop_assert_eq!(edited.matches("\r\n").count(), if is_long { edited.matches('\n').count() } else { 0 });
        }
    }
}
