//! Package URLs (purl, ECMA-427): names of software in any ecosystem.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;

/// The longest that is read, in bytes.
const MAX_LENGTH: usize = 1_000;

/// A package URL such as `pkg:github/fern-labs/dew@1.3.1`, checked, and kept as written.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PackageUrl {
    text: Box<str>,
    base: Box<str>,
    version: Option<Box<str>>,
}

impl PackageUrl {
    /// The same without version, qualifiers and subpath, in its canonical form.
    pub fn base(&self) -> &str {
        &self.base
    }

    /// The version, in upstream's own words.
    pub fn version(&self) -> Option<&str> {
        self.version.as_deref()
    }

    /// The text as written.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

impl FromStr for PackageUrl {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let invalid = |message: String| {
            Fault::new("card.upstream", message, 0..text.len())
                .advice("write type, name and version: `pkg:github/OWNER/NAME@VERSION`")
        };
        if text.len() > MAX_LENGTH {
            return Err(invalid("the package URL is too long".to_owned()));
        }
        let url = packageurl::PackageUrl::from_str(text);
        let mut url = url.map_err(|_| invalid(format!("`{text}` is not a package URL")))?;
        if text.chars().any(char::is_control) {
            return Err(invalid("the package URL contains a control character".to_owned()));
        }
        let version = url.version().map(Into::into);
        url.without_version().without_subpath().clear_qualifiers();
        let base = url.to_string();
        // Some hosts don't tell names apart by case (purl specification, types `github` and `bitbucket`).
        let base = if base.starts_with("pkg:github/") || base.starts_with("pkg:bitbucket/") {
            base.to_lowercase()
        } else {
            base
        };
        Ok(Self { text: text.into(), base: base.into(), version })
    }
}

impl fmt::Display for PackageUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl Serialize for PackageUrl {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

impl<'de> Deserialize<'de> for PackageUrl {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl JsonSchema for PackageUrl {
    fn schema_name() -> Cow<'static, str> {
        "PackageUrl".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({
            "type": "string",
            "pattern": "^pkg:",
            "description": "A package URL (purl), such as `pkg:github/fern-labs/dew@1.3.1`."
        })
    }
}
