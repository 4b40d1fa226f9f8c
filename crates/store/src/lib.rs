//! What is stored on this machine and installed in a project.
//!
//! | module | what it has |
//! |---|---|
//! | [`store`] | the machine-wide store: unpacked trees by the digest of their archive |
//! | [`shelf`] | a project's folder of installed packages: planning, building, its state |
//! | [`install`] | from a lock to the shelf: fetching what is missing |
//! | [`inventory`] | what is in the store, who uses it, and what can be removed |
//! | [`kit`] | a lock with all its packages in one file |
//! | [`ledger`] | the steps that people did by hand, shared with the team |
//! | [`verify`], `file_check` | every file of the shelf compared with what was installed |
//! | `partial_download` | the received part of large archives whose download broke |
//! | [`error`] | what can go wrong |

pub mod error;
mod file_check;
pub mod install;
pub mod inventory;
pub mod kit;
pub mod ledger;
mod partial_download;
pub mod shelf;
pub mod store;
pub mod verify;

pub use error::StoreError;
