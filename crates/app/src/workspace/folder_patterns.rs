//! Patterns of folders, as a workspace lists its members: names with `*` and `?` in them, one between two `/`.

use std::fs;
use std::path::Path;

use bibliotax_core::manifest::FILE_NAME;
use bibliotax_disk::error::At;

use crate::failure::Failure;

/// A pattern of folders.
pub struct Pattern<'p>(Vec<&'p str>);

impl<'p> Pattern<'p> {
    pub fn new(text: &'p str) -> Self {
        Self(text.split('/').filter(|part| !matches!(*part, "" | ".")).collect())
    }

    /// Whether it can mean several folders.
    pub fn is_open(&self) -> bool {
        self.0.iter().any(|part| is_open(part))
    }

    /// Whether it means this folder.
    pub fn matches(&self, folder: &str) -> bool {
        let parts: Vec<&str> = folder.split('/').filter(|part| !part.is_empty()).collect();
        parts.len() == self.0.len() && self.0.iter().zip(parts).all(|(pattern, part)| is_like(part, pattern))
    }
}

fn is_open(part: &str) -> bool {
    part.contains(['*', '?'])
}

/// Whether a name is what a pattern means: `?` any one letter, `*` any number of them.
fn is_like(name: &str, pattern: &str) -> bool {
    let (name, pattern): (Vec<char>, Vec<char>) = (name.chars().collect(), pattern.chars().collect());
    // How far of the name each beginning of the pattern can have come.
    let mut ends = vec![false; name.len() + 1];
    ends[0] = true;
    for letter in pattern {
        let before = ends.clone();
        for at in 0..=name.len() {
            ends[at] = match letter {
                '*' => before[at] || (at > 0 && ends[at - 1]),
                '?' => at > 0 && before[at - 1],
                letter => at > 0 && before[at - 1] && name[at - 1] == letter,
            };
        }
    }
    ends[name.len()]
}

/// The folders below `root` that a pattern means and that hold a project, by name, but for those that stand apart.
pub fn listed(root: &Path, pattern: &str, apart: &[String]) -> Result<Vec<String>, Failure> {
    let mut folders = vec![String::new()];
    for part in Pattern::new(pattern).0 {
        let mut deeper = Vec::new();
        for folder in folders {
            let inside =
                |name: &str| if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") };
            if is_open(part) {
                deeper.extend(names_like(&root.join(&folder), part)?.iter().map(|name| inside(name)));
            } else {
                deeper.push(inside(part));
            }
        }
        folders = deeper;
    }
    let is_apart = |folder: &String| apart.iter().any(|pattern| Pattern::new(pattern).matches(folder));
    folders.retain(|folder| root.join(folder).join(FILE_NAME).is_file() && !is_apart(folder));
    Ok(folders)
}

/// The names in a folder that a pattern means; hidden ones only where it says so.
fn names_like(folder: &Path, pattern: &str) -> Result<Vec<String>, Failure> {
    let entries = match fs::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        entries => entries.at("read", folder)?,
    };
    let mut names = Vec::new();
    for entry in entries {
        let name = entry.at("read", folder)?.file_name().to_string_lossy().into_owned();
        if is_like(&name, pattern) && (!name.starts_with('.') || pattern.starts_with('.')) {
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
        ] {
            assert_eq!(Pattern::new(pattern).matches(folder), wanted, "{pattern} {folder}");
        }
    }
}
