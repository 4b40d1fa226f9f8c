//! Patterns of sources, such as `seedhouse`, `fernhollow/*` or `https://git.example/*`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::name::PackageName;
use crate::source::Source;

/// Sources that a rule mentions: a registry (`seedhouse`), packages of one (`seedhouse/moss-*`), or places of git repositories,
/// archives and folders (`https://git.example/*`). A closing `*` means every text that begins like this.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct SourcePattern(String);

impl SourcePattern {
    /// The pattern that is written like this.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// Whether the pattern covers a package from a source.
    pub fn covers(&self, package: &PackageName, source: &Source) -> bool {
        match source {
            Source::Registry(registry) => {
                let of_registry = self.0.strip_prefix(registry.as_str());
                of_registry == Some("")
                    || of_registry
                        .and_then(|rest| rest.strip_prefix('/'))
                        .is_some_and(|pattern| is_like(pattern, package.as_str()))
                    || self.0 == "*"
            }
            Source::Git(git) => is_like(&self.0, &git.git),
            Source::Archive(archive) => is_like(&self.0, &archive.archive),
            Source::Path(folder) => is_like(&self.0, &folder.path),
        }
    }

    /// The pattern as written.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

fn is_like(pattern: &str, text: &str) -> bool {
    match pattern.strip_suffix('*') {
        Some(start) => text.starts_with(start),
        None => text == pattern,
    }
}
