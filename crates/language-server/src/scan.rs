//! What stands where in a manifest that is being written: tables, keys and values by their places, also where the text isn't TOML yet.
//!
//! A parser of TOML refuses a text with one slip; somebody who types makes one with every letter. This reads on behind what it can't make
//! sense of, and never fails. What the manifest means is for its reader.

use std::ops::Range;

/// A step on the way to a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// A key of a table.
    Key(String),
    /// An element of a list.
    Item,
}

impl Step {
    fn key(&self) -> Option<&str> {
        if let Self::Key(key) = self { Some(key) } else { None }
    }
}

/// A key with its value, or the head of a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The way to it from the top, its own key included.
    pub path: Vec<Step>,
    /// Where its key stands; of several with dots between, the last.
    pub key: Range<usize>,
    /// Where its value stands; `None` where it has none yet.
    pub value: Option<Range<usize>>,
    /// Whether it is the head of a table: `[needs]`.
    pub is_head: bool,
}

/// What the cursor is in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Place {
    /// The head of a table, behind these keys.
    Head {
        /// The keys before the one at the cursor.
        path: Vec<Step>,
        /// The key at the cursor.
        word: Range<usize>,
    },
    /// A key.
    Key {
        /// The way to the table that it is in.
        path: Vec<Step>,
        /// The key, without quotes.
        word: Range<usize>,
        /// Whether it stands in quotes.
        is_quoted: bool,
        /// Whether a `=` stands behind it.
        has_value: bool,
    },
    /// A value.
    Value {
        /// The way to it.
        path: Vec<Step>,
        /// What of it is written, without quotes.
        word: Range<usize>,
        /// Whether it stands in quotes.
        is_quoted: bool,
    },
}

/// What was found in a text.
#[derive(Debug, Clone, Default)]
pub struct Scan {
    /// Keys and heads of tables, in their order.
    pub entries: Vec<Entry>,
    /// What the cursor is in; nothing in a comment, or without a cursor.
    pub place: Option<Place>,
}

/// Reads a text.
pub fn scan(text: &str) -> Scan {
    Scanner::new(text, None).read()
}

/// Reads a text and finds out what a byte of it is in.
pub fn scan_at(text: &str, cursor: usize) -> Scan {
    Scanner::new(text, Some(cursor)).read()
}

impl Entry {
    /// The keys that lead to it; elements of lists count as nothing.
    pub fn keys(&self) -> Vec<&str> {
        keys(&self.path)
    }
}

impl Scan {
    /// The entry whose key or value a byte is in: of several, the innermost.
    pub fn entry_at(&self, offset: usize) -> Option<&Entry> {
        let is_in = |range: &Range<usize>| range.start <= offset && offset <= range.end;
        let found =
            self.entries.iter().filter(|entry| is_in(&entry.key) || entry.value.as_ref().is_some_and(is_in));
        found.max_by_key(|entry| entry.path.len())
    }

    /// The entries with these keys.
    pub fn with_keys<'s>(&'s self, keys: &'s [&str]) -> impl Iterator<Item = &'s Entry> {
        self.entries.iter().filter(move |entry| entry.keys() == keys)
    }
}

/// The keys of a way.
pub fn keys(path: &[Step]) -> Vec<&str> {
    path.iter().filter_map(Step::key).collect()
}

struct Scanner<'t> {
    text: &'t str,
    at: usize,
    cursor: Option<usize>,
    found: Scan,
}

/// A key as it is written.
struct Key {
    name: String,
    /// Without quotes.
    span: Range<usize>,
    is_quoted: bool,
}

impl<'t> Scanner<'t> {
    fn new(text: &'t str, cursor: Option<usize>) -> Self {
        Self { text, at: 0, cursor, found: Scan::default() }
    }

    fn read(mut self) -> Scan {
        let mut table = Vec::new();
        loop {
            self.blanks_before_key(&table);
            match self.next() {
                None => break,
                Some('[') => table = self.head(),
                Some(_) => self.statement(&table),
            }
        }
        self.found
    }

