//! Which files of an archive become the package: patterns of what is taken and what is left out.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use globset::{Glob, GlobBuilder, GlobSet, GlobSetBuilder};
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize};

use crate::fault::Fault;

/// Longest pattern, in bytes.
const MAX_LEN: usize = 1024;

/// A pattern of paths inside a package: `*` within a name, `**` over folders, `?`, `[…]` and `{a,b}`. One that matches a folder means
/// all that is in it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(transparent)]
pub struct FilePattern(String);

impl FilePattern {
    /// The pattern as written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The pattern that matches just this path.
    pub fn of_path(path: &str) -> String {
        globset::escape(&path.replace('\\', "\\\\"))
    }

    /// Whether it may match a folder, something below it, or a folder above it; certain only where it doesn't.
    fn may_match_below(&self, folder: &str) -> bool {
        let text = self.0.trim_start_matches("./");
        let begin = text.split(['*', '?', '[', '{', '\\']).next().unwrap_or_default();
        let below = format!("{folder}/");
        begin.starts_with(&below) || below.starts_with(begin)
    }

    fn glob(text: &str) -> Result<Glob, globset::Error> {
        let inside = text.trim_start_matches("./").trim_end_matches('/');
        GlobBuilder::new(inside).literal_separator(true).backslash_escape(true).build()
    }
}

impl FromStr for FilePattern {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let is_short = (1..=MAX_LEN).contains(&text.len()) && !text.contains(char::is_control);
        if is_short && Self::glob(text).is_ok() {
            return Ok(Self(text.to_owned()));
        }
        let fault =
            Fault::new("pattern.invalid", format!("`{text}` isn't a pattern of paths"), 0..text.len());
        Err(fault.advice("write paths below the package's folder, such as `docs/**` or `src/*.c`"))
    }
}

impl<'de> Deserialize<'de> for FilePattern {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl fmt::Display for FilePattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// Which files of an archive become the package; all of them where nothing is said.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct FileSelection {
    /// The only ones that are taken; all where there are none.
    pub include: Vec<FilePattern>,
    /// What of these is left out.
    pub exclude: Vec<FilePattern>,
}

/// What says which files of its archive are taken.
pub trait SelectsFiles {
    /// The patterns of what is taken, and of what is left out.
    fn patterns(&self) -> (&[FilePattern], &[FilePattern]);

    /// The selection.
    fn selection(&self) -> FileSelection {
        let (include, exclude) = self.patterns();
        FileSelection { include: include.to_vec(), exclude: exclude.to_vec() }
    }
}

impl FileSelection {
    /// Whether all files are taken.
    pub fn is_all(&self) -> bool {
        self.include.is_empty() && self.exclude.is_empty()
    }

    /// What tells it from other selections, beside the name of an archive; a line break is in no path and no pattern.
    pub fn key(&self) -> String {
        let line = |sign: char| move |pattern: &FilePattern| format!("\n{sign}{pattern}");
        self.include.iter().map(line('+')).chain(self.exclude.iter().map(line('-'))).collect()
    }

    /// Whether it is certain that nothing below a folder is taken, without knowing what is there.
    pub fn leaves_out_all_below(&self, folder: &str) -> bool {
        // What is below `folder/**` is what is below `folder`.
        let folders = self.exclude.iter().map(|pattern| pattern.as_str().trim_end_matches("/**"));
        let folders: Vec<FilePattern> = folders.filter_map(|text| text.parse().ok()).collect();
        let is_excluded = set_of(&folders).is_some_and(|set| matches(&set, folder));
        is_excluded || !self.include.is_empty() && !self.include.iter().any(|one| one.may_match_below(folder))
    }

    /// The selection, ready to be asked of many paths.
    pub fn compiled(&self) -> CompiledSelection {
        CompiledSelection { include: set_of(&self.include), exclude: set_of(&self.exclude) }
    }
}

fn set_of(patterns: &[FilePattern]) -> Option<GlobSet> {
    let mut set = GlobSetBuilder::new();
    // Each was built once when it was read.
    patterns.iter().filter_map(|pattern| FilePattern::glob(pattern.as_str()).ok()).for_each(|glob| {
        set.add(glob);
    });
    if patterns.is_empty() { None } else { set.build().ok() }
}

