//! Counts requests (OpenMetrics 1.0).

use std::time::Duration;

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;

/// What requests are distinguished by.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Labels {
    route: &'static str,
    status: u16,
}

/// The counters of a server.
pub struct Metrics {
    registry: Registry,
    requests: Family<Labels, Counter>,
    seconds: Family<[(&'static str, &'static str); 1], Histogram>,
}

impl Default for Metrics {
    fn default() -> Self {
        let requests = Family::<Labels, Counter>::default();
        let new = || Histogram::new(exponential_buckets(0.0005, 4.0, 10));
        let seconds = Family::<[(&'static str, &'static str); 1], Histogram>::new_with_constructor(
            new as fn() -> Histogram,
        );
        let mut registry = Registry::with_prefix("bibliotax");
        registry.register("requests", "Requests answered, by route and status", requests.clone());
        registry.register("request_seconds", "Seconds until an answer began, by route", seconds.clone());
        Self { registry, requests, seconds }
    }
}

impl Metrics {
    /// Counts a request.
    pub fn count(&self, route: &'static str, status: u16, took: Duration) {
        self.requests.get_or_create(&Labels { route, status }).inc();
        self.seconds.get_or_create(&[("route", route)]).observe(took.as_secs_f64());
    }

    /// All counters as text.
    pub fn text(&self) -> String {
        let mut text = String::new();
        // Writing to a text can't fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}
