//! Where one package's bytes come from.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::name::RegistryName;

/// A source, as a lock names it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Source {
    /// A registry, by its name in the manifest.
    Registry(RegistryName),
    /// A folder of this machine, which is used where it lies.
    #[serde(rename_all = "kebab-case")]
    Path {
        /// The folder, from the workspace's.
        path: String,
    },
}

impl Source {
    /// The registry, where it is one.
    pub fn registry(&self) -> Option<&RegistryName> {
        match self {
            Self::Registry(name) => Some(name),
            Self::Path { .. } => None,
        }
    }

    /// The folder from the workspace's, of a package that is used where it lies.
    pub fn path(&self) -> Option<&str> {
        match self {
            Self::Path { path } => Some(path),
            Self::Registry(_) => None,
        }
    }
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
            Self::Path { path } => write!(f, "the folder {path}"),
        }
    }
}
