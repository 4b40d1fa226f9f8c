//! Where releases come from, and how they get there.
//!
//! | module | what lives there |
//! |---|---|
//! | [`model`] | what every kind of registry shares |
//! | [`storage`] | registries kept in folders, in buckets, and as copies in front of others |
//! | [`client`] | registries behind HTTP and among containers |
//! | [`sources`] | git repositories and archives |
//! | [`search`] | searching by words, in a local database that follows the list of names |
//! | [`publish`] | packing, taking in, loading, mirroring, auditing |
//! | [`catalogue`] | all registries of a workspace as one |
//!
//! Arrows: `publish → catalogue → sources, storage → client → search → model`.

pub mod catalogue;
pub mod client;
pub mod model;
pub mod publish;
pub mod search;
pub mod sources;
pub mod storage;

pub use model::error::RegistryError;
