//! What a package exposes to builds: paths inside it by role, and values such as defines.
//!
//! A role has a kind. Most hold paths: files or folders of the package, or patterns of its files, of which one with `!` in front takes
//! some away. A few hold values that are no paths.

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::fmt;
use std::ops::{Deref, DerefMut};

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;
use crate::file_selection::{FilePattern, FileSelection};
use crate::inner_path::ExposedPath;
use crate::name::RoleName;

/// The roles that hold values.
const VALUE_ROLES: [&str; 4] = ["defines", "libraries", "link-flags", "compile-flags"];

/// Longest value, in bytes.
const MAX_VALUE_LEN: usize = 256;

/// What a role holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RoleKind {
    /// Files and folders of the package.
    Paths,
    /// Values that are no paths.
    Values,
}

impl RoleKind {
    /// The kind of a role.
    pub fn of(role: &RoleName) -> Self {
        if VALUE_ROLES.contains(&role.as_str()) { Self::Values } else { Self::Paths }
    }
}

/// Something that a package exposes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Exposed {
    /// A file or folder.
    Path(ExposedPath),
    /// The files that match a pattern.
    Files(FilePattern),
    /// Not the files that match a pattern, of those that other patterns of the role match.
    Except(FilePattern),
    /// A value: letters, digits, and signs that mean nothing to a shell or a build tool.
    Value(Box<str>),
}

impl Exposed {
    /// What a text is in a role of this kind.
    pub fn parse(text: &str, kind: RoleKind) -> Result<Self, Fault> {
        if kind == RoleKind::Values {
            return value(text).map(Self::Value);
        }
        if let Some(pattern) = text.strip_prefix('!') {
            return pattern.parse().map(Self::Except);
        }
        if text.contains(['*', '?', '[', '{']) {
            return text.parse().map(Self::Files);
        }
        text.parse().map(Self::Path)
    }

    fn text(&self) -> Cow<'_, str> {
        match self {
            Self::Path(path) => path.as_str().into(),
            Self::Files(pattern) => pattern.as_str().into(),
            Self::Except(pattern) => format!("!{pattern}").into(),
            Self::Value(value) => (&**value).into(),
        }
    }
}

/// A value that no shell and no build tool reads as more than a word.
fn value(text: &str) -> Result<Box<str>, Fault> {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@%+,=^".contains(c);
    if !text.is_empty() && text.len() <= MAX_VALUE_LEN && text.chars().all(is_plain) {
        return Ok(text.into());
    }
    let message = format!("`{text}` isn't a value that a package can expose");
    Err(Fault::new("card.value", message, 0..text.len())
        .advice("write letters, digits and any of - _ . / : @ % + , = ^, one value in each text"))
}

impl fmt::Display for Exposed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text())
    }
}

impl Serialize for Exposed {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text())
    }
}

/// All that a package exposes, by role.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, JsonSchema)]
#[serde(transparent)]
#[schemars(with = "BTreeMap<RoleName, Vec<String>>")]
pub struct Exposes(BTreeMap<RoleName, Vec<Exposed>>);

impl Deref for Exposes {
    type Target = BTreeMap<RoleName, Vec<Exposed>>;

    fn deref(&self) -> &Self::Target {
        &self.0
    }
}

impl DerefMut for Exposes {
    fn deref_mut(&mut self) -> &mut Self::Target {
        &mut self.0
    }
}

impl FromIterator<(RoleName, Vec<Exposed>)> for Exposes {
    fn from_iter<I: IntoIterator<Item = (RoleName, Vec<Exposed>)>>(roles: I) -> Self {
        Self(roles.into_iter().collect())
    }
}

impl IntoIterator for Exposes {
    type Item = (RoleName, Vec<Exposed>);
    type IntoIter = std::collections::btree_map::IntoIter<RoleName, Vec<Exposed>>;

    fn into_iter(self) -> Self::IntoIter {
        self.0.into_iter()
    }
}

impl<'de> Deserialize<'de> for Exposes {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let written = BTreeMap::<RoleName, Vec<Cow<'de, str>>>::deserialize(deserializer)?;
        let roles = written.into_iter().map(|(role, texts)| {
            let kind = RoleKind::of(&role);
            let exposed = texts.iter().map(|text| Exposed::parse(text, kind)).collect::<Result<_, _>>();
            Ok((role, exposed.map_err(serde::de::Error::custom)?))
        });
        roles.collect()
    }
}

impl Exposes {
    /// Whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether any role has a pattern, so that it takes the list of files to say what it holds.
    pub fn has_patterns(&self) -> bool {
        self.values().flatten().any(|exposed| matches!(exposed, Exposed::Files(_)))
    }
}

/// What a role holds where these are the files of the package: paths as they are, and the files that match its patterns, in their
/// order.
pub fn expanded(exposed: &[Exposed], files: &[String]) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    let mut selection = FileSelection::default();
    for one in exposed {
        match one {
            Exposed::Path(path) => found.push(path.to_string()),
            Exposed::Value(value) => found.push(value.to_string()),
            Exposed::Files(pattern) => selection.include.push(pattern.clone()),
            Exposed::Except(pattern) => selection.exclude.push(pattern.clone()),
        }
    }
    if !selection.include.is_empty() {
        let selection = selection.compiled();
        found.extend(files.iter().filter(|file| selection.takes(file)).cloned());
    }
    found
}

/// What a role holds, as people read it.
pub fn joined(exposed: &[Exposed]) -> String {
    exposed.iter().map(Exposed::to_string).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn exposes(json: &str) -> Result<Exposes, serde_json::Error> {
        serde_json::from_str(json)
    }

    #[test]
    fn a_role_holds_what_its_kind_says_and_reads_back() {
        let text = r#"{"defines":["MOSS_DEPTH=3"],"include":["include","."],"libraries":["m"],"source":["src/*.c","!src/aux.c","one.c"]}"#;
        let all = exposes(text).unwrap();
        assert_eq!(serde_json::to_string(&all).unwrap(), text);
        assert!(all.has_patterns());
        let files: Vec<String> =
            ["src/moss.c", "src/aux.c", "src/deep/x.c", "one.c"].map(str::to_owned).into();
        let of = |role: &str| expanded(&all[&role.parse::<RoleName>().unwrap()], &files);
        assert_eq!(of("source"), ["one.c", "src/moss.c"]);
        assert_eq!(
            (of("include"), of("libraries")),
            (vec!["include".into(), ".".into()], vec!["m".to_owned()])
        );
        for wrong in [
            r#"{"include":["../x"]}"#,
            r#"{"include":["/usr"]}"#,
            r#"{"defines":["A=$(rm)"]}"#,
            r#"{"defines":["a b"]}"#,
            r#"{"link-flags":[""]}"#,
            r#"{"libraries":["m;x"]}"#,
            r#"{"source":["[" ]}"#,
        ] {
            assert!(exposes(wrong).is_err(), "{wrong}");
        }
    }
}
