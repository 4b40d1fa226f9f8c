//! Paths inside a package: relative, plain, and possible on every operating system.
//!
//! Publishing and unpacking hold to the same rules, so what can be published can be installed anywhere.

use std::borrow::Cow;
use std::collections::HashMap;
use std::fmt;
use std::hash::{BuildHasher, RandomState};
use std::str::FromStr;

use icu_normalizer::ComposingNormalizerBorrowed;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;
use crate::name::is_device;

/// Deepest path, in parts.
pub const MAX_DEPTH: usize = 64;

/// Longest part, in bytes: what common file systems allow.
const MAX_PART_LEN: usize = 255;

/// Longest path, in bytes.
const MAX_PATH_LEN: usize = 1024;

/// A checked path inside a package, its parts joined by `/`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct InnerPath(String);

/// Why a path can't stand in a package.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PathProblem {
    /// It names nothing.
    #[error("it is empty")]
    Empty,
    /// It starts at a root.
    #[error("it is absolute")]
    Absolute,
    /// It has a `..`.
    #[error("it leads outside of the package")]
    LeadsOut,
    /// It has a character that some systems refuse or read as a separator.
    #[error("it has a character that some systems refuse: control characters and any of \\ : * ? \" < > |")]
    BadCharacter,
    /// A part of it ends in a blank or dot, which some systems drop.
    #[error("a part of it ends in a blank or a dot")]
    BadEnd,
    /// A part of it is a device on some systems.
    #[error("a part of it is a device on some systems")]
    Device,
    /// It is longer or deeper than some systems allow.
    #[error("it is too long or too deep")]
    TooLong,
}

impl InnerPath {
    /// Checks a path; `./` in front and `/` behind don't count.
    pub fn new(text: &str) -> Result<Self, PathProblem> {
        if text.as_bytes().get(1) == Some(&b':') {
            return Err(PathProblem::Absolute);
        }
        Self::checked(text, check_part)
    }

    fn checked(
        text: &str,
        check_part: impl Fn(&str) -> Result<(), PathProblem>,
    ) -> Result<Self, PathProblem> {
        if text.starts_with(['/', '\\']) {
            return Err(PathProblem::Absolute);
        }
        let parts: Vec<&str> = text.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
        if parts.is_empty() {
            return Err(PathProblem::Empty);
        }
        if text.len() > MAX_PATH_LEN || parts.len() > MAX_DEPTH {
            return Err(PathProblem::TooLong);
        }
        parts.iter().try_for_each(|part| check_part(part))?;
        Ok(Self(parts.join("/")))
    }

    /// Checks a path for a system that allows names which others refuse: only what is unsafe, or a separator somewhere, is refused.
    pub fn on_tolerant_system(text: &str) -> Result<Self, PathProblem> {
        let lenient = |part: &str| match check_part(part) {
            Err(PathProblem::BadCharacter) if !part.contains(|c: char| c.is_control() || c == '\\') => Ok(()),
            Err(PathProblem::BadEnd | PathProblem::Device) => Ok(()),
            checked => checked,
        };
        Self::checked(text, lenient)
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The rest of a path that is below this folder; `None` for the folder itself and for what isn't in it.
    pub fn rest_of<'p>(&self, path: &'p str) -> Option<&'p str> {
        path.strip_prefix(self.as_str())?.strip_prefix('/')
    }

    /// The folder that it is in, empty for the package's own, and its name there.
    pub fn split(&self) -> (&str, &str) {
        self.0.rsplit_once('/').unwrap_or(("", &self.0))
    }

    /// The folders above it, outermost first.
    pub fn folders(&self) -> impl Iterator<Item = &str> {
        self.0.match_indices('/').map(|(at, _)| &self.0[..at])
    }
}

impl Serialize for InnerPath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for InnerPath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        Self::new(&text).map_err(serde::de::Error::custom)
    }
}

impl fmt::Display for InnerPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// A path that a card exposes: a file or folder inside the package, or `.` for the package itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ExposedPath(Option<InnerPath>);

impl ExposedPath {
    /// The path inside the package; `None` for the package itself.
    pub fn inside(&self) -> Option<&InnerPath> {
        self.0.as_ref()
    }

    /// The path as text.
    pub fn as_str(&self) -> &str {
        self.0.as_ref().map_or(".", InnerPath::as_str)
    }
}

impl FromStr for ExposedPath {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        match InnerPath::new(text) {
            Ok(path) => Ok(Self(Some(path))),
            Err(PathProblem::Empty) if !text.is_empty() => Ok(Self(None)),
            Err(problem) => {
                let message = format!("`{text}` isn't a path inside the package: {problem}");
                Err(Fault::new("path.invalid", message, 0..text.len()))
            }
        }
    }
}

