//! A registry, served over HTTP to people who find and publish packages.
//!
//! | room | what lives there |
//! |---|---|
//! | [`serve`], `connections` | listening, TLS, time limits, who may have how many connections, stopping gracefully |
//! | [`served`] | a registry that can be published to, or only be read |
//! | [`app`] | one request: who asks, how much, which route, what is noted of it |
//! | `reads`, `hot` | the registry's files, with validators, ranges and compression; what was asked for lately |
//! | `uploads`, `events` | the interface for publishing: files first, then what makes them a release |
//! | `closure` | everything that some needs can reach, in one answer |
//! | `find`, `pages` | packages by words as data; pages for people who browse |
//! | `problem` | refusals as problem details (RFC 9457) |
//! | `limits`, `rate`, `metrics` | how much one client may ask and send, and what was asked (OpenMetrics) |
//! | `work` | waiting for disks, off the threads that wait for the network |
//!
//! The server keeps nothing in memory that matters: it can be killed at any moment, and any number of them may serve one
//! folder.

pub mod app;
mod closure;
mod connections;
mod events;
mod find;
mod hot;
mod limits;
mod metrics;
mod pages;
mod problem;
mod rate;
mod reads;
pub mod serve;
mod served;
mod uploads;
mod work;

pub use app::App;
pub use limits::Limits;
pub use rate::Rate;
pub use served::Served;
