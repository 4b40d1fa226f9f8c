//! What every kind of registry shares: what its files are called and hold, what a card has to be, and what can go wrong.
//!
//! | module | what lives there |
//! |---|---|
//! | [`error`], [`card_problem`] | what a registry refused, and of a card why |
//! | [`keep`] | what whoever keeps a registry's files promises, for whoever may write to them |
//! | [`layout`], [`description`], [`names`] | where files are, what a registry says of itself, the list of names |
//! | [`staged`], [`piece`], [`release`] | files and releases on their way |
//! | [`check`], [`inspect`], `taken` | what a card has to be; what archives hold that are to become a release; versions and names that are taken |
//! | [`standing`], `room` | withdrawing, restoring, deprecating; how much a history may hold |
//! | [`reach`] | places that only this machine or its network reaches |

pub mod bounded;
pub mod card_problem;
pub(crate) mod chance;
pub mod check;
pub mod description;
pub mod error;
pub mod inspect;
pub mod keep;
pub mod layout;
pub(crate) mod mutex;
pub mod names;
pub mod piece;
pub mod reach;
pub mod release;
pub(crate) mod release_check;
pub(crate) mod room;
pub mod staged;
pub mod standing;
