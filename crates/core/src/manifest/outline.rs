//! The part of a manifest that says which other files belong to it, parsed without the rest.

use std::ops::Range;

use toml::de::{DeTable, DeValue};

/// Which other files a manifest names.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Outline {
    /// Whether it lists projects of a workspace.
    pub is_workspace: bool,
    /// What stands behind keys `path`, at least all folders of other projects that it needs.
    pub paths: Vec<String>,
    /// What stands behind keys `card`.
    pub cards: Vec<String>,
}

impl Outline {
    /// The outline of a text; nothing where it is no TOML, which its reader reports.
    pub fn of(text: &str) -> Self {
        let mut outline = Self::default();
        // No key is one of these that isn't spelled so, unless with escapes.
        if !["workspace", "path", "card", "\\"].iter().any(|word| text.contains(word)) {
            return outline;
        }
        let text = text.strip_prefix('\u{feff}').unwrap_or(text);
        let Ok(table) = DeTable::parse(text) else { return outline };
        outline.is_workspace = table.get_ref().contains_key("workspace");
        outline.add(table.get_ref());
        outline
    }

    fn add(&mut self, table: &DeTable<'_>) {
        for (key, value) in table {
            match (key.get_ref().as_ref(), value.get_ref()) {
                ("path", DeValue::String(text)) => self.paths.push(text.clone().into_owned()),
                ("card", DeValue::String(text)) => self.cards.push(text.clone().into_owned()),
                (_, DeValue::Table(table)) => self.add(table),
                (_, DeValue::Array(items)) => {
                    let tables = items.iter().filter_map(|item| item.get_ref().as_table());
                    tables.for_each(|table| self.add(table));
                }
                _ => {}
            }
        }
    }
}

/// Where a key stands in a text, in bytes, by the keys that lead to it.
pub fn place_of(text: &str, keys: &[&str]) -> Option<Range<usize>> {
    // A byte order mark is not the parser's.
    let marked = text.len() - text.trim_start_matches('\u{feff}').len();
    let table = DeTable::parse(&text[marked..]).ok()?;
    let (last, before) = keys.split_last()?;
    let mut at = table.get_ref();
    for key in before {
        at = at.get(*key)?.get_ref().as_table()?;
    }
    let (key, _) = at.get_key_value(*last)?;
    Some(key.span().start + marked..key.span().end + marked)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_have_places() {
        let text = "\u{feff}[targets]\nshed = { arch = \"x\" }\n[targets.desk]\n  \"os\" = \"y\"\n";
        let found = |keys: &[&str]| place_of(text, keys).map(|place| &text[place]);
        assert_eq!(found(&["targets", "shed", "arch"]), Some("arch"));
        assert_eq!(found(&["targets", "desk", "os"]), Some("\"os\""));
        assert_eq!(found(&["targets", "desk", "arch"]), None);
        assert_eq!(found(&["targets", "shed", "arch", "x"]), None);
    }

    #[test]
    fn files_are_found_however_they_are_spelled() {
        for text in [
            "[needs]\nvc = { path = \"../vc\" }\n",
            "[needs]\nvc = { \"path\" = '../vc' }\n",
            "[needs]\nvc = { 'path' = \"\"\"../vc\"\"\" }\n",
            "[needs]\nvc.path = \"../vc\"\n",
            "[needs.vc]\n  path   =\t\"../vc\"\n",
            "[[needs]]\n\"pat\\u0068\" = \"../vc\"\n",
            "\u{feff}[needs-for.test]\nvc = { range = \"1\", path = \"../\\u0076c\" }\r\n",
        ] {
            assert_eq!(Outline::of(text).paths, ["../vc"], "{text}");
        }
        for text in [
            "# path = \"../vc\"\n",
            "summary = 'path = \"../vc\"'\n",
            "my-path = \"../vc\"\n",
            "path = [\"x\"\n",
        ] {
            assert_eq!(Outline::of(text), Outline::default(), "{text}");
        }
        assert!(Outline::of("[\"workspace\"]\nfolders = []\n").is_workspace);
        assert!(Outline::of("workspace.folders = []\n").is_workspace);
        assert!(!Outline::of("# [workspace]\n[needs]\nworkspace-x = \"1\"\n").is_workspace);
    }
}
