//! How much a server takes from one client, and how long it waits.

use std::time::Duration;

use crate::rate::Rate;

/// How much is taken and waited for.
#[derive(Debug, Clone)]
pub struct Limits {
    /// Bytes of an uploaded file.
    pub largest_file: u64,
    /// Bytes of all uploads that no release names yet.
    pub pending: u64,
    /// Bytes of a card or another small thing.
    pub largest_text: usize,
    /// Until a connection's first request has to be there, and the head of each.
    pub head: Duration,
    /// Until a connection without a request is closed.
    pub idle: Duration,
    /// Between two pieces of an upload; and over which the slowest rate counts, of uploads and of answers.
    pub silence: Duration,
    /// Connections of one address, or of one network where addresses are many.
    pub connections_per_address: usize,
    /// Until an answer has to begin.
    pub answer: Duration,
    /// For requests that are under way when the server stops.
    pub stopping: Duration,
    /// Requests of one token, or of one address without a token.
    pub rate: Rate,
    /// Whether all requests come through a proxy that names the client (`x-forwarded-for`).
    pub is_behind_proxy: bool,
}

impl Default for Limits {
    fn default() -> Self {
        Self {
            largest_file: 4 << 30,
            pending: 64 << 30,
            largest_text: 4 << 20,
            head: Duration::from_secs(10),
            idle: Duration::from_secs(60),
            connections_per_address: 256,
            silence: Duration::from_secs(30),
            answer: Duration::from_secs(60),
            stopping: Duration::from_secs(30),
            rate: Rate { steady: 50.0, burst: 500.0 },
            is_behind_proxy: false,
        }
    }
}
