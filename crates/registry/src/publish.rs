//! How releases get into a registry.
//!
//! | module | what it has |
//! |---|---|
//! | [`pack`] | from a project folder to a release |
//! | [`admit_release`] | checking a release whose files are stored, and appending its event |
//! | [`load`], [`mirror`] | many cards and events at once; updating a copy of a registry |
//! | [`audit`] | checking all that a registry holds |

pub mod admit_release;
pub mod audit;
pub mod load;
pub mod mirror;
pub mod pack;
