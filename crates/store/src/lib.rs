//! What is kept and installed.
//!
//! | room | what lives there |
//! |---|---|
//! | [`store`] | the machine-wide keep: unpacked trees by the digest of their archive |
//! | [`shelf`] | a project's folder of installed packages: planning, building, its state |
//! | [`install`] | from a lock to the shelf: what is missing, fetched and put there |
//! | [`inventory`] | what is kept, who uses it, and what can go |
//! | [`kit`] | a lock with all its packages in one file |
//! | [`ledger`] | what people did by hand, for the team to share |
//! | [`verify`], `same` | every file of the shelf against what was installed |
//! | `partial` | what came of large archives that broke off |
//! | [`error`] | what went wrong |

pub mod error;
pub mod install;
pub mod inventory;
pub mod kit;
pub mod ledger;
mod partial;
mod same;
pub mod shelf;
pub mod store;
pub mod verify;

pub use error::StoreError;
