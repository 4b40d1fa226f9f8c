//! Where releases come from, and how they are published.
//!
//! | module | what it has |
//! |---|---|
//! | [`model`] | what every kind of registry shares |
//! | [`storage`] | registries in folders, in buckets, and read-through copies of others |
//! | [`client`] | registries behind HTTP and in container registries |
//! | [`sources`] | packages from git repositories and archives |
//! | [`advisories`] | advisories from feeds, found by an index in the store |
//! | [`search`] | searching by words, in a local database that follows the list of names |
//! | [`publish`] | packing, admitting, loading, mirroring, auditing |
//! | [`catalogue`] | all registries of a workspace as one |
//!
//! Arrows: `publish → catalogue → advisories → sources, storage → client → search → model`.

pub mod advisories;
pub mod catalogue;
pub mod client;
pub mod model;
pub mod publish;
pub mod search;
pub mod sources;
pub mod storage;

pub use model::error::RegistryError;
