//! `registry`: creating, loading, checking, mirroring and keeping current registries, and who may publish to them.

pub mod check;
pub mod create;
pub mod follow;
pub mod load;
pub mod mirror;
pub mod read_through;
pub mod sign_in;
pub mod tokens;
mod try_secret;
