//! The computation of bibliotax: no files, no network, no clock, no threads, no printing.
//!
//! | room | what lives there |
//! |---|---|
//! | [`name`], [`version`], [`range`] | what things are called and which versions a need accepts |
//! | [`digest`], [`license`] | SHA-256 digests and SPDX licence expressions |
//! | [`manifest`] | `bibliotax.toml`: its meaning, and its text edited in place |
//! | [`card`], [`history`] | what a registry knows of releases |
//! | [`facet`], [`variant`], [`fitting`] | targets, whether a release works on them, which of its files they take, and which release to take |
//! | [`inner_path`] | paths inside a package that every system can have |
//! | [`workspace`] | several manifests that share one lock and one shelf |
//! | [`resolve`] | from needs to one release of each package, or to the reason why not |
//! | `problem` | the problem that a workspace and its lock pose to the resolver |
//! | [`lock`], [`compare`], [`graph`], [`newer`] | `bibliotax.lock`, the difference of two, who needs whom, what could be newer |
//! | [`source`], [`location`] | where one package's bytes come from; what a text names as a place: path, URL, host |
//! | [`shown`] | characters that a terminal acts on, as escapes |
//! | [`links`] | where the parts of a shelf are, for whoever builds with them |
//! | [`steps`] | what people must do by hand, and whether they did |
//! | [`fault`], [`nearest`] | what is wrong in a text, and what was probably meant |
//! | [`notice`] | what long work tells while it goes on |

pub mod card;
pub mod compare;
pub mod digest;
pub mod facet;
pub mod fault;
pub mod fitting;
pub mod graph;
pub mod history;
pub mod inner_path;
pub mod license;
pub mod links;
pub mod location;
pub mod lock;
pub mod manifest;
pub mod name;
pub mod nearest;
pub mod newer;
pub mod notice;
mod problem;
pub mod range;
pub mod resolve;
pub mod shown;
pub mod source;
pub mod steps;
pub mod variant;
pub mod version;
pub mod workspace;
