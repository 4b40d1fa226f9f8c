//! A person's own settings: `settings.toml`, which no project depends on.

use super::RegistryDeclaration;

/// Most requests and downloads at once that can be asked for.
pub const MAX_CONCURRENCY: usize = 64;

/// What a person sets for all projects.
#[derive(Debug, Clone, Default)]
pub struct Settings {
    /// Registries to look packages up in outside of any project.
    pub registries: Vec<RegistryDeclaration>,
    /// Where colours are used.
    pub color: Option<UseColor>,
    /// The store's folder, seen from the settings' folder.
    pub store: Option<String>,
    /// How many requests and downloads may be under way at once.
    pub concurrency: Option<usize>,
    /// Whether nothing is asked over a network.
    pub offline: Option<bool>,
}

/// Where colours are used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UseColor {
    /// Where the output is a terminal.
    Auto,
    /// Everywhere.
    Always,
    /// Nowhere.
    Never,
}

impl UseColor {
    /// The words for them.
    pub const WORDS: [(&str, Self); 3] =
        [("auto", Self::Auto), ("always", Self::Always), ("never", Self::Never)];
}

impl Settings {
    /// The names of the settings that are set.
    pub fn names(&self) -> Vec<&'static str> {
        let set = [
            (!self.registries.is_empty(), "registries"),
            (self.color.is_some(), "color"),
            (self.store.is_some(), "store"),
            (self.concurrency.is_some(), "concurrency"),
            (self.offline.is_some(), "offline"),
        ];
        set.into_iter().filter_map(|(is_set, name)| is_set.then_some(name)).collect()
    }
}
