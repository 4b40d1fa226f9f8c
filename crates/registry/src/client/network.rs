//! How a command uses the network: what machine and environment say.

use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bibliotax_core::name::PackageName;
use jiff::Timestamp;

use crate::client::credentials::Credentials;
use crate::client::pending_hosts::PendingHosts;

/// How registries behind a network are asked.
#[derive(Clone, Default)]
pub struct Network {
    /// Where what they answered is kept; `None` to keep nothing.
    pub cache: Option<PathBuf>,
    /// Where the store has the unpacked files of archives; `None` to do without them.
    pub trees: Option<PathBuf>,
    /// Whether to do with what is kept, however old, and ask nobody.
    pub offline: bool,
    /// Whether servers are asked again that answered a while ago.
    pub asks_anew: bool,
    /// Whether an old description will do where the registry can't be reached.
    pub stale: bool,
    /// Finds what opens hosts.
    pub credentials: Option<Arc<dyn Credentials>>,
    /// How much of a list of names is fetched at most where the server can search it, in bytes; what is usual without it.
    pub longest_list: Option<u64>,
    /// How long to wait for the next bytes; as long as is usual without it.
    pub silence: Option<Duration>,
    /// Where what registries said is remembered, so that changes are noticed; `None` to remember nothing.
    pub memory: Option<PathBuf>,
    /// The hosts that are waited for.
    pub waits: PendingHosts,
    /// How many requests are under way at once; as many as usual without it.
    pub concurrency: Option<usize>,
    /// Now, for what is remembered.
    pub now: Timestamp,
    /// The packages of which it is accepted that a registry changed what it had published.
    pub accept_changed: Vec<PackageName>,
}
