//! The settings of a machine and a person that all use cases need: the store, the network, the time.

use std::ffi::OsString;
use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_registry::catalogue::stop::Stop;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::client::pending_hosts::PendingHosts;
use bibliotax_store::store::Store;
use jiff::Timestamp;

use crate::credentials::CredentialChain;
use crate::failure::Failure;
use crate::search_options::SearchOptions;
use crate::settings::SettingsFile;

/// What a machine and its person say; read once by the program that runs use cases.
#[derive(Clone, Default)]
pub struct Environment {
    /// The store's folder; `None` where no folder for it is known.
    pub store: Option<PathBuf>,
    /// Whether nobody is asked over a network.
    pub is_offline: bool,
    /// Now, or the time that everything is to be dated with.
    pub now: Timestamp,
    /// Where credentials are looked up.
    pub credentials: CredentialChain,
    /// The hosts that this process waits for.
    pub waits: PendingHosts,
    /// The settings of buckets, by the names of their variables.
    pub bucket_settings: Vec<(String, String)>,
    /// The person's settings.
    pub settings: SettingsFile,
    /// Whether the answer isn't wanted any more.
    pub stop: Stop,
    /// The folders in which programs are looked for, as `PATH` has them.
    pub program_folders: OsString,
}

impl Environment {
    /// The same, but nobody is asked over a network where `is_offline`.
    #[must_use]
    pub fn offline_if(&self, is_offline: bool) -> Self {
        Self { is_offline: self.is_offline || is_offline, ..self.clone() }
    }

    /// How registries behind a network are asked: what they answered is kept in the store.
    pub fn network(&self) -> Network {
        Network {
            // Without a place for it nothing is kept, and all is asked for again.
            cache: self.registries_folder().ok(),
            trees: self.store.as_ref().map(|store| store.join("trees")),
            offline: self.is_offline,
            credentials: Some(Arc::new(self.credentials.clone())),
            asks_anew: false,
            stale: false,
            longest_list: None,
            silence: None,
            memory: self.store.as_ref().map(|store| store.join("seen")),
            waits: self.waits.clone(),
            now: self.now,
            concurrency: self.settings.settings.concurrency,
            accept_changed: Vec::new(),
        }
    }

    /// The same for a command that resolves.
    pub fn network_for(&self, options: &SearchOptions) -> Network {
        let (accept_changed, asks_anew) = (options.accept_changed.clone(), options.asks_anew);
        Network { accept_changed, asks_anew, ..self.network() }
    }

    /// The person's store.
    pub fn open_store(&self) -> Result<Store, Failure> {
        Ok(Store::open(self.store_folder()?)?)
    }

    /// Where what registries answered is kept.
    pub fn registries_folder(&self) -> Result<PathBuf, Failure> {
        Ok(self.store_folder()?.join("registries"))
    }

    fn store_folder(&self) -> Result<&PathBuf, Failure> {
        self.store.as_ref().ok_or_else(|| {
            let failure = Failure::new("disk.missing", "there is no home folder for the store");
            failure.advice("set the environment variable BIBLIOTAX_STORE to a folder")
        })
    }
}
