//! Where the files of a registry are kept.
//!
//! | module | what lives there |
//! |---|---|
//! | [`folder`] | as plain files in a folder: reading, appending events, keeping files |
//! | [`bucket`] | as objects of an S3-compatible store |
//! | [`front`] | as a copy in front of another registry, of what was asked for |
//! | [`tokens`] | who may publish what to a registry that is served |

pub mod bucket;
pub mod folder;
pub mod front;
pub mod tokens;
