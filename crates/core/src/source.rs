//! Where a package's bytes come from.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::de::value::MapAccessDeserializer;
use serde::de::{self, MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;
use crate::inner_path::InnerPath;
use crate::name::RegistryName;

/// A source, as a lock names it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(untagged)]
pub enum Source {
    /// A registry, by its name in the manifest.
    Registry(RegistryName),
    /// A folder of this machine, which is used where it lies.
    Path(PathSource),
    /// A commit of a git repository.
    Git(GitSource),
    /// An archive by its URL.
    Archive(ArchiveSource),
}

/// A folder of this machine.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
pub struct PathSource {
    /// The folder, from the workspace's and with `/` between.
    pub path: String,
}

/// A commit of a git repository.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
pub struct GitSource {
    /// The repository: a URL, or a folder from the workspace's.
    pub git: String,
    /// The commit.
    pub commit: CommitId,
    /// The name by which it was found: `tag v1.2.0` or `branch main`; without one, by itself.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The folder of the repository that is the package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subfolder: Option<InnerPath>,
}

/// An archive by its URL.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
pub struct ArchiveSource {
    /// The archive: a URL, or a file from the workspace's folder.
    pub archive: String,
}

impl Source {
    /// The source that is a folder, from the workspace's.
    pub fn folder(path: impl Into<String>) -> Self {
        Self::Path(PathSource { path: path.into() })
    }

    /// The registry, where it is one.
    pub fn registry(&self) -> Option<&RegistryName> {
        if let Self::Registry(name) = self { Some(name) } else { None }
    }

    /// The folder from the workspace's, of a package that is used where it lies.
    pub fn path(&self) -> Option<&str> {
        if let Self::Path(source) = self { Some(&source.path) } else { None }
    }

    /// The commit, where it is one.
    pub fn git(&self) -> Option<&GitSource> {
        if let Self::Git(source) = self { Some(source) } else { None }
    }
}

/// The keys of a source that is no registry, as they are written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    path: Option<String>,
    git: Option<String>,
    commit: Option<CommitId>,
    at: Option<String>,
    subfolder: Option<InnerPath>,
    archive: Option<String>,
}

impl<'de> Deserialize<'de> for Source {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(SourceVisitor)
    }
}

struct SourceVisitor;

impl<'de> Visitor<'de> for SourceVisitor {
    type Value = Source;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("the name of a registry, or a table with `path`, `git` or `archive`")
    }

    fn visit_str<E: de::Error>(self, text: &str) -> Result<Source, E> {
        text.parse().map(Source::Registry).map_err(E::custom)
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<Source, A::Error> {
        let written = Written::deserialize(MapAccessDeserializer::new(map))?;
        Source::try_from(written).map_err(de::Error::custom)
    }
}

impl TryFrom<Written> for Source {
    type Error = String;

    fn try_from(written: Written) -> Result<Self, String> {
        match written {
            Written {
                path: Some(path),
                git: None,
                commit: None,
                at: None,
                subfolder: None,
                archive: None,
            } => {
                check_folder(&path)?;
                Ok(Self::Path(PathSource { path }))
            }
            Written { git: Some(git), commit: Some(commit), at, subfolder, path: None, archive: None } => {
                check_place(&git)?;
                at.iter().try_for_each(|at| check_ref(at))?;
                Ok(Self::Git(GitSource { git, commit, at, subfolder }))
            }
            Written {
                archive: Some(archive),
                path: None,
                git: None,
                commit: None,
                at: None,
                subfolder: None,
            } => {
                check_place(&archive)?;
                Ok(Self::Archive(ArchiveSource { archive }))
            }
            _ => {
                Err("a source has `path`, or `git` with `commit`, or `archive`, and nothing else".to_owned())
            }
        }
    }
}

fn check_place(place: &str) -> Result<(), String> {
    place_problem(place)
        .map_or(Ok(()), |problem| Err(format!("a source `{}` {problem}", without_user(place))))
}

/// A folder seen from the workspace's: relative, and `..` only at its beginning.
pub fn check_folder(path: &str) -> Result<(), String> {
    let mut parts = path.split('/').skip_while(|part| *part == "..");
    let is_absolute = path.starts_with(['/', '~']) || path.as_bytes().get(1) == Some(&b':');
    let is_plain = |part: &str| {
        !part.is_empty() && part != ".." && !part.contains(|c: char| c.is_control() || c == '\\')
    };
    if is_absolute || !parts.all(is_plain) {
        return Err(format!("`{path}` isn't a path relative to the workspace's folder"));
    }
    Ok(())
}

/// The name by which a commit was found: `tag NAME` or `branch NAME`.
fn check_ref(at: &str) -> Result<(), String> {
    let name = at.strip_prefix("tag ").or_else(|| at.strip_prefix("branch "));
    let is_name = |name: &str| !name.is_empty() && !name.starts_with('-') && !name.contains(char::is_control);
    if name.is_some_and(is_name) { Ok(()) } else { Err(format!("`{at}` names no tag or branch")) }
}

impl From<RegistryName> for Source {
    fn from(name: RegistryName) -> Self {
        Self::Registry(name)
    }
}

