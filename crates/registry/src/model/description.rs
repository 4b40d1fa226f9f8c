//! `registry.json`: what a registry says of itself.

use std::collections::BTreeMap;
use std::fmt;
use std::path::Path;

use bibliotax_core::facet::Facet;
use bibliotax_core::history::without_place;
use bibliotax_core::name::FacetName;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::model::error::RegistryError;

/// The file's name in a registry.
pub const DESCRIPTION: &str = "registry.json";

/// The format that this version writes, and the newest that it reads.
pub const FORMAT: u64 = 1;

/// What a registry says of itself.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Description {
    /// The format of its files.
    pub format: u64,
    /// Its name.
    pub name: String,
    /// The facets that it defines.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub facets: BTreeMap<FacetName, Facet>,
    /// Where the interface for programs is, seen from the registry; none where there are only files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub service: Option<String>,
}

impl Description {
    /// The description of a registry that is nothing but files.
    pub fn of_files(name: &str, facets: BTreeMap<FacetName, Facet>) -> Self {
        Self { format: FORMAT, name: name.to_owned(), facets, service: None }
    }

    /// Reads the description of a registry; `whose` names it.
    pub fn read(text: &str, whose: &Path) -> Result<Self, RegistryError> {
        let bad =
            |error| RegistryError::BadDescription { path: whose.to_owned(), message: without_place(&error) };
        let format = serde_json::from_str::<serde_json::Value>(text).map_err(bad)?["format"].as_u64();
        if let Some(format) = format.filter(|format| *format > FORMAT) {
            return Err(RegistryError::Newer { path: whose.to_owned(), format, known: FORMAT });
        }
        serde_json::from_str(text).map_err(bad)
    }
}

impl fmt::Display for Description {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Texts and lists with text keys: nothing in a description can fail to be JSON.
        writeln!(f, "{}", serde_json::to_string(self).unwrap_or_default())
    }
}
