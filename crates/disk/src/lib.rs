//! Files handled with care: what registry, store and program all need of a disk.
//!
//! | room | what lives there |
//! |---|---|
//! | [`error`] | what a disk refused, with the path |
//! | [`mod@write`] | files that are old or new after any crash, never between |
//! | [`folder`] | folders held open, in which no link is followed |
//! | [`lock`] | one process at a time |
//! | [`read`] | texts, up to a size |
//! | [`remains`] | what processes that were killed left behind |
//! | [`temporary`] | temporary files and folders of ours: their names, and how their makers hold them |
//! | [`stamp`] | when something was last changed |
//! | [`tree`] | whole folders: removing them, syncing them |

pub mod error;
pub mod folder;
pub mod lock;
pub mod read;
pub mod remains;
pub mod stamp;
pub mod temporary;
pub mod tree;
pub mod write;

pub use error::{DiskError, Refusal, Result};
