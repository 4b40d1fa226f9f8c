//! How releases get into a registry.
//!
//! | module | what it has |
//! |---|---|
//! | [`pack`] | from a project folder to a release |
//! | [`admit_release`] | checking a release whose files are stored, and appending its event |
//! | [`load`], [`mirror`] | many cards and events at once; updating a copy of a registry |
//! | [`next_release`], [`file_changes`] | a release made from a card and what upstream published since; how its files differ |
//! | [`upstream_archives`] | fetching archives that cards point at, to fill in, check or keep them |
//! | [`audit`] | checking all that a registry holds |

pub mod admit_release;
pub mod audit;
pub mod file_changes;
pub mod load;
pub mod mirror;
pub mod next_release;
pub mod pack;
pub mod upstream_archives;