    fn next(&self) -> Option<char> {
        self.text[self.at..].chars().next()
    }

    fn starts_with(&self, text: &str) -> bool {
        self.text[self.at..].starts_with(text)
    }

    fn skip(&mut self, is_skipped: impl Fn(char) -> bool) -> Range<usize> {
        let start = self.at;
        let rest = &self.text[start..];
        self.at += rest.find(|letter| !is_skipped(letter)).unwrap_or(rest.len());
        start..self.at
    }

    /// Whether the cursor is in a range or at its end.
    fn has_cursor(&self, range: &Range<usize>) -> bool {
        self.cursor.is_some_and(|cursor| range.start <= cursor && cursor <= range.end)
    }

    /// Notes what the cursor is in, unless that is known.
    fn note(&mut self, place: impl FnOnce(usize) -> Place) {
        if let (Some(cursor), None) = (self.cursor, &self.found.place) {
            self.found.place = Some(place(cursor));
        }
    }

    /// Blanks, ends of lines and comments in front of a key. Where the cursor is in them, a key may be written there.
    fn blanks_before_key(&mut self, table: &[Step]) {
        loop {
            let blank = self.skip(char::is_whitespace);
            // In front of what follows is where that is changed.
            let is_in_blank = self
                .cursor
                .is_some_and(|cursor| blank.start <= cursor && cursor < blank.end.max(blank.start + 1));
            let is_at_end = self.at == self.text.len() && self.has_cursor(&blank);
            let is_comment = self.starts_with("#");
            let is_in_front =
                is_in_blank && (blank.end > blank.start || is_comment) && self.cursor != Some(blank.end);
            if is_in_front || is_at_end {
                let path = table.to_vec();
                self.note(|cursor| Place::Key {
                    path,
                    word: cursor..cursor,
                    is_quoted: false,
                    has_value: false,
                });
            }
            if !is_comment {
                return;
            }
            let comment = self.skip(|letter| letter != '\n');
            if self.cursor.is_some_and(|cursor| comment.start < cursor && cursor <= comment.end) {
                // Nothing is offered in a comment, even if something is found later.
                self.cursor = None;
            }
        }
    }

    fn head(&mut self) -> Vec<Step> {
        let is_list = self.starts_with("[[");
        self.at += if is_list { 2 } else { 1 };
        let mut path = Vec::new();
        loop {
            self.skip(|letter| letter == ' ' || letter == '\t');
            let key = self.key();
            if self.has_cursor(&key.span) {
                let path = path.clone();
                let word = key.span.clone();
                self.note(|_| Place::Head { path, word });
            }
            path.push(Step::Key(key.name));
            self.skip(|letter| letter == ' ' || letter == '\t');
            let is_last = !self.starts_with(".");
            if is_last && is_list {
                path.push(Step::Item);
            }
            self.found.entries.push(Entry { path: path.clone(), key: key.span, value: None, is_head: true });
            if is_last {
                break;
            }
            // Only the last key is the head; those before are tables around it.
            self.found.entries.pop();
            self.at += 1;
        }
        self.skip(|letter| letter != '\n');
        path
    }

    /// A key with its value, and everything to the end of the line where that makes no sense.
    fn statement(&mut self, table: &[Step]) {
        let before = self.at;
        self.pair(table, &['\n']);
        if self.at == before {
            // What can't begin a key is passed over.
            self.at += self.next().map_or(0, char::len_utf8);
        }
        if self.text[..self.at].ends_with('\n') {
            // A bracket was left open, and the next line is the next statement.
            return;
        }
        // Behind a value there is only a comment.
        while self.next().is_some_and(|letter| letter != '\n') {
            if self.starts_with("#") {
                let comment = self.skip(|letter| letter != '\n');
                if self.cursor.is_some_and(|cursor| comment.start < cursor && cursor <= comment.end) {
                    self.cursor = None;
                }
            } else {
                self.at += self.next().map_or(1, char::len_utf8);
            }
        }
    }

