//! One request: authentication, limits, routing, metrics.

use std::net::IpAddr;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::body::{Body, to_bytes};
use axum::http::{HeaderMap, HeaderName, HeaderValue, Method, Request, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bibliotax_core::digest::Digest;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::names::NAMES;
use bibliotax_registry::model::storage::ReadRegistry;
use bibliotax_registry::search::{Index, Searcher};
use bibliotax_registry::storage::tokens::{self, Action, Token};
use headers::authorization::Bearer;
use headers::{Authorization, HeaderMapExt};
use jiff::Timestamp;
use tokio::sync::Semaphore;

use crate::blocking::blocking;
use crate::closure::{self, closure};
use crate::events::{AskedDeprecation, AskedRestoration, AskedUndeprecation, AskedWithdrawal, Asking, read};
use crate::find;
use crate::history_cache::{Hot, Prepared};
use crate::limits::Limits;
use crate::metrics::Metrics;
use crate::pages::Pages;
use crate::problem::{Problem, causes_of};
use crate::rate::Buckets;
use crate::reads::{self, API};
use crate::served::Served;
use crate::uploads;

/// How long after a clearing of what was left behind the next one begins.
const CLEANUP_INTERVAL: Duration = Duration::from_hours(1);

/// How many closures are worked out at once.
const MAX_CONCURRENT_CLOSURES: usize = 4;

/// The id of a request, by which its lines in the log are found.
const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

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
    served: Served,
    registry: Arc<dyn ReadRegistry>,
    searcher: Arc<Searcher>,
    pub(crate) limits: Limits,
    buckets: Buckets,
    metrics: Metrics,
    hot: Hot,
    tokens: Mutex<KnownTokens>,
    /// Turns at working out closures.
    closures: Arc<Semaphore>,
}

/// How long tokens are taken for what they were, where reading them asks another machine: so late a revoked one ends.
const TOKEN_CACHE_TIME: Duration = Duration::from_secs(5);

/// The tokens as they were when they were read last.
struct KnownTokens {
    tokens: Vec<Token>,
    since: Instant,
}

impl KnownTokens {
    fn now(tokens: Vec<Token>) -> Self {
        Self { tokens, since: Instant::now() }
    }

    /// The token of this text, if it is one of these, and whether that is new enough.
    fn find(&self, text: &str) -> (Option<Token>, bool) {
        let found = tokens::find(&self.tokens, text, Timestamp::now()).cloned();
        (found, self.since.elapsed() < TOKEN_CACHE_TIME)
    }
}

/// Something to do that came with a request.
struct Asked {
    peer: IpAddr,
    method: Method,
    path: String,
    query: String,
    headers: HeaderMap,
    body: Body,
}

