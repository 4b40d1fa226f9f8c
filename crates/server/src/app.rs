//! A registry that is served: what all requests to it share.

use std::net::IpAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::Response;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::storage::ReadRegistry;
use bibliotax_registry::search::{Index, Searcher};
use tokio::sync::Semaphore;

use crate::blocking::blocking;
use crate::closure::{self, closure};
use crate::history_cache::{Hot, Prepared};
use crate::limits::Limits;
use crate::metrics::Metrics;
use crate::pages::ContentsCache;
use crate::problem::{Problem, causes_of};
use crate::rate::Buckets;
use crate::reads;
use crate::served::Served;
use crate::token_cache::TokenCache;

/// How long after a clearing of what was left behind the next one begins.
const CLEANUP_INTERVAL: Duration = Duration::from_hours(1);

/// How many closures are worked out at once.
const MAX_CONCURRENT_CLOSURES: usize = 4;

/// Somebody who waits for an answer, until this goes.
#[derive(Default)]
struct Waiting(Arc<AtomicBool>);

impl Waiting {
    /// Whether nobody waits any more.
    fn has_left(&self) -> Arc<AtomicBool> {
        Arc::clone(&self.0)
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

/// A registry that is served.
pub struct App {
    pub(crate) served: Served,
    pub(crate) registry: Arc<dyn ReadRegistry>,
    pub(crate) searcher: Arc<Searcher>,
    pub(crate) limits: Limits,
    pub(crate) contents: Arc<ContentsCache>,
    /// Whether clients reach it encrypted, without a proxy.
    pub(crate) is_encrypted: bool,
    pub(crate) metrics: Metrics,
    pub(crate) hot: Hot,
    pub(crate) tokens: TokenCache,
    buckets: Buckets,
    /// Turns at working out closures.
    closures: Arc<Semaphore>,
}

impl App {
    /// Serves a registry within these limits, encrypted or not.
    pub fn new(served: Served, limits: Limits, is_encrypted: bool) -> Result<Arc<Self>, RegistryError> {
        clear(&served);
        let registry = served.registry();
        let searcher = Searcher::new(Arc::clone(&registry), registry.scratch()?.join("names.sqlite"));
        let (searcher, buckets) = (Arc::new(searcher), Buckets::new(limits.rate));
        // Reading a long list for the first time takes longer than anybody wants to wait; what goes wrong is met again.
        let begun = Arc::clone(&searcher);
        std::thread::spawn(move || {
            if let Err(error) = begun.with(Index::is_empty) {
                tracing::warn!(cause = causes_of(&error), "the list of names can't be read");
            }
        });
        let (metrics, hot) = (Metrics::default(), Hot::default());
        let closures = Arc::new(Semaphore::new(MAX_CONCURRENT_CLOSURES));
        let tokens = TokenCache::new(&served);
        let contents = Arc::default();
        Ok(Arc::new(Self {
            served,
            registry,
            searcher,
            limits,
            contents,
            is_encrypted,
            metrics,
            hot,
            tokens,
            buckets,
            closures,
        }))
    }

    /// Clears now and then what was left behind, for as long as this runs.
    pub(crate) async fn clear_now_and_then(self: Arc<Self>) {
        loop {
            tokio::time::sleep(CLEANUP_INTERVAL).await;
            let served = self.served.clone();
            if let Err(problem) = blocking(move || clear(&served)).await {
                // The request of nobody.
                let _ = problem.logged("");
            }
        }
    }

    /// The address that asks. Behind a proxy it is the last that the proxy names; those before it may be invented.
    pub(crate) fn client_address(&self, peer: IpAddr, headers: &HeaderMap) -> IpAddr {
        let named = headers.get_all("x-forwarded-for").iter().next_back();
        let named = named.and_then(|named| named.to_str().ok()?.rsplit(',').next()?.trim().parse().ok());
        named.filter(|_| self.limits.is_behind_proxy).unwrap_or(peer)
    }

    /// What needs reach, worked out for a few at a time: it is the most work that anybody can ask for.
    pub(crate) async fn closure(
        &self,
        needs: closure::Asked,
        headers: HeaderMap,
    ) -> Result<Response, Problem> {
        let turn = Arc::clone(&self.closures).acquire_owned().await;
        let turn = turn.map_err(|_| Problem::broken("this server is ending", "no more turns at closures"))?;
        let (registry, waiting) = (Arc::clone(&self.registry), Waiting::default());
        let has_left = waiting.has_left();
        blocking(move || {
            let _turn = turn;
            let answer = closure(&*registry, needs, &|| has_left.load(Ordering::Relaxed))?;
            Ok(reads::text(&Prepared::at_work(answer), "application/jsonl", &headers))
        })
        .await?
    }

    /// Counts a request against the limit of a client, by address or token.
    pub(crate) fn limit(&self, client: &str) -> Result<(), Problem> {
        self.buckets.take(client, Instant::now()).map_err(|wait| {
            let seconds = wait.as_secs() + 1;
            Problem::new(StatusCode::TOO_MANY_REQUESTS, "server.too-many", "too many requests at once")
                .header(header::RETRY_AFTER, HeaderValue::from(seconds))
        })
    }
}

/// Throws away what was given up; what can't be removed now is tried again later.
fn clear(served: &Served) {
    if let Served::Writable(storage) = served
        && let Err(error) = storage.clear_uploads()
    {
        tracing::warn!(cause = causes_of(&error), "uploads can't be cleared");
    }
}