    /// `key = value` in a table; a value that is missing ends before these letters.
    fn pair(&mut self, table: &[Step], ends: &[char]) {
        let mut path = table.to_vec();
        let mut key = self.key();
        loop {
            self.skip(|letter| letter == ' ' || letter == '\t');
            if !self.starts_with(".") {
                break;
            }
            path.push(Step::Key(key.name));
            self.at += 1;
            self.skip(|letter| letter == ' ' || letter == '\t');
            key = self.key();
        }
        let has_value = self.starts_with("=");
        if self.has_cursor(&key.span) {
            let (path, word, is_quoted) = (path.clone(), key.span.clone(), key.is_quoted);
            self.note(|_| Place::Key { path, word, is_quoted, has_value });
        }
        if key.name.is_empty() && !has_value {
            return;
        }
        path.push(Step::Key(key.name));
        let number = self.found.entries.len();
        self.found.entries.push(Entry { path: path.clone(), key: key.span, value: None, is_head: false });
        if has_value {
            self.at += 1;
            let behind = self.skip(|letter| letter == ' ' || letter == '\t');
            let value = self.value(&path, behind.start, ends);
            self.found.entries[number].value = value;
        }
    }

    fn key(&mut self) -> Key {
        match self.next() {
            Some(quote @ ('"' | '\'')) => {
                let (span, name) = self.quoted(quote);
                Key { name, span, is_quoted: true }
            }
            _ => {
                let is_of_key = |letter: char| letter.is_alphanumeric() || matches!(letter, '-' | '_' | '/');
                let span = self.skip(is_of_key);
                Key { name: self.text[span.clone()].to_owned(), span, is_quoted: false }
            }
        }
    }

    /// A text in quotes of one line; its place without the quotes, and what it says.
    fn quoted(&mut self, quote: char) -> (Range<usize>, String) {
        let start = self.at + 1;
        let mut letters = self.text[start..].char_indices();
        let mut end = self.text.len();
        while let Some((at, letter)) = letters.next() {
            match letter {
                '\\' if quote == '"' => _ = letters.next(),
                '\n' => {
                    end = start + at;
                    self.at = end;
                    return (start..end, self.text[start..end].to_owned());
                }
                _ if letter == quote => {
                    end = start + at;
                    break;
                }
                _ => {}
            }
        }
        self.at = (end + 1).min(self.text.len());
        (start..end, self.text[start..end].to_owned())
    }

    /// A value; its place. `from` is where one may begin.
    fn value(&mut self, path: &[Step], from: usize, ends: &[char]) -> Option<Range<usize>> {
        let start = self.at;
        match self.next() {
            Some('"') if self.starts_with("\"\"\"") => self.long_text("\"\"\""),
            Some('\'') if self.starts_with("'''") => self.long_text("'''"),
            Some(quote @ ('"' | '\'')) => {
                let (span, _) = self.quoted(quote);
                if self.has_cursor(&span) {
                    let path = path.to_vec();
                    self.note(|_| Place::Value { path, word: span, is_quoted: true });
                }
            }
            Some('[') => self.list(path),
            Some('{') => self.table(path),
            _ => {
                let is_of_value =
                    |letter: char| !matches!(letter, ',' | ']' | '}' | '\n' | '#') && !ends.contains(&letter);
                let span = self.skip(is_of_value);
                let end = span.start + self.text[span.clone()].trim_end().len();
                if self.has_cursor(&(from..end.max(from))) || self.has_cursor(&span) {
                    let path = path.to_vec();
                    let is_empty = end == span.start;
                    self.note(|cursor| Place::Value {
                        path,
                        word: if is_empty { cursor..cursor } else { span.start..end },
                        is_quoted: false,
                    });
                }
                return (end > start).then_some(start..end);
            }
        }
        Some(start..self.at)
    }

    fn long_text(&mut self, quotes: &str) {
        let rest = &self.text[self.at + quotes.len()..];
        self.at += quotes.len() + rest.find(quotes).map_or(rest.len(), |end| end + quotes.len());
    }