impl App {
    /// Serves a registry within these limits.
    pub fn new(served: Served, limits: Limits) -> Result<Arc<Self>, RegistryError> {
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
        let tokens = Mutex::new(KnownTokens::now(first_tokens(&served)));
        Ok(Arc::new(Self { served, registry, searcher, limits, buckets, metrics, hot, tokens, closures }))
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

    /// Answers a request.
    pub async fn answer(self: Arc<Self>, peer: IpAddr, request: Request<Body>) -> Response {
        let begun = Instant::now();
        let (head, body) = request.into_parts();
        let peer = self.client(peer, &head.headers);
        let path = head.uri.path().to_owned();
        let query = head.uri.query().unwrap_or_default().to_owned();
        let (method, route) = (head.method.clone(), route_of(&path));
        let mut token = None;
        let asked =
            Asked { peer, method: head.method, path: path.clone(), query, headers: head.headers, body };
        let is_upload = asked.method == Method::PUT;
        let answering = self.route(asked, &mut token);
        // An upload takes as long as it takes; it is watched for silence instead.
        let answered = if is_upload {
            answering.await
        } else {
            let too_long = |_| {
                Err(Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server.too-long", "this took too long"))
            };
            tokio::time::timeout(self.limits.answer, answering).await.unwrap_or_else(too_long)
        };
        let id = format!("{:016x}", fastrand::u64(..));
        let mut response = answered.unwrap_or_else(|problem| problem.logged(&id).into_response());
        if let Ok(id) = HeaderValue::from_str(&id) {
            response.headers_mut().insert(REQUEST_ID, id);
        }
        response.headers_mut().insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
        let (status, took) = (response.status().as_u16(), begun.elapsed());
        self.metrics.count(route, status, took);
        let ms = took.as_secs_f64() * 1000.0;
        tracing::info!(request = id, %peer, %method, path, status, ms, token, "answered");
        response
    }

    /// Who asks: behind a proxy whom that names, which is the last one, for what stands before is hearsay.
    fn client(&self, peer: IpAddr, headers: &HeaderMap) -> IpAddr {
        let named = headers.get_all("x-forwarded-for").iter().next_back();
        let named = named.and_then(|named| named.to_str().ok()?.rsplit(',').next()?.trim().parse().ok());
        named.filter(|_| self.limits.is_behind_proxy).unwrap_or(peer)
    }

    async fn route(&self, asked: Asked, token: &mut Option<String>) -> Result<Response, Problem> {
        let path = asked.path.trim_start_matches('/').to_owned();
        if let Some(rest) = path.strip_prefix(API).and_then(|rest| rest.strip_prefix('/')) {
            return self.api(rest, asked, token).await;
        }
        if !matches!(asked.method, Method::GET | Method::HEAD) {
            let problem =
                Problem::new(StatusCode::METHOD_NOT_ALLOWED, "server.method", "this can only be read");
            return Err(problem.header(header::ALLOW, HeaderValue::from_static("GET, HEAD")));
        }
        let mut response = match path.as_str() {
            "registry.json" => reads::description(&*self.registry, &asked.headers),
            NAMES => reads::names(&self.registry, &asked.headers).await?,
            "healthz" => self.health().await?,
            "metrics" => {
                let kind =
                    HeaderValue::from_static("application/openmetrics-text; version=1.0.0; charset=utf-8");
                ([(header::CONTENT_TYPE, kind)], self.metrics.text()).into_response()
            }
            _ => match path.split_once('/') {
                Some(("packages", rest)) => {
                    reads::history(&self.registry, &self.hot, rest, &asked.headers).await?
                }
                Some(("files", rest)) => reads::file(&self.registry, rest, &asked.headers).await?,
                _ => self.page(&path, asked.peer, &asked.query, &asked.headers).await?,
            },
        };
        if asked.method == Method::HEAD {
            *response.body_mut() = Body::empty();
        }
        Ok(response)
    }

    /// A page for people; looking for one is work, so that there may be too much of it.
    async fn page(
        &self,
        path: &str,
        peer: IpAddr,
        query: &str,
        headers: &HeaderMap,
    ) -> Result<Response, Problem> {
        if !path.starts_with("page/") {
            self.take_from_bucket(&peer.to_string())?;
        }
        let pages = Pages { registry: &self.registry, searcher: &self.searcher, headers };
        pages.page(path, query).await.unwrap_or_else(|| Err(Problem::not_found()))
    }

    async fn health(&self) -> Result<Response, Problem> {
        let registry = Arc::clone(&self.registry);
        blocking(move || registry.check()).await?.map_err(|_| {
            let detail = "the registry's files can't be read";
            Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server.not-ready", detail)
        })?;
        Ok("ready\n".into_response())
    }

    async fn api(
        &self,
        path: &str,
        asked: Asked,
        token_id: &mut Option<String>,
    ) -> Result<Response, Problem> {
        if path == "closure" && asked.method == Method::POST {
            self.take_from_bucket(&asked.peer.to_string())?;
            let needs = read(&self.small(asked.body).await?)?;
            return self.closure(needs, asked.headers).await;
        }
        if path == "find" && matches!(asked.method, Method::GET | Method::HEAD) {
            self.take_from_bucket(&asked.peer.to_string())?;
            return find::answer(&self.registry, &self.searcher, &asked.query, &asked.headers).await;
        }
        let token = self.token(asked.peer, &asked.headers).await?;
        *token_id = Some(token.id.clone());
        self.take_from_bucket(&token.id)?;
        let registry = Arc::clone(self.served.storage()?);
        if let Some(digest) = path.strip_prefix("files/") {
            let digest: Digest = digest.parse().map_err(|_| Problem::not_found())?;
            return match asked.method {
                Method::HEAD => uploads::look(&registry, digest, &asked.headers).await,
                Method::PUT => {
                    uploads::take(&registry, digest, &asked.headers, asked.body, &self.limits).await
                }
                _ => Err(method_not_allowed("HEAD, PUT")),
            };
        }
        let known = ["releases", "withdrawals", "restorations", "deprecations", "undeprecations"];
        if !known.contains(&path) {
            return Err(Problem::not_found());
        }
        if asked.method != Method::POST {
            return Err(method_not_allowed("POST"));
        }
        let body = self.small(asked.body).await?;
        let path = path.to_owned();
        blocking(move || {
            let asking = Asking { registry: &registry, token: &token, now: now() };
            match path.as_str() {
                "releases" => asking.publish(read(&body)?),
                "withdrawals" => asking.asked::<AskedWithdrawal>(Action::Withdraw, &body),
                "undeprecations" => asking.asked::<AskedUndeprecation>(Action::Deprecate, &body),
                "restorations" => asking.asked::<AskedRestoration>(Action::Withdraw, &body),
                _ => asking.asked::<AskedDeprecation>(Action::Deprecate, &body),
            }
        })
        .await?
    }

    /// What needs reach, worked out for a few at a time: it is the most work that anybody can ask for.
    async fn closure(&self, needs: closure::Asked, headers: HeaderMap) -> Result<Response, Problem> {
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

    /// A body that is read whole.
    async fn small(&self, body: Body) -> Result<bytes::Bytes, Problem> {
        to_bytes(body, self.limits.largest_text).await.map_err(|_| {
            let detail = format!("at most {} bytes are taken here", self.limits.largest_text);
            Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "server.too-large", detail)
        })
    }

    /// The token that a request came with. Guessing has the limit of an address.
    async fn token(&self, peer: IpAddr, headers: &HeaderMap) -> Result<Token, Problem> {
        let refused = |detail: &str| {
            Problem::new(StatusCode::UNAUTHORIZED, "token.unknown", detail)
                .header(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"))
        };
        let Some(Authorization(bearer)) = headers.typed_get::<Authorization<Bearer>>() else {
            return Err(refused("a token is wanted"));
        };
        // A token that was known a moment ago has a limit of its own; who guesses may have the tokens read so often only.
        let (known, is_new) = self.known_tokens().find(bearer.token());
        match known {
            Some(token) if is_new && !self.registry.is_on_this_machine() => return Ok(token),
            Some(_) => {}
            None => self.take_from_bucket(&peer.to_string())?,
        }
        let storage = Arc::clone(self.served.storage()?);
        let known = blocking(move || tokens::list(&*storage)).await??;
        let mut tokens = self.known_tokens();
        *tokens = KnownTokens::now(known);
        tokens
            .find(bearer.token())
            .0
            .ok_or_else(|| refused("this token is not known here, has ended or was revoked"))
    }

    fn known_tokens(&self) -> MutexGuard<'_, KnownTokens> {
        self.tokens.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn take_from_bucket(&self, client: &str) -> Result<(), Problem> {
        self.buckets.take(client, Instant::now()).map_err(|wait| {
            let seconds = wait.as_secs() + 1;
            Problem::new(StatusCode::TOO_MANY_REQUESTS, "server.too-many", "this is too much at once")
                .header(header::RETRY_AFTER, HeaderValue::from(seconds))
        })
    }
}

/// The tokens as a server begins with; what can't be read now is met again when a token comes.
fn first_tokens(served: &Served) -> Vec<Token> {
    let Served::Writable(storage) = served else { return Vec::new() };
    tokens::list(&**storage).unwrap_or_else(|error| {
        tracing::warn!(cause = causes_of(&error), "the tokens can't be read");
        Vec::new()
    })
}

/// Throws away what was given up; what can't be removed now is tried again later.
fn clear(served: &Served) {
    if let Served::Writable(storage) = served
        && let Err(error) = storage.clear_uploads()
    {
        tracing::warn!(cause = causes_of(&error), "uploads can't be cleared");
    }
}

/// Now, in whole seconds.
fn now() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_second(now.as_second()).unwrap_or(now)
}

fn method_not_allowed(allowed: &'static str) -> Problem {
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, "server.method", "this can't be done here")
        .header(header::ALLOW, HeaderValue::from_static(allowed))
}

/// What requests are counted under.
fn route_of(path: &str) -> &'static str {
    let path = path.trim_start_matches('/');
    let first = path.split('/').next().unwrap_or_default();
    match first {
        "registry.json" => "description",
        "packages" => "packages",
        NAMES => "names",
        "files" => "files",
        "healthz" => "healthz",
        "metrics" => "metrics",
        "api" => "api",
        "" | "browse" | "page" => "pages",
        _ => "other",
    }
}
