//! Archives: read with limits checked at every entry, and written so that the same files give the same bytes.
//!
//! | module | what it has |
//! |---|---|
//! | [`unpack`] | unpacking an archive into a tree |
//! | [`inspect`], `entry_visitor` | reading an archive without unpacking it |
//! | [`mod@format`], `decoding` | how an archive is packed, by its bytes, and the tar inside it |
//! | [`select`], [`secrets`] | which files of a folder go into a package, and what looks like a secret |
//! | [`pack`] | packing files into a reproducible archive |
//! | `limits` | how much an archive may contain |
//! | [`error`] | what can go wrong |

mod decoding;
mod entry_visitor;
pub mod error;
pub mod format;
pub mod inspect;
mod limits;
pub mod pack;
pub mod secrets;
pub mod select;
pub mod unpack;
