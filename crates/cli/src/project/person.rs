//! What a person's machine and environment say for all projects: where the store is, and how registries are asked.

use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_registry::client::network::Network;
use bibliotax_store::store::Store;

use crate::credentials::Wallet;
use crate::failure::Failure;
use crate::switches;
use crate::waiting;

/// How registries behind a network are asked: what they answered is kept in the store.
pub fn network() -> Network {
    Network {
        // Without a place for it nothing is kept, and all is asked for anew.
        cache: registries_folder().ok(),
        offline: switches::is_on(switches::OFFLINE),
        credentials: Some(Arc::new(Wallet)),
        stale: false,
        longest_list: None,
        silence: None,
        memory: store_folder().ok().map(|folder| folder.join("seen")),
        waits: waiting::waits(),
        now: crate::clock::now(),
        accept_changed: Vec::new(),
    }
}

/// The person's store: where BIBLIOTAX_STORE says, else in the folder that the system has for caches.
pub fn open_store() -> Result<Store, Failure> {
    Ok(Store::open(&store_folder()?)?)
}

/// Where what registries answered is kept.
pub fn registries_folder() -> Result<PathBuf, Failure> {
    Ok(store_folder()?.join("registries"))
}

fn store_folder() -> Result<PathBuf, Failure> {
    use etcetera::base_strategy::{BaseStrategy, choose_base_strategy};
    if let Some(folder) = std::env::var_os("BIBLIOTAX_STORE").filter(|folder| !folder.is_empty()) {
        return Ok(folder.into());
    }
    match choose_base_strategy() {
        Ok(strategy) => Ok(strategy.cache_dir().join("bibliotax")),
        Err(_) => {
            let failure = Failure::new("disk.missing", "there is no home folder to keep the store in");
            Err(failure.mend("say where it should be: BIBLIOTAX_STORE=DIR"))
        }
    }
}
