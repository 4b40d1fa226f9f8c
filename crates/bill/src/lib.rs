//! Bills of materials and statements on vulnerabilities, in open formats.
//!
//! [`Bill`] is what of a lock goes into a product, with what cards say of it. Each format is a model of its open schema that is made
//! from a bill. The same bill gives the same bytes: a time is only in it where somebody gives one, or where a format wants one.
//!
//! | module | what it has |
//! |---|---|
//! | [`bill`] | the bill itself, of a lock and its cards |
//! | [`package_urls`] | package URLs (purl, ECMA-427) of components, with their origin and checksums |
//! | [`cyclonedx`] | CycloneDX 1.6 in JSON, with or without vulnerabilities |
//! | [`spdx2`], [`spdx3`] | SPDX 2.3 in JSON, SPDX 3.0.1 in JSON-LD |
//! | [`openvex`] | OpenVEX 0.2.0 |
//! | [`vulnerabilities`] | what is said of the advisories that affect a bill |
//! | [`notices`] | the licence texts that go with a product, as text, Markdown or HTML |
//! | [`listed`] | what a CycloneDX or SPDX file lists |

pub mod bill;
pub mod cyclonedx;
pub mod listed;
pub mod notices;
pub mod openvex;
pub mod package_urls;
pub mod spdx2;
pub mod spdx3;
#[cfg(test)]
mod tests;
pub mod vulnerabilities;

pub use self::bill::{Bill, BillComponent, BillProject};
