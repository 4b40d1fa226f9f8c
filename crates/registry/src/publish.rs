//! How releases get into a registry.
//!
//! | module | what lives there |
//! |---|---|
//! | [`pack`] | from a project folder to a release |
//! | [`accept`] | taking a release in, whose files are there |
//! | [`load`], [`mirror`] | many cards and events at once; a copy of a registry, brought up to date by what changed |
//! | [`audit`] | all that a registry holds, read and compared |

pub mod admit_release;
pub mod audit;
pub mod load;
pub mod mirror;
pub mod pack;