    /// Blanks and comments between the parts of a list or table that goes over lines. Whether it goes on there.
    fn blanks_inside(&mut self) -> bool {
        loop {
            self.skip(char::is_whitespace);
            if self.text[..self.at].ends_with('\n') && self.begins_anew() {
                return false;
            }
            if !self.starts_with("#") {
                return self.at < self.text.len();
            }
            let comment = self.skip(|letter| letter != '\n');
            if self.cursor.is_some_and(|cursor| comment.start < cursor && cursor <= comment.end) {
                self.cursor = None;
            }
        }
    }

    /// Whether a line without an indent looks like a new table or a new key, so that a bracket before it was left open.
    fn begins_anew(&self) -> bool {
        let line = self.text[self.at..].lines().next().unwrap_or_default();
        let is_key = |text: &str| {
            let text = text.trim();
            !text.is_empty()
                && text.chars().all(|letter| letter.is_alphanumeric() || "-_./\"'".contains(letter))
        };
        let is_head = line.starts_with('[')
            && line.trim_end().ends_with(']')
            && is_key(line.trim().trim_start_matches('[').trim_end_matches(']'))
            && !line.contains(['"', '\'']);
        is_head
            || line
                .split_once('=')
                .is_some_and(|(key, _)| is_key(key) && !key.trim_start().starts_with(['"', '\'']))
    }

    fn list(&mut self, path: &[Step]) {
        self.at += 1;
        let item: Vec<Step> = path.iter().cloned().chain([Step::Item]).collect();
        loop {
            let before = self.at;
            if !self.blanks_inside() {
                self.note_inside(before, |cursor| Place::Value {
                    path: item.clone(),
                    word: cursor..cursor,
                    is_quoted: false,
                });
                return;
            }
            if self.next().is_some_and(|letter| matches!(letter, ',' | ']')) {
                self.note_inside(before, |cursor| Place::Value {
                    path: item.clone(),
                    word: cursor..cursor,
                    is_quoted: false,
                });
                self.at += 1;
                if self.text[..self.at].ends_with(']') {
                    return;
                }
                continue;
            }
            let at = self.at;
            self.value(&item, at, &[]);
            if self.at == at {
                return;
            }
        }
    }

    fn table(&mut self, path: &[Step]) {
        self.at += 1;
        loop {
            let before = self.at;
            let key = |cursor: usize| Place::Key {
                path: path.to_vec(),
                word: cursor..cursor,
                is_quoted: false,
                has_value: false,
            };
            if !self.blanks_inside() {
                self.note_inside(before, key);
                return;
            }
            if self.next().is_some_and(|letter| matches!(letter, ',' | '}')) {
                self.note_inside(before, key);
                self.at += 1;
                if self.text[..self.at].ends_with('}') {
                    return;
                }
                continue;
            }
            let at = self.at;
            if self.cursor.is_some_and(|cursor| before <= cursor && cursor < at) {
                self.note(key);
            }
            self.pair(path, &[]);
            if self.at == at {
                return;
            }
        }
    }