impl fmt::Display for Source {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Registry(name) => name.fmt(f),
            Self::Path(PathSource { path }) => write!(f, "the folder {path}"),
            Self::Git(source) => write!(f, "{} at {}", last_part(&source.git), source.place()),
            Self::Archive(ArchiveSource { archive }) => f.write_str(last_part(archive)),
        }
    }
}

impl GitSource {
    /// Where in the repository: the name by which the commit was found, and the commit's beginning.
    pub fn place(&self) -> String {
        let subfolder = self.subfolder.as_ref().map(|subfolder| format!(", {subfolder}")).unwrap_or_default();
        match &self.at {
            Some(at) => format!("{at} ({}{subfolder})", self.commit.short()),
            None => format!("{}{subfolder}", self.commit.short()),
        }
    }
}

/// Why a text can't be the place that a package comes from: what it would be read as, or give away.
pub fn place_problem(place: &str) -> Option<&'static str> {
    let (scheme, rest) = place.split_once("://").unwrap_or(("", place));
    let authority = rest.split('/').next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    if place.trim() != place || place.is_empty() || place.contains(char::is_control) {
        return Some("isn't a valid place");
    }
    if place.starts_with('-') || host.starts_with('-') {
        return Some("would be read as an option");
    }
    if scheme.is_empty() && place.contains("::") {
        return Some("would run a program");
    }
    // A user alone is how ssh has it; on the web it is a token more often than not.
    let is_web = matches!(scheme, "http" | "https");
    let secret = authority.rsplit_once('@').is_some_and(|(user, _)| is_web || user.contains(':'));
    if !scheme.is_empty() && secret {
        return Some(
            "has a user or a password in it, which everybody who reads the manifest would see; store it in git's credentials or the keyring",
        );
    }
    None
}

/// A place without the user and password that a URL names before its host, for showing it (RFC 3986, section 3.2.1).
pub fn without_user(place: &str) -> String {
    let named = place.split_once("://").and_then(|(scheme, rest)| {
        let end = rest.find(['/', '?', '#', '\\']).unwrap_or(rest.len());
        let at = rest[..end].rfind('@')?;
        Some(format!("{scheme}://…{}", &rest[at..]))
    });
    named.unwrap_or_else(|| place.to_owned())
}

/// Whether a URL names a user or password before its host: what opens a registry is not for all who read the manifest.
pub fn names_user(place: &str) -> bool {
    without_user(place) != place
}

/// What stands last in a URL or path: enough for people to know it by.
fn last_part(url: &str) -> &str {
    let path = url.trim_end_matches('/').split(['?', '#']).next().unwrap_or(url);
    path.rsplit(['/', ':']).next().unwrap_or(path)
}

/// The name of a commit: 40 hexadecimal digits (SHA-1) or 64 (SHA-256), in lower case.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CommitId(String);

impl CommitId {
    /// The digits.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The first seven digits: enough for people to tell two apart.
    pub fn short(&self) -> &str {
        &self.0[..7]
    }
}

impl FromStr for CommitId {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let is_whole = matches!(text.len(), 40 | 64)
            && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'));
        if is_whole {
            return Ok(Self(text.to_owned()));
        }
        let fault = Fault::new("commit.invalid", format!("`{text}` isn't a commit"), 0..text.len());
        Err(fault.advice("write all of its 40 (or 64) digits, in lower case"))
    }
}

impl fmt::Display for CommitId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl Serialize for CommitId {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for CommitId {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_kind_reads_back_and_is_known_by_its_last_part() {
        let commit = "0123456789abcdef0123456789abcdef01234567";
        for (json, shown) in [
            ("\"seedhouse\"".to_owned(), "seedhouse"),
            ("{\"path\":\"valve-core\"}".to_owned(), "the folder valve-core"),
            (
                format!(
                    "{{\"git\":\"https://git.example/leaf-palette.git\",\"commit\":\"{commit}\",\"at\":\"tag v1.2.0\"}}"
                ),
                "leaf-palette.git at tag v1.2.0 (0123456)",
            ),
            (
                format!(
                    "{{\"git\":\"garden@git.example:moss\",\"commit\":\"{commit}\",\"subfolder\":\"map\"}}"
                ),
                "moss at 0123456, map",
            ),
            (
                "{\"archive\":\"https://files.example/soil-curve-1.1.zip?v=1\"}".to_owned(),
                "soil-curve-1.1.zip",
            ),
        ] {
            let source: Source = serde_json::from_str(&json).unwrap();
            assert_eq!((serde_json::to_string(&source).unwrap(), source.to_string().as_str()), (json, shown));
        }
        for wrong in [
            "{\"git\":\"x\",\"commit\":\"0123\"}",
            "{\"path\":\"x\",\"git\":\"y\"}",
            "{\"archive\":\"x\",\"strip\":\"y\"}",
            "{\"path\":\"/etc\"}",
            "{\"path\":\"valve-core/../../etc\"}",
            "{\"archive\":\"--output=x\"}",
            "{\"git\":\"ext::sh -c x\",\"commit\":\"0123456789abcdef0123456789abcdef01234567\"}",
            "{\"git\":\"x\",\"commit\":\"0123456789abcdef0123456789abcdef01234567\",\"at\":\"tag \\u001b[2J\"}",
            "\"../seedhouse\"",
            "7",
        ] {
            assert!(serde_json::from_str::<Source>(wrong).is_err(), "{wrong}");
        }
    }
}
