//! What is answered at each path.
//!
//! | path | handler |
//! |---|---|
//! | `registry.json`, the list of names, `packages/`, `files/` | the registry's files (`reads`) |
//! | `api/v1/find`, `api/v1/closure` | questions, limited per address |
//! | `api/v1/files/<digest>`, `api/v1/releases`, … | publishing, with a token (`uploads`, `events`) |
//! | `healthz`, `metrics` | for operators |
//! | `/`, `browse/`, `page/` | pages for a browser |

use std::sync::Arc;

use axum::Router;
use axum::body::{Body, Bytes, to_bytes};
use axum::extract::{RawQuery, State};
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, Uri, header};
use axum::middleware::from_fn_with_state;
use axum::response::{IntoResponse, Response};
use axum::routing::{get, head, post};
use bibliotax_core::digest::Digest;
use bibliotax_registry::model::names::NAMES;
use bibliotax_registry::storage::tokens::Action;
use jiff::Timestamp;

use crate::answer::answer;
use crate::app::App;
use crate::authentication::{Authenticated, Limited};
use crate::blocking::blocking;
use crate::events::{AskedDeprecation, AskedRestoration, AskedUndeprecation, AskedWithdrawal, Asking, read};
use crate::find;
use crate::pages::Pages;
use crate::problem::Problem;
use crate::reads::{self, API};
use crate::uploads;

type Answer = Result<Response, Problem>;

/// What answers the requests to a registry. Each comes with its [`Client`](crate::authentication::Client) as an extension.
pub fn router(app: &Arc<App>) -> Router {
    paths().with_state(Arc::clone(app)).layer(from_fn_with_state(Arc::clone(app), answer))
}

/// All paths of a registry that is served.
fn paths() -> Router<Arc<App>> {
    let api = Router::new()
        .route("/find", get(find))
        .route("/closure", post(closure))
        .route("/files/{digest}", head(upload_status).put(upload))
        .route("/releases", post(publish))
        .route("/withdrawals", post(withdraw))
        .route("/restorations", post(restore))
        .route("/deprecations", post(deprecate))
        .route("/undeprecations", post(undeprecate))
        .fallback(unknown_call);
    Router::new()
        .route("/registry.json", get(description))
        .route(&format!("/{NAMES}"), get(names))
        .route("/packages/{*path}", get(history))
        .route("/files/{*path}", get(file))
        .route("/healthz", get(health))
        .route("/metrics", get(metrics))
        .nest(&format!("/{API}"), api)
        .route("/", get(search_page))
        .route("/browse/", get(package_page))
        .route("/browse/{*path}", get(package_page))
        .route("/page/style.css", get(style))
        .route("/page/search.js", get(script))
        .route("/page/icon.svg", get(icon))
        .fallback(unknown_path)
        .method_not_allowed_fallback(method_not_allowed)
}

async fn description(State(app): State<Arc<App>>, headers: HeaderMap) -> Response {
    reads::description(&*app.registry, &headers)
}

async fn names(State(app): State<Arc<App>>, headers: HeaderMap) -> Answer {
    reads::names(&app.registry, &headers).await
}

async fn history(State(app): State<Arc<App>>, uri: Uri, headers: HeaderMap) -> Answer {
    reads::history(&app.registry, &app.hot, below(&uri, "/packages/"), &headers).await
}

async fn file(State(app): State<Arc<App>>, uri: Uri, headers: HeaderMap) -> Answer {
    reads::file(&app.registry, below(&uri, "/files/"), &headers).await
}

async fn health(State(app): State<Arc<App>>) -> Answer {
    let registry = Arc::clone(&app.registry);
    blocking(move || registry.check()).await?.map_err(|_| {
        let detail = "the registry's files can't be read";
        Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server.not-ready", detail)
    })?;
    Ok("ready\n".into_response())
}

async fn metrics(State(app): State<Arc<App>>) -> Response {
    let kind = "application/openmetrics-text; version=1.0.0; charset=utf-8";
    ([(header::CONTENT_TYPE, HeaderValue::from_static(kind))], app.metrics.text()).into_response()
}

async fn search_page(
    State(app): State<Arc<App>>,
    _: Limited,
    RawQuery(query): RawQuery,
    headers: HeaderMap,
) -> Answer {
    pages(&app, &headers).search(&query.unwrap_or_default()).await
}

async fn package_page(
    State(app): State<Arc<App>>,
    _: Limited,
    uri: Uri,
    RawQuery(query): RawQuery,
    headers: HeaderMap,
) -> Answer {
    pages(&app, &headers).package(below(&uri, "/browse/"), &query.unwrap_or_default()).await
}

async fn style(State(app): State<Arc<App>>, headers: HeaderMap) -> Response {
    pages(&app, &headers).style()
}

async fn script(State(app): State<Arc<App>>, headers: HeaderMap) -> Response {
    pages(&app, &headers).script()
}

