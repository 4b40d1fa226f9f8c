//! Patterns of folders, as a workspace lists its members: names with `*` and `?` in them, one between two `/`.

use std::fs;
use std::path::Path;

use bibliotax_core::manifest::FILE_NAME;
use bibliotax_disk::error::At;
use globset::{Glob, GlobMatcher};

use crate::failure::Failure;

/// A pattern of folders: one part for each folder on the way.
pub struct Pattern(Vec<PatternPart>);

/// What the name of one folder has to be.
struct PatternPart {
    text: String,
    matcher: GlobMatcher,
}

impl Pattern {
    pub fn new(text: &str) -> Self {
        let parts = text.split('/').filter(|part| !matches!(*part, "" | "."));
        Self(parts.map(PatternPart::new).collect())
    }

    /// Whether it can mean several folders.
    pub fn is_open(&self) -> bool {
        self.0.iter().any(PatternPart::is_open)
    }

    /// Whether it means this folder.
    pub fn matches(&self, folder: &str) -> bool {
        let names: Vec<&str> = folder.split('/').filter(|name| !name.is_empty()).collect();
        names.len() == self.0.len()
            && self.0.iter().zip(names).all(|(part, name)| part.matcher.is_match(name))
    }
}

impl PatternPart {
    fn new(text: &str) -> Self {
        let glob = Glob::new(&literal_but_for_stars(text));
        // Escaped as it is, no text is a glob that can't be read.
        let glob = glob.unwrap_or_else(|_| unreachable!("{text} is no glob"));
        Self { text: text.to_owned(), matcher: glob.compile_matcher() }
    }

    fn is_open(&self) -> bool {
        self.text.contains(['*', '?'])
    }

    /// Whether it means the folder of this name; a hidden one only where it says so.
    fn lists(&self, name: &str) -> bool {
        self.matcher.is_match(name) && (!name.starts_with('.') || self.text.starts_with('.'))
    }
}

/// A glob in which only `*` (once, since two would mean more) and `?` mean something.
fn literal_but_for_stars(text: &str) -> String {
    let mut glob = String::new();
    for letter in text.chars() {
        match letter {
            '*' if glob.ends_with('*') => {}
            '*' | '?' => glob.push(letter),
            letter => glob += &globset::escape(letter.encode_utf8(&mut [0; 4])),
        }
    }
    glob
}

/// The folders below `root` that a pattern means and that hold a project, by name, but for those that stand apart.
pub fn listed(root: &Path, pattern: &str, apart: &[String]) -> Result<Vec<String>, Failure> {
    let mut folders = vec![String::new()];
    for part in Pattern::new(pattern).0 {
        let mut deeper = Vec::new();
        for folder in folders {
            let inside =
                |name: &str| if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") };
            if part.is_open() {
                deeper.extend(names_like(&root.join(&folder), &part)?.iter().map(|name| inside(name)));
            } else {
                deeper.push(inside(&part.text));
            }
        }
        folders = deeper;
    }
    let is_apart = |folder: &String| apart.iter().any(|pattern| Pattern::new(pattern).matches(folder));
    folders.retain(|folder| root.join(folder).join(FILE_NAME).is_file() && !is_apart(folder));
    Ok(folders)
}

/// The names in a folder that a pattern means.
fn names_like(folder: &Path, part: &PatternPart) -> Result<Vec<String>, Failure> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.at("read", folder)?,
    };
    let mut names = Vec::new();
    for entry in entries {
        let name = entry.at("read", folder)?.file_name().to_string_lossy().into_owned();
        if part.lists(&name) {
            names.push(name);
        }
    }
    names.sort();
    Ok(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_means_folders_of_its_own_depth() {
        for (pattern, folder, wanted) in [
            ("gate-kiosk", "gate-kiosk", true),
            ("gate-kiosk/", "gate-kiosk", true),
            ("./gate-kiosk", "gate-kiosk", true),
            ("*", "gate-kiosk", true),
            ("*", "parts/valve", false),
            ("parts/*", "parts/valve", true),
            ("*-unit", "hand-unit", true),
            ("*-unit", "hand-units", false),
            ("h?nd-*t", "hand-unit", true),
            ("**", "hand", true),
            ("", "hand", false),
            ("[h]and", "hand", false),
            ("[h]and", "[h]and", true),
            ("{a,b}*", "{a,b}c", true),
            ("!hand", "hand", false),
            ("b\\*d", "bed", false),
        ] {
            assert_eq!(Pattern::new(pattern).matches(folder), wanted, "{pattern} {folder}");
        }
    }
}
