//! Patterns of folders, as a workspace lists its projects: names with `*` and `?` in them, one between two `/`.

use std::fs;
use std::path::Path;

use bibliotax_core::manifest::FILE_NAME;
use bibliotax_disk::error::At;
use globset::{Glob, GlobMatcher};

use crate::failure::Failure;

/// A pattern of folders: one part for each folder on the way.
pub struct Pattern(Vec<PatternPart>);

/// What the name of one folder has to be.
enum PatternPart {
    /// Just this.
    Name(String),
    /// What a glob matches; a hidden folder only where the pattern begins so.
    Glob { matcher: GlobMatcher, matches_hidden: bool },
}

impl Pattern {
    pub fn new(text: &str) -> Self {
        let parts = text.split('/').filter(|part| !matches!(*part, "" | "."));
        Self(parts.map(PatternPart::new).collect())
    }

    /// Whether it can mean several folders.
    pub fn is_open(&self) -> bool {
        self.0.iter().any(|part| matches!(part, PatternPart::Glob { .. }))
    }

    /// Whether it means this folder.
    pub fn matches(&self, folder: &str) -> bool {
        let names: Vec<&str> = folder.split('/').filter(|name| !name.is_empty()).collect();
        names.len() == self.0.len() && self.0.iter().zip(names).all(|(part, name)| part.matches(name))
    }
}

impl PatternPart {
    fn new(text: &str) -> Self {
        // Most parts are names, and a matcher takes time to make.
        if !text.contains(['*', '?']) {
            return Self::Name(text.to_owned());
        }
        let glob = Glob::new(&literal_but_for_stars(text));
        // Escaped as it is, no text is a glob that can't be read.
        let glob = glob.unwrap_or_else(|_| unreachable!("{text} isn't a valid pattern"));
        Self::Glob { matcher: glob.compile_matcher(), matches_hidden: text.starts_with('.') }
    }

    fn matches(&self, name: &str) -> bool {
        match self {
            Self::Name(own) => own == name,
            Self::Glob { matcher, .. } => matcher.is_match(name),
        }
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
pub fn listed(root: &Path, pattern: &Pattern, apart: &[Pattern]) -> Result<Vec<String>, Failure> {
    let mut folders = vec![String::new()];
    for part in &pattern.0 {
        let mut deeper = Vec::new();
        for folder in folders {
            let inside =
                |name: &str| if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") };
            match part {
                PatternPart::Name(name) => deeper.push(inside(name)),
                PatternPart::Glob { matcher, matches_hidden } => {
                    let names = names_like(&root.join(&folder), matcher, *matches_hidden)?;
                    deeper.extend(names.iter().map(|name| inside(name)));
                }
            }
        }
        folders = deeper;
    }
    let is_apart = |folder: &String| apart.iter().any(|pattern| pattern.matches(folder));
    folders.retain(|folder| root.join(folder).join(FILE_NAME).is_file() && !is_apart(folder));
    Ok(folders)
}

/// The names in a folder that a glob matches.
fn names_like(folder: &Path, matcher: &GlobMatcher, matches_hidden: bool) -> Result<Vec<String>, Failure> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.at("read", folder)?,
    };
    let mut names = Vec::new();
    for entry in entries {
        let name = entry.at("read", folder)?.file_name().to_string_lossy().into_owned();
        if matcher.is_match(&name) && (matches_hidden || !name.starts_with('.')) {
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
