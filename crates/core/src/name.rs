//! Names of packages, registries and purposes.
//!
//! One grammar for all: a *segment* is 1–64 of `a–z 0–9 -`, starts with a letter, and has no double or
//! trailing hyphen. A package may put a scope before its segment: `fernhollow/glass-house`. Words that
//! ranges, folders or some file systems use for themselves are no names. Each sort of name is a type of
//! its own, so that one can't be passed for another:
//!
//! ```compile_fail
//! use bibliotax_core::name::{PackageName, Purpose};
//! fn publish(_: &PackageName) {}
//! publish(&"test".parse::<Purpose>().unwrap());
//! ```

use std::borrow::Borrow;
use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;

/// Longest segment, in characters.
pub const MAX_SEGMENT_LEN: usize = 64;

/// Device names that some file systems refuse for a folder ("Naming Files, Paths, and Namespaces" of Windows' documentation), but for
/// numbered ones.
const DEVICES: [&str; 6] = ["con", "prn", "aux", "nul", "conin$", "conout$"];

/// Devices of which there are several, each with one of these digits.
const NUMBERED_DEVICES: [&str; 2] = ["com", "lpt"];
const DEVICE_DIGITS: [char; 12] = ['1', '2', '3', '4', '5', '6', '7', '8', '9', '¹', '²', '³'];

/// Words of the range grammar, and the shelf's own folder.
const OWN_WORDS: [&str; 3] = ["any", "or", "links"];

/// Whether some file systems refuse `stem` (a file name without its ending) as a device.
pub fn is_device(stem: &str) -> bool {
    let is_numbered = |device: &&str| {
        let digit = stem.get(..device.len()).filter(|start| start.eq_ignore_ascii_case(device));
        digit.is_some_and(|_| DEVICE_DIGITS.iter().any(|digit| stem[device.len()..].chars().eq([*digit])))
    };
    DEVICES.iter().any(|device| device.eq_ignore_ascii_case(stem)) || NUMBERED_DEVICES.iter().any(is_numbered)
}

fn segment_problem(segment: &str) -> Option<String> {
    if segment.is_empty() {
        return Some("a name needs at least one letter".into());
    }
    if let Some(bad) = segment.chars().find(|c| !matches!(c, 'a'..='z' | '0'..='9' | '-')) {
        return Some(format!("a name consists of a–z, 0–9 and `-`, not {bad:?}"));
    }
    if !segment.starts_with(|c: char| c.is_ascii_lowercase()) {
        return Some("a name starts with a letter".into());
    }
    if segment.ends_with('-') || segment.contains("--") {
        return Some("a name has no double hyphen and doesn't end in one".into());
    }
    if segment.len() > MAX_SEGMENT_LEN {
        return Some(format!("a name has at most {MAX_SEGMENT_LEN} characters"));
    }
    if is_device(segment) {
        return Some(format!("`{segment}` is a device on some systems, so it can't be a folder's name"));
    }
    OWN_WORDS.contains(&segment).then(|| format!("`{segment}` is reserved here"))
}

/// The valid segment that looks most like `text`, if anything of it can be kept.
fn nearest_segment(text: &str) -> Option<String> {
    let mut mended = String::new();
    for c in text.chars().flat_map(char::to_lowercase) {
        match c {
            'a'..='z' => mended.push(c),
            '0'..='9' if !mended.is_empty() => mended.push(c),
            '-' | '_' | ' ' | '.' | ':' | '@' if !mended.is_empty() && !mended.ends_with('-') => {
                mended.push('-');
            }
            _ => {}
        }
    }
    mended.truncate(MAX_SEGMENT_LEN);
    let mended = mended.trim_end_matches('-').to_owned();
    match segment_problem(&mended) {
        None => Some(mended),
        Some(_) if mended.is_empty() => None,
        Some(_) => Some(format!("{mended}-x")),
    }
}

fn check(text: &str, what: &str, scopes: usize) -> Result<(), Fault> {
    let parts: Vec<&str> = text.split('/').collect();
    let problem = if parts.len() > scopes + 1 {
        Some(if scopes == 0 { "`/` isn't allowed here".into() } else { "at most one `/` is allowed".into() })
    } else {
        parts.iter().find_map(|part| segment_problem(part))
    };
    let Some(problem) = problem else { return Ok(()) };
    let shown: String = text.chars().take(80).collect();
    let fault =
        Fault::new("name.invalid", format!("`{shown}` can't name a {what}: {problem}"), 0..text.len());
    let kept: Option<Vec<String>> =
        parts.iter().rev().take(scopes + 1).rev().map(|p| nearest_segment(p)).collect();
    Err(match kept {
        Some(kept) => {
            let kept = kept.join("/");
            fault.advice(format!("`{kept}` would be valid")).fix(0..text.len(), kept)
        }
        None => fault,
    })
}

macro_rules! name_type {
    ($(#[$doc:meta])* $type:ident, $what:literal, scopes = $scopes:literal) => {
        $(#[$doc])*
        #[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub struct $type(Arc<str>);

        impl $type {
            /// The name as text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl FromStr for $type {
            type Err = Fault;

            fn from_str(text: &str) -> Result<Self, Fault> {
                check(text, $what, $scopes)?;
                Ok(Self(text.into()))
            }
        }

        impl fmt::Display for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }

        impl fmt::Debug for $type {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                fmt::Display::fmt(self, f)
            }
        }

        impl Borrow<str> for $type {
            fn borrow(&self) -> &str {
                &self.0
            }
        }

        impl Serialize for $type {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(&self.0)
            }
        }

        impl<'de> Deserialize<'de> for $type {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
                text.parse().map_err(serde::de::Error::custom)
            }
        }
    };
}

