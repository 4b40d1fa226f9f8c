//! What every kind of registry shares: its file layout, what a card has to be, and what can go wrong.
//!
//! | module | what it has |
//! |---|---|
//! | [`error`], [`card_problem`] | what a registry refused, and what is wrong with a card |
//! | [`storage`] | the traits of a storage |
//! | [`layout`], [`description`], [`names`] | where files are, what a registry says of itself, the list of names |
//! | [`staging`], [`partial_upload`], [`release`] | files and releases that are being published |
//! | [`card_check`], [`inspect`], `release_check` | checks of a card, of its archives, and of its version and names |
//! | [`release_status`], `history_limits` | withdrawing, restoring, deprecating; how long a history may become |
//! | [`upstream_archives`] | archives where their authors have them |
//! | [`private_hosts`] | hosts that only this machine or its network reaches |
//! | `bounded`, `mutex`, `jitter` | a cache bounded by bytes, locking, random waits |

pub mod bounded;
pub mod card_check;
pub mod card_problem;
pub mod description;
pub mod error;
pub(crate) mod history_limits;
pub mod inspect;
pub(crate) mod jitter;
pub mod layout;
pub(crate) mod mutex;
pub mod names;
pub mod partial_upload;
pub mod private_hosts;
pub mod release;
pub(crate) mod release_check;
pub mod release_status;
pub mod staging;
pub mod storage;
pub mod upstream_archives;