impl fmt::Display for ExposedPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl Serialize for ExposedPath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl<'de> Deserialize<'de> for ExposedPath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

fn check_part(part: &str) -> Result<(), PathProblem> {
    if part == ".." {
        return Err(PathProblem::LeadsOut);
    }
    if part.chars().any(|c| c.is_control() || matches!(c, '\\' | ':' | '*' | '?' | '"' | '<' | '>' | '|')) {
        return Err(PathProblem::BadCharacter);
    }
    if part.ends_with([' ', '.']) {
        return Err(PathProblem::BadEnd);
    }
    if part.len() > MAX_PART_LEN {
        return Err(PathProblem::TooLong);
    }
    let stem = part.split('.').next().unwrap_or(part);
    if is_device(stem.trim_end()) { Err(PathProblem::Device) } else { Ok(()) }
}

/// The paths of one package, told apart as the most forgetful file systems would: without regard to case, and to how letters with
/// marks are composed (Unicode Standard Annex 15).
///
/// It holds no path, only a digest of each under a key that nobody else knows, so that a million of them take little memory.
#[derive(Debug, Default)]
pub struct PathSet {
    keys: [RandomState; 2],
    /// The spelling and kind of the first file or folder of each form that forgetful systems see.
    known: HashMap<(u64, u64), (u64, Kind)>,
    /// The kind of those that came later with another spelling, by that.
    others: HashMap<u64, Kind>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    File,
    Folder,
}

/// That some systems take a path for another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PathClash<'p> {
    /// The path, or that of a folder above it.
    pub path: &'p str,
    /// Whether only some systems can't tell them apart; the path was added then.
    pub is_only_elsewhere: bool,
}

impl PathSet {
    /// Adds a file, unless some system takes it or a folder above it for something else.
    pub fn add_file<'p>(&mut self, path: &'p InnerPath) -> Result<(), PathClash<'p>> {
        let folders = path.folders().map(|folder| (folder, Kind::Folder));
        self.add_all(folders.chain([(path.as_str(), Kind::File)]))
    }

    /// Adds a folder, unless some system takes it or a folder above it for something else.
    pub fn add_folder<'p>(&mut self, path: &'p InnerPath) -> Result<(), PathClash<'p>> {
        self.add_all(path.folders().chain([path.as_str()]).map(|folder| (folder, Kind::Folder)))
    }

    fn add_all<'p>(&mut self, paths: impl Iterator<Item = (&'p str, Kind)>) -> Result<(), PathClash<'p>> {
        let mut first = Ok(());
        for (path, kind) in paths {
            match self.add(path, kind) {
                Err(clash) if clash.is_only_elsewhere => first = first.and(Err(clash)),
                added => added?,
            }
        }
        first
    }

    fn add<'p>(&mut self, path: &'p str, kind: Kind) -> Result<(), PathClash<'p>> {
        let seen = as_seen(path);
        let key = (self.keys[0].hash_one(&seen), self.keys[1].hash_one(&seen));
        let spelling = self.keys[0].hash_one(path);
        let there = match self.known.get(&key) {
            None => {
                self.known.insert(key, (spelling, kind));
                return Ok(());
            }
            Some((first, kind)) if *first == spelling => Some(*kind),
            Some(_) => self.others.get(&spelling).copied(),
        };
        match there {
            Some(Kind::Folder) if kind == Kind::Folder => Ok(()),
            Some(_) => Err(PathClash { path, is_only_elsewhere: false }),
            None => {
                self.others.insert(spelling, kind);
                Err(PathClash { path, is_only_elsewhere: true })
            }
        }
    }
}

/// Of these paths, or the folders above them, the one that a path clashes with.
pub fn clashing<'p>(path: &str, paths: impl IntoIterator<Item = &'p InnerPath>) -> Option<&'p str> {
    let seen = as_seen(path);
    paths
        .into_iter()
        .flat_map(|other| other.folders().chain([other.as_str()]))
        .find(|other| as_seen(other) == seen)
}