name_type!(
    /// The name of a package, or of a project that can be published as one: `segment` or `scope/segment`.
    PackageName, "package", scopes = 1
);
name_type!(
    /// The name that a manifest gives to a registry.
    RegistryName, "registry", scopes = 0
);
name_type!(
    /// What a group of needs is for beside running: `test`, `docs`, …
    Purpose, "purpose", scopes = 0
);

name_type!(
    /// The name of packages that are released in step and stay at one version.
    Family, "family", scopes = 0
);

name_type!(
    /// The name of an axis of compatibility: `os`, `orchard-runtime`, …
    FacetName, "facet", scopes = 0
);

name_type!(
    /// The name of an optional part of a package that adds needs or files.
    ComponentName, "component", scopes = 0
);

name_type!(
    /// The name of a step that a person must still do.
    StepName, "step", scopes = 0
);

name_type!(
    /// The name of a command of a project.
    TaskName, "task", scopes = 0
);

name_type!(
    /// The name of an environment that a project has to run in; its folder on the shelf is called so.
    TargetName, "target", scopes = 0
);

name_type!(
    /// What a path inside a package is for, to a build tool: `include`, `lib`, `assets`, …
    RoleName, "role", scopes = 0
);
name_type!(
    /// What a tool of a target is for: `cc`, `cxx`, `run`, …
    ToolName, "tool", scopes = 0
);

name_type!(
    /// What people call one of the machines that a target stands for.
    DeviceName, "device", scopes = 0
);

name_type!(
    /// The name of a part of a release's files: `main`, `natives`, `docs`, …
    PartName, "part", scopes = 0
);

name_type!(
    /// A word that a package wants to be found by.
    Tag, "tag", scopes = 0
);

/// The name of a program that a project needs on the machine: what its file is called, without an ending.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(transparent)]
pub struct ProgramName(String);

impl ProgramName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for ProgramName {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let is_fine = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_' | '+');
        let starts_well = text.starts_with(|c: char| c.is_ascii_alphanumeric());
        if starts_well && text.len() <= MAX_SEGMENT_LEN && text.chars().all(is_fine) {
            return Ok(Self(text.to_owned()));
        }
        let shown: String = text.chars().take(80).collect();
        let message =
            format!("`{shown}` can't name a program: that is a file's name, of letters, digits and `.-_+`");
        Err(Fault::new("name.invalid", message, 0..text.len()))
    }
}

impl<'de> Deserialize<'de> for ProgramName {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl PackageName {
    /// The part before the `/`, if the name has one.
    pub fn scope(&self) -> Option<&str> {
        self.0.split_once('/').map(|(scope, _)| scope)
    }

    /// The part after the `/`, or all of a name that has none.
    pub fn without_scope(&self) -> &str {
        self.0.split_once('/').map_or(&self.0, |(_, name)| name)
    }

    /// The folder that the package has on a shelf: `fernhollow/glass-house` is in `fernhollow.glass-house`.
    ///
    /// A dot can stand in no name, so two packages never share a folder and none lies inside another's.
    pub fn folder(&self) -> String {
        self.0.replace('/', ".")
    }
}

/// The package name that looks most like `text`: for a project named after its folder.
pub fn nearest_package_name(text: &str) -> Option<PackageName> {
    nearest_segment(text).and_then(|name| name.parse().ok())
}

/// Names of packages: one name, or all that begin like the text before a closing `*`.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct NamePattern(String);

impl NamePattern {
    /// The pattern that is written so.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// Whether the pattern means `name`.
    pub fn matches(&self, name: &PackageName) -> bool {
        match self.0.strip_suffix('*') {
            Some(start) => name.as_str().starts_with(start),
            None => name.as_str() == self.0,
        }
    }

    /// The pattern as written.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn takes_segments_and_one_scope() {
        for good in ["a", "rain-ledger", "pergola/core", "x9", "a-1-b"] {
            assert!(good.parse::<PackageName>().is_ok(), "{good}");
        }
        assert_eq!("pergola/core".parse::<PackageName>().unwrap().scope(), Some("pergola"));
        assert_eq!("pergola/core".parse::<PackageName>().unwrap().folder(), "pergola.core");
    }

    #[test]
    fn refuses_the_rest_and_offers_the_nearest() {
        let rows = [
            ("Rain_Ledger", Some("`rain-ledger` would be valid")),
            ("9lives", Some("`lives` would be valid")),
            ("a--b", Some("`a-b` would be valid")),
            ("moss-", Some("`moss` would be valid")),
            ("con", Some("`con-x` would be valid")),
            ("any", Some("`any-x` would be valid")),
            ("a/b/c", Some("`b/c` would be valid")),
            ("größe", Some("`gre` would be valid")),
            ("../etc", None),
            ("", None),
            ("七", None),
        ];
        for (bad, advice) in rows {
            let fault = bad.parse::<PackageName>().unwrap_err();
            assert_eq!(fault.advice.as_deref(), advice, "{bad}: {}", fault.message);
        }
        let long = "a".repeat(65);
        assert_eq!(long.parse::<PackageName>().unwrap_err().code, "name.invalid");
        assert!("fern/hollow".parse::<RegistryName>().is_err());
    }
}