    /// Notes what the cursor is in, where it is between a byte and here.
    fn note_inside(&mut self, from: usize, place: impl FnOnce(usize) -> Place) {
        if self.has_cursor(&(from..self.at)) {
            self.note(place);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    /// What is at the `|` of a text: the kind of place, the keys that lead there, and the word.
    fn place(marked: &str) -> String {
        let cursor = marked.find('|').unwrap();
        let text = marked.replacen('|', "", 1);
        let shown = |kind: &str, path: &[Step], word: &Range<usize>| {
            let path: Vec<&str> = path.iter().map(|step| step.key().unwrap_or("[]")).collect();
            format!("{kind} {} <{}>", path.join("."), &text[word.clone()])
        };
        match scan_at(&text, cursor).place {
            None => "nothing".to_owned(),
            Some(Place::Head { path, word }) => shown("head", &path, &word),
            Some(Place::Key { path, word, is_quoted, has_value }) => {
                let kind = ["key", "quoted key"][usize::from(is_quoted)];
                shown(kind, &path, &word) + if has_value { " with value" } else { "" }
            }
            Some(Place::Value { path, word, is_quoted }) => {
                shown(["value", "text"][usize::from(is_quoted)], &path, &word)
            }
        }
    }

    #[test]
    fn the_cursor_is_in_a_key_a_value_or_a_head_also_while_one_types() {
        for (text, expected) in [
            ("|", "key  <>"),
            ("[nee|", "head  <nee>"),
            ("[needs-for.te|]\n", "head needs-for <te>"),
            ("[needs]\n|", "key needs <>"),
            ("[needs]\n\n|\n[tasks]\n", "key needs <>"),
            ("[needs]\nrain-l|\nsoil = \"1\"", "key needs <rain-l>"),
            ("[needs]\n\"pergola/c|\" = 1", "quoted key needs <pergola/c> with value"),
            ("[needs]\nsoil-curve = |", "value needs.soil-curve <>"),
            ("[needs]\nsoil-curve =|\n[tasks]", "value needs.soil-curve <>"),
            ("[needs]\nsoil-curve = \"1|\n[tasks]", "text needs.soil-curve <1>"),
            ("[needs]\nsoil-curve = \"1.|\"", "text needs.soil-curve <1.>"),
            ("[needs]\nx = { ra|", "key needs.x <ra>"),
            ("[needs]\nx = { range = \"1\", |}", "key needs.x <>"),
            ("[needs]\nx = { range = \"1\", targets = [\"|", "text needs.x.targets.[] <>"),
            ("[needs]\nx = { range = \"1\", targets = [\"a\", |] }", "value needs.x.targets.[] <>"),
            ("[needs.x]\nfrom = \"se|\"", "text needs.x.from <se>"),
            ("needs.x.fr|", "key needs.x <fr>"),
            ("[links]\nfor = [\n  \"make\",\n  |\n]\n", "value links.for.[] <>"),
            ("[links]\nfor = [ \"ma|\n[needs]\nx = 1", "text links.for.[] <ma>"),
            ("[[rules.waivers]]\nru|", "key rules.waivers.[] <ru>"),
            ("# a com|ment\n", "nothing"),
            ("[needs]\nx = \"1\" # a com|ment\n", "nothing"),
            ("[needs]\nx = tr|ue\n", "value needs.x <true>"),
            ("a = \"\"\"\n[needs]\n\"\"\"\nb|", "key  <b>"),
        ] {
            assert_eq!(place(text), expected, "{text}");
        }
    }

    #[test]
    fn what_is_behind_a_slip_is_found_all_the_same() {
        let text = "[project\nname = \"gate\"\n[needs]\nrain = { range = \"1\", targets = [\"a\"\nsoil = \"1\"\n“moss” = 2\ndew = '3'\n[tasks]\na = [\"x\"]\n";
        let found = scan(text);
        let keys: Vec<String> = found.entries.iter().map(|entry| entry.keys().join(".")).collect();
        for expected in [
            "project",
            "project.name",
            "needs",
            "needs.rain.targets",
            "needs.soil",
            "needs.dew",
            "tasks",
            "tasks.a",
        ] {
            assert!(keys.iter().any(|key| key == expected), "{expected} is not in {keys:?}");
        }
        let soil = found.with_keys(&["needs", "soil"]).next().unwrap();
        assert_eq!((&text[soil.key.clone()], &text[soil.value.clone().unwrap()]), ("soil", "\"1\""));
    }

    proptest! {
        #[test]
        fn any_text_is_read_to_its_end(text in "[a-c=\\[\\]{}\"'#.,\\\\ \n🌿“]{0,60}", at in 0..70_usize) {
            let cursor = text.floor_char_boundary(at.min(text.len()));
            let found = scan_at(&text, cursor);
            for entry in &found.entries {
                prop_assert!(text.get(entry.key.clone()).is_some());
                prop_assert!(entry.value.clone().is_none_or(|value| text.get(value).is_some()));
            }
        }
    }
}
