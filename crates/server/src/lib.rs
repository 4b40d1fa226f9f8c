//! A registry served over HTTP, for people who find and publish packages.
//!
//! | module | what it has |
//! |---|---|
//! | [`serve`], `connections` | listening, TLS, time limits, connections per client, graceful shutdown |
//! | `served` | a registry that can be published to, or only read |
//! | `routes` | what is answered at each path |
//! | `answer` | one request: in time, with an id, logged and counted |
//! | `authentication`, `token_cache` | who sends a request: address and token |
//! | [`app`] | what all requests share: registry, search, limits |
//! | `reads`, `history_cache` | the registry's files, with validators, ranges and compression; recent histories in memory |
//! | `uploads`, `events` | publishing: files first, then the event that makes them a release |
//! | `closure` | everything that some needs can reach, in one answer |
//! | `find`, `pages` | packages by words as data; pages for a browser |
//! | `problem` | refusals as problem details (RFC 9457) |
//! | `limits`, `rate`, `metrics` | how much one client may ask and send, and what was asked (OpenMetrics) |
//! | `blocking` | work that waits for a disk, off the threads that wait for the network |
//!
//! The server keeps nothing in memory that matters: it can be killed at any moment, and any number of them may serve one
//! folder.

mod answer;
pub mod app;
mod authentication;
mod blocking;
mod closure;
mod connections;
mod events;
mod find;
mod history_cache;
mod limits;
mod metrics;
mod pages;
mod problem;
mod rate;
mod reads;
mod routes;
pub mod serve;
mod served;
mod token_cache;
mod uploads;

pub use app::App;
pub use limits::Limits;
pub use rate::Rate;
pub use served::Served;
