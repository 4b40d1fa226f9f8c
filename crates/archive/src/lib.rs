//! Archives: read with a guard at every entry, and written so that the same files give the same bytes.
//!
//! | room | what lives there |
//! |---|---|
//! | [`unpack`] | archives to trees, with a guard at every entry |
//! | [`look`] | a look into an archive without unpacking it |
//! | [`select`], [`secrets`] | which files of a folder go into a package, and what looks like a secret |
//! | [`pack`] | files as a reproducible archive |
//! | [`error`] | what went wrong |

pub mod error;
pub mod look;
pub mod pack;
pub mod secrets;
pub mod select;
pub mod unpack;
mod visit;
