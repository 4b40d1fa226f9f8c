//! Registries over a network.
//!
//! | module | what it has |
//! |---|---|
//! | [`http`] | a registry behind HTTP: requests, cache, publishing |
//! | [`oci`] | packages in a container registry |
//! | [`network`], [`pending_hosts`] | how a command uses the network; which hosts it waits for |
//! | [`credentials`], [`origin`] | credentials of a host; which host a secret belongs to |
//! | `database` | the databases of what registries said |

pub mod credentials;
pub(crate) mod database;
pub mod http;
pub mod network;
pub mod oci;
pub mod origin;
pub mod pending_hosts;