async fn icon(State(app): State<Arc<App>>, headers: HeaderMap) -> Response {
    pages(&app, &headers).icon()
}

fn pages<'a>(app: &'a App, headers: &'a HeaderMap) -> Pages<'a> {
    let (registry, searcher, contents) = (&app.registry, &app.searcher, &app.contents);
    Pages { registry, searcher, contents, headers, place: place_of(app, headers) }
}

/// Where the registry is, as the visitor's browser says: shown in pages, and used for nothing else.
fn place_of(app: &App, headers: &HeaderMap) -> String {
    let text = |name: HeaderName| headers.get(name).and_then(|value| value.to_str().ok());
    let host = text(header::HOST).unwrap_or_default();
    let forwarded = text(HeaderName::from_static("x-forwarded-proto")).unwrap_or("https");
    let is_encrypted = if app.limits.is_behind_proxy { forwarded != "http" } else { app.is_encrypted };
    format!("{}://{host}/", if is_encrypted { "https" } else { "http" })
}

async fn find(
    State(app): State<Arc<App>>,
    _: Limited,
    RawQuery(query): RawQuery,
    headers: HeaderMap,
) -> Answer {
    let query = query.unwrap_or_default();
    find::answer(&app.registry, &app.searcher, &query, &headers).await
}

async fn closure(State(app): State<Arc<App>>, _: Limited, headers: HeaderMap, body: Body) -> Answer {
    let needs = read(&small_body(&app, body).await?)?;
    app.closure(needs, headers).await
}

async fn upload_status(caller: Authenticated, uri: Uri, headers: HeaderMap) -> Answer {
    uploads::look(&caller.storage, file_digest(&uri)?, &headers).await
}

async fn upload(
    State(app): State<Arc<App>>,
    caller: Authenticated,
    uri: Uri,
    headers: HeaderMap,
    body: Body,
) -> Answer {
    uploads::take(&caller.storage, file_digest(&uri)?, &headers, body, &app.limits).await
}

async fn publish(State(app): State<Arc<App>>, caller: Authenticated, body: Body) -> Answer {
    change(&app, caller, body, |asking, body| asking.publish(read(body)?)).await
}

async fn withdraw(State(app): State<Arc<App>>, caller: Authenticated, body: Body) -> Answer {
    change(&app, caller, body, |asking, body| asking.asked::<AskedWithdrawal>(Action::Withdraw, body)).await
}

async fn restore(State(app): State<Arc<App>>, caller: Authenticated, body: Body) -> Answer {
    change(&app, caller, body, |asking, body| asking.asked::<AskedRestoration>(Action::Withdraw, body)).await
}

async fn deprecate(State(app): State<Arc<App>>, caller: Authenticated, body: Body) -> Answer {
    change(&app, caller, body, |asking, body| asking.asked::<AskedDeprecation>(Action::Deprecate, body)).await
}

async fn undeprecate(State(app): State<Arc<App>>, caller: Authenticated, body: Body) -> Answer {
    change(&app, caller, body, |asking, body| asking.asked::<AskedUndeprecation>(Action::Deprecate, body))
        .await
}

async fn unknown_path() -> Problem {
    Problem::not_found()
}

/// What is not known here is only said to those who may call.
async fn unknown_call(_: Authenticated) -> Problem {
    Problem::not_found()
}

/// The router adds which methods are allowed.
async fn method_not_allowed(uri: Uri) -> Problem {
    let is_call = uri.path().starts_with(&format!("/{API}/"));
    let detail = if is_call { "this isn't possible here" } else { "this is read-only" };
    Problem::new(StatusCode::METHOD_NOT_ALLOWED, "server.method", detail)
}

/// Changes the registry as a body asks.
async fn change(
    app: &App,
    caller: Authenticated,
    body: Body,
    apply: impl FnOnce(&Asking, &[u8]) -> Answer + Send + 'static,
) -> Answer {
    let body = small_body(app, body).await?;
    blocking(move || {
        let asking = Asking { registry: &caller.storage, token: &caller.token, now: now() };
        apply(&asking, &body)
    })
    .await?
}

/// A body that is read whole.
async fn small_body(app: &App, body: Body) -> Result<Bytes, Problem> {
    to_bytes(body, app.limits.largest_text).await.map_err(|_| {
        let detail = format!("at most {} bytes are accepted here", app.limits.largest_text);
        Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "server.too-large", detail)
    })
}

/// The digest that a call about a file names.
fn file_digest(uri: &Uri) -> Result<Digest, Problem> {
    below(uri, "/files/").parse().map_err(|_| Problem::not_found())
}

/// What stands in a path after its first folder, as it was sent: names and digests need no escaping.
fn below<'a>(uri: &'a Uri, folder: &str) -> &'a str {
    uri.path().strip_prefix(folder).unwrap_or_default()
}

/// Now, in whole seconds.
fn now() -> Timestamp {
    let now = Timestamp::now();
    Timestamp::from_second(now.as_second()).unwrap_or(now)
}
