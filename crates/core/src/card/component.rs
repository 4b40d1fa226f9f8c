//! Components: optional, named parts of a package, and what each adds.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{CardNeed, Entry};
use crate::name::{ComponentName, PartName};

/// An optional part of a package that adds needs or files.
#[derive(Debug, Clone, PartialEq, Eq, Default, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Component {
    /// One line that says what it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub summary: Option<String>,
    /// Whether it comes along unless somebody takes the package bare.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub default: bool,
    /// What it needs.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub needs: Vec<CardNeed>,
    /// The parts of the release that come along only with it, or with another component that names them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<PartName>,
}

impl Entry {
    /// The components that come along unless somebody takes the package bare.
    pub fn default_components(&self) -> BTreeSet<ComponentName> {
        let by_default = self.components.iter().filter(|(_, component)| component.default);
        by_default.map(|(name, _)| name.clone()).collect()
    }

    /// Whether a part goes along with these components, nobody asking for it.
    pub fn goes_along(&self, part: &PartName, components: &BTreeSet<ComponentName>) -> bool {
        let mut naming =
            self.components.iter().filter(|(_, component)| component.parts.contains(part)).peekable();
        if naming.peek().is_some() {
            return naming.any(|(name, _)| components.contains(name));
        }
        !super::ON_REQUEST.contains(&part.as_str())
    }
}
