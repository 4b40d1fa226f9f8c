//! Asking registries over a network.
//!
//! | module | what lives there |
//! |---|---|
//! | [`http`] | a registry behind HTTP: asked, cached, published to |
//! | [`oci`] | a registry among containers |
//! | [`network`], [`waits`] | how registries are asked; whom is waited for |
//! | [`credentials`], [`origin`] | what opens a host; whom a secret is for |
//! | `database` | the databases that remember what registries said |

pub mod credentials;
pub(crate) mod database;
pub mod http;
pub mod network;
pub mod oci;
pub mod origin;
pub mod waits;
