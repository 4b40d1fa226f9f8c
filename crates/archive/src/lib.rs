//! Archives: read with a guard at every entry, and written so that the same files give the same bytes.
//!
//! | room | what lives there |
//! |---|---|
//! | [`unpack`] | archives to trees, with a guard at every entry |
//! | [`look`] | a look into an archive without unpacking it |
//! | [`pack`] | a package folder as a list of files and as a reproducible archive |
//! | [`error`] | what went wrong |

pub mod error;
pub mod look;
pub mod pack;
pub mod unpack;
mod visit;
