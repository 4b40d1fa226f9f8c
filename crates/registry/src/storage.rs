//! Where the files of a registry are stored.
//!
//! | module | what it has |
//! |---|---|
//! | [`folder`] | plain files in a folder |
//! | [`bucket`] | objects of an S3-compatible storage service |
//! | [`read_through`] | a copy of another registry, filled by what is asked for |
//! | [`tokens`] | who may publish what to a served registry |

pub mod bucket;
pub mod folder;
pub mod read_through;
pub mod tokens;
