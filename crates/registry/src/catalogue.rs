//! All registries of a workspace as one catalogue for the resolver.
//!
//! | module | what it has |
//! |---|---|
//! | [`registry`] | a registry of any kind, with its mirrors |
//! | [`registries`], `prefetch` | all registries of a workspace; packages fetched before the resolver asks for them |
//! | [`connections`] | the registries that a command has opened |
//! | [`stop`] | a signal that an answer isn't wanted any more |
//! | [`all_sources`] | every source that has a package, compared |
//! | [`upstream_releases`] | which releases upstream has, where cards say that they appear |
//! | [`seen_histories`], [`checked_lines`] | what registries said before; the lines of locks that were checked |

pub mod all_sources;
pub mod checked_lines;
pub mod connections;
pub(crate) mod prefetch;
pub mod registries;
pub mod registry;
pub mod seen_histories;
pub mod stop;
pub mod upstream_releases;
