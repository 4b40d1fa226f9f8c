//! Answers a request: in time, with an id, a line in the log, and counted.

use std::sync::Arc;
use std::time::Instant;

use axum::extract::{Request, State};
use axum::http::{HeaderName, HeaderValue, Method, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use bibliotax_registry::model::names::NAMES;

use crate::app::App;
use crate::authentication::Client;
use crate::problem::Problem;

/// The id of a request, by which its lines in the log are found.
const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");

/// Answers a request, with an id by which its lines in the log are found.
pub async fn answer(State(app): State<Arc<App>>, client: Client, request: Request, next: Next) -> Response {
    let begun = Instant::now();
    let (method, path) = (request.method().clone(), request.uri().path().to_owned());
    let mut response = answer_in_time(&app, request, next).await;
    let id = format!("{:016x}", fastrand::u64(..));
    if let Some(problem) = response.extensions_mut().remove::<Problem>() {
        problem.logged(&id).show_in(&mut response);
    }
    if let Ok(id) = HeaderValue::from_str(&id) {
        response.headers_mut().insert(REQUEST_ID, id);
    }
    response.headers_mut().insert(header::X_CONTENT_TYPE_OPTIONS, HeaderValue::from_static("nosniff"));
    let (status, took) = (response.status().as_u16(), begun.elapsed());
    app.metrics.count(metric_label(&path), status, took);
    let ms = took.as_secs_f64() * 1000.0;
    let (peer, token) = (client.address, client.token_id.get());
    tracing::info!(request = id, %peer, %method, path, status, ms, token, "answered");
    response
}

/// An upload takes as long as it takes; it is watched for silence instead.
async fn answer_in_time(app: &App, request: Request, next: Next) -> Response {
    if request.method() == Method::PUT {
        return next.run(request).await;
    }
    tokio::time::timeout(app.limits.answer, next.run(request)).await.unwrap_or_else(|_| {
        Problem::new(StatusCode::SERVICE_UNAVAILABLE, "server.too-long", "this took too long").into_response()
    })
}

/// What requests are counted under.
fn metric_label(path: &str) -> &'static str {
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
