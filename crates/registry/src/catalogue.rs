//! All registries of a workspace as one catalogue for the resolver.
//!
//! | module | what lives there |
//! |---|---|
//! | [`registry`] | a registry, wherever it is, with its mirrors |
//! | [`registries`] | all of a manifest; `ahead` looks packages up before they are asked for |
//! | [`connections`] | those that one command has opened |
//! | [`everywhere`] | all places that have a package, side by side |
//! | [`seen`], [`known_lines`] | what registries said before, and which lines of locks were held against cards |

pub(crate) mod ahead;
pub mod connections;
pub mod everywhere;
pub mod known_lines;
pub mod registries;
pub mod registry;
pub mod seen;