/// A selection, ready to be asked of many paths.
#[derive(Debug, Default)]
pub struct CompiledSelection {
    include: Option<GlobSet>,
    exclude: Option<GlobSet>,
}

impl CompiledSelection {
    /// Whether all files are taken.
    pub fn is_all(&self) -> bool {
        self.include.is_none() && self.exclude.is_none()
    }

    /// Whether the file or link at a path is taken.
    pub fn takes(&self, path: &str) -> bool {
        self.include.as_ref().is_none_or(|set| matches(set, path)) && !self.leaves_out(path)
    }

    /// Whether what is at a path is left out, or a folder above it.
    pub fn leaves_out(&self, path: &str) -> bool {
        self.exclude.as_ref().is_some_and(|set| matches(set, path))
    }
}

/// Whether a path or a folder above it matches.
fn matches(set: &GlobSet, path: &str) -> bool {
    let folders = path.match_indices('/').map(|(at, _)| &path[..at]);
    folders.chain([path]).any(|path| set.is_match(path))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn selection(include: &[&str], exclude: &[&str]) -> FileSelection {
        let patterns = |texts: &[&str]| texts.iter().map(|text| text.parse().unwrap()).collect();
        FileSelection { include: patterns(include), exclude: patterns(exclude) }
    }

    #[test]
    fn takes_what_is_included_and_not_left_out() {
        let all = FileSelection::default().compiled();
        assert!(all.takes("src/aux.c") && !all.leaves_out("src/aux.c"));
        let some =
            selection(&["src", "include/**/*.h"], &["src/aux.c", "**/*.3pm", "include/old/"]).compiled();
        for (path, is_taken) in [
            ("src/moss.c", true),
            ("src/deep/moss.c", true),
            ("src/aux.c", false),
            ("src/man/Moss::Map.3pm", false),
            ("include/moss.h", true),
            ("include/deep/moss.h", true),
            ("include/old/moss.h", false),
            ("include/moss.txt", false),
            ("README", false),
        ] {
            assert_eq!(some.takes(path), is_taken, "{path}");
        }
    }

    #[test]
    fn it_is_known_of_a_folder_that_nothing_below_it_is_taken() {
        for (include, exclude, folder, is_left_out) in [
            (&[][..], &["parts/wide"][..], "parts/wide", true),
            (&[], &["parts"], "parts/wide", true),
            (&[], &["parts/**"], "parts/wide", true),
            (&[], &["**/wide/**"], "parts/wide", true),
            (&[], &["parts/wide/*.h"], "parts/wide", false),
            (&[], &["parts/wider"], "parts/wide", false),
            (&[], &[], "parts/wide", false),
            (&["src"], &[], "parts/wide", true),
            (&["src/**", "parts/deep"], &[], "parts/wide", true),
            (&["**/*.h"], &[], "parts/wide", false),
            (&["parts"], &[], "parts/wide", false),
            (&["parts/wide/x.h"], &[], "parts/wide", false),
            (&["parts/w*"], &[], "parts/wide", false),
        ] {
            let found = selection(include, exclude).leaves_out_all_below(folder);
            assert_eq!(found, is_left_out, "{include:?} {exclude:?} {folder}");
            if found {
                assert!(!selection(include, exclude).compiled().takes(&format!("{folder}/x.h")));
            }
        }
    }

    #[test]
    fn a_pattern_of_a_path_matches_just_that() {
        for path in ["a\\b", "man/Moss::Map[1].3pm", "a*b?", "{x,y}", "src/aux.c"] {
            let pattern = FilePattern::of_path(path);
            let one = selection(&[], &[&pattern]).compiled();
            assert!(one.leaves_out(path), "{path}");
            assert!(!one.leaves_out("src/other.c"));
        }
        for wrong in ["", "[", "{a", "a\u{1b}"] {
            assert!(wrong.parse::<FilePattern>().is_err(), "{wrong:?}");
        }
    }

    #[test]
    fn each_selection_has_its_own_key() {
        let keys = [
            selection(&[], &[]),
            selection(&["a"], &[]),
            selection(&[], &["a"]),
            selection(&["a", "b"], &[]),
            selection(&["a"], &["b"]),
        ]
        .map(|selection| selection.key());
        for (at, key) in keys.iter().enumerate() {
            assert!(!keys[..at].contains(key), "{key}");
        }
    }
}