/// A path as the most forgetful file systems see it.
pub fn as_seen(path: &str) -> Cow<'_, str> {
    let composed = ComposingNormalizerBorrowed::new_nfc();
    if path.bytes().all(|byte| byte.is_ascii() && !byte.is_ascii_uppercase()) {
        return Cow::Borrowed(path);
    }
    // A letter in lower case may compose otherwise than one in upper case.
    Cow::Owned(composed.normalize(&composed.normalize(path).to_lowercase()).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn takes_plain_relative_paths() {
        for (text, kept) in
            [("a", "a"), ("./a//b/", "a/b"), ("ünder/größe.h", "ünder/größe.h"), ("a.b/.c", "a.b/.c")]
        {
            assert_eq!(InnerPath::new(text).unwrap().as_str(), kept);
        }
        assert_eq!(InnerPath::new("a/b/c").unwrap().folders().collect::<Vec<_>>(), ["a", "a/b"]);
    }

    #[test]
    fn a_card_exposes_paths_inside_the_package_or_all_of_it() {
        for (text, kept) in [("include/", "include"), (".", "."), ("./", "."), ("./a/b", "a/b")] {
            assert_eq!(text.parse::<ExposedPath>().unwrap().as_str(), kept);
        }
        for text in ["", "../include", "/usr/include", "a\u{1b}[2J"] {
            assert!(text.parse::<ExposedPath>().is_err(), "{text:?}");
        }
    }

    #[test]
    fn a_tolerant_system_allows_names_of_others_and_nothing_that_is_unsafe() {
        for text in ["man/Moss::Map.3pm", "src/aux.c", "notes.", "a*b?", "c:"] {
            assert!(InnerPath::new(text).is_err(), "{text}");
            assert_eq!(InnerPath::on_tolerant_system(text).unwrap().as_str(), text);
        }
        let deep = "a/".repeat(65);
        for text in ["", "/etc/passwd", "a/../../b", "a\\b", "a\u{1b}[2J", &deep, &"x".repeat(256)] {
            assert!(InnerPath::on_tolerant_system(text).is_err(), "{text}");
        }
    }

    #[test]
    fn refuses_what_leads_out_or_some_system_can_not_have() {
        let deep = "a/".repeat(65);
        let rows = [
            ("", PathProblem::Empty),
            ("./", PathProblem::Empty),
            ("/etc/passwd", PathProblem::Absolute),
            ("\\\\host\\x", PathProblem::Absolute),
            ("C:/x", PathProblem::Absolute),
            ("a/../../b", PathProblem::LeadsOut),
            ("a\\..\\b", PathProblem::BadCharacter),
            ("a\u{1b}[2J", PathProblem::BadCharacter),
            ("a./b", PathProblem::BadEnd),
            ("dir/NUL.txt", PathProblem::Device),
            ("com7", PathProblem::Device),
            ("COM\u{b9}.txt", PathProblem::Device),
            ("a/lpt³", PathProblem::Device),
            ("CONIN$", PathProblem::Device),
            ("conout$.log", PathProblem::Device),
            (&deep, PathProblem::TooLong),
        ];
        for (text, problem) in rows {
            assert_eq!(InnerPath::new(text), Err(problem), "{text:?}");
        }
    }

    #[test]
    fn tells_clashes_of_case_of_composition_and_of_kind() {
        let path = |text| InnerPath::new(text).unwrap();
        let mut set = PathSet::default();
        set.add_file(&path("src/Rain.h")).unwrap();
        set.add_folder(&path("src")).unwrap();
        set.add_file(&path("größe.h")).unwrap();
        set.add_file(&path("ΣΑΣ/a")).unwrap();
        let there = [path("src/Rain.h"), path("größe.h"), path("ΣΑΣ/a")];
        for (text, clash, with, is_only_elsewhere) in [
            ("src/rain.h", "src/rain.h", "src/Rain.h", true),
            ("src/rain.h", "src/rain.h", "src/Rain.h", false),
            ("src/Rain.h", "src/Rain.h", "src/Rain.h", false),
            ("SRC/other.h", "SRC", "src", true),
            ("SRC/other.h", "SRC/other.h", "src/Rain.h", false),
            ("src/Rain.h/inside", "src/Rain.h", "src/Rain.h", false),
            ("src", "src", "src", false),
            ("gro\u{308}ße.h", "gro\u{308}ße.h", "größe.h", true),
            ("GRÖßE.H", "GRÖßE.H", "größe.h", true),
            ("σας/b", "σας", "ΣΑΣ", true),
        ] {
            let path = path(text);
            assert_eq!(set.add_file(&path), Err(PathClash { path: clash, is_only_elsewhere }), "{text}");
            if clash != "SRC/other.h" {
                assert_eq!(clashing(clash, &there), Some(with), "{text}");
            }
        }
        set.add_file(&path("src/more.h")).unwrap();
        assert_eq!(clashing("src/more.h", &there), None);
    }
}
