//! The registry's files: histories and the description with validators and compression, archives and cards with ranges.
//!
//! Every validator is strong (RFC 9110, section 8.8.1): of a file that is named by its digest that digest, of other texts a
//! digest of what is sent, encoded or not.

use std::io::SeekFrom;
use std::ops::Bound;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bibliotax_registry::folder::Folder;
use headers::{ETag, HeaderMapExt, IfNoneMatch, IfRange, Range};
use tokio::io::{AsyncReadExt, AsyncSeekExt};
use tokio_util::io::ReaderStream;

use crate::app::blocking;
use crate::hot::{Hot, Prepared};
use crate::problem::Problem;

/// Where the interface for programs is, seen from the registry.
pub const API: &str = "api/v1";

/// The description of the registry.
pub fn description(registry: &Folder, asked: &HeaderMap) -> Response {
    text(&Prepared::new(registry.served_description(API)), "application/json", asked)
}

/// A package's history.
pub async fn history(
    registry: &Folder,
    hot: &Hot,
    path: &str,
    asked: &HeaderMap,
) -> Result<Response, Problem> {
    let (bin, file) = path.split_once('/').ok_or_else(Problem::not_found)?;
    let name = file.strip_suffix(".jsonl").and_then(|name| name.parse::<PackageName>().ok());
    let name = name.filter(|name| Digest::of(name.as_str().as_bytes()).folder() == bin);
    let name = name.ok_or_else(Problem::not_found)?;
    let history = hot.history(registry, name).await?.ok_or_else(Problem::not_found)?;
    Ok(text(&history, "application/jsonl", asked))
}

/// A text that may change, encoded as the client likes it.
pub fn text(text: &Prepared, kind: &'static str, asked: &HeaderMap) -> Response {
    let compressed = if accepts_zstd(asked) { text.compressed() } else { None };
    let plain = text.tag();
    let tag = match compressed {
        Some(_) => format!("{}-zstd\"", plain.trim_end_matches('"')),
        None => plain.to_owned(),
    };
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static(kind));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-cache"));
    headers.insert(header::VARY, HeaderValue::from_static("accept-encoding"));
    let mut headers = tagged(headers, &tag);
    // Whoever has it in the other encoding has it as well.
    if is_known(asked, &tag) || is_known(asked, plain) {
        return (StatusCode::NOT_MODIFIED, headers).into_response();
    }
    if compressed.is_some() {
        headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static("zstd"));
    }
    (headers, compressed.unwrap_or(text.plain()).clone()).into_response()
}

/// An archive or card, or the part of it that is asked for.
pub async fn file(registry: &Folder, path: &str, asked: &HeaderMap) -> Result<Response, Problem> {
    let (bin, name) = path.split_once('/').ok_or_else(Problem::not_found)?;
    let digest: Digest = name.parse().map_err(|_| Problem::not_found())?;
    if digest.folder() != bin || !registry.has_file(&digest) {
        return Err(Problem::not_found());
    }
    let registry = registry.clone();
    let opened = blocking(move || registry.open_file(&digest)).await??;
    let forever = HeaderValue::from_static("public, max-age=31536000, immutable");
    stream(opened, &format!("\"{digest}\""), forever, asked).await
}

/// The list of names, or the part of it that is asked for: who has its beginning fetches only the rest.
pub async fn names(registry: &Folder, asked: &HeaderMap) -> Result<Response, Problem> {
    let path = registry.names_path();
    let opened = blocking(move || std::fs::File::open(path)).await?.map_err(|_| Problem::not_found())?;
    let metadata = opened.metadata().map_err(|_| Problem::not_found())?;
    let since = |time: std::time::SystemTime| time.duration_since(std::time::UNIX_EPOCH).ok();
    let modified = metadata.modified().ok().and_then(since).map_or(0, |time| time.as_nanos());
    let tag = format!("\"{:x}-{modified:x}\"", metadata.len());
    stream(opened, &tag, HeaderValue::from_static("no-cache"), asked).await
}

/// A file, or the part of it that is asked for.
async fn stream(
    opened: std::fs::File,
    tag: &str,
    caching: HeaderValue,
    asked: &HeaderMap,
) -> Result<Response, Problem> {
    let mut headers = HeaderMap::new();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/octet-stream"));
    headers.insert(header::CACHE_CONTROL, caching);
    headers.insert(header::ACCEPT_RANGES, HeaderValue::from_static("bytes"));
    let mut headers = tagged(headers, tag);
    if is_known(asked, tag) {
        return Ok((StatusCode::NOT_MODIFIED, headers).into_response());
    }
    let mut opened = tokio::fs::File::from_std(opened);
    let length = opened.metadata().await.map_err(|_| Problem::not_found())?.len();
    let Some(range) = range(asked, tag, length) else {
        headers.insert(header::CONTENT_LENGTH, length.into());
        return Ok((headers, Body::from_stream(ReaderStream::new(opened.take(length)))).into_response());
    };
    let Some((from, to)) = range else {
        headers.insert(header::CONTENT_RANGE, content_range(&format!("bytes */{length}")));
        return Ok((StatusCode::RANGE_NOT_SATISFIABLE, headers).into_response());
    };
    opened.seek(SeekFrom::Start(from)).await.map_err(|_| Problem::not_found())?;
    headers.insert(header::CONTENT_LENGTH, (to - from).into());
    headers.insert(header::CONTENT_RANGE, content_range(&format!("bytes {from}-{}/{length}", to - 1)));
    let body = Body::from_stream(ReaderStream::new(opened.take(to - from)));
    Ok((StatusCode::PARTIAL_CONTENT, headers, body).into_response())
}

fn content_range(text: &str) -> HeaderValue {
    // Digits and a few signs.
    HeaderValue::from_str(text).unwrap_or(HeaderValue::from_static("bytes */*"))
}

/// The one range that is asked for, as first byte and the one behind the last: nothing where the whole file is to be
/// sent (none asked, several, or another state of the file meant), and inside `None` where it lies beyond the end.
fn range(asked: &HeaderMap, tag: &str, length: u64) -> Option<Option<(u64, u64)>> {
    let range: Range = asked.typed_get()?;
    let etag: Option<ETag> = tag.parse().ok();
    if let Some(condition) = asked.typed_get::<IfRange>()
        && condition.is_modified(etag.as_ref(), None)
    {
        return None;
    }
    let mut ranges = range.satisfiable_ranges(length);
    let Some((from, to)) = ranges.next() else { return Some(None) };
    if ranges.next().is_some() {
        return None;
    }
    let from = match from {
        Bound::Included(from) => from,
        Bound::Excluded(_) | Bound::Unbounded => 0,
    };
    let to = match to {
        Bound::Included(last) => last.saturating_add(1).min(length),
        Bound::Excluded(end) => end.min(length),
        Bound::Unbounded => length,
    };
    Some((from < to).then_some((from, to)))
}

fn tagged(mut headers: HeaderMap, tag: &str) -> HeaderMap {
    if let Ok(tag) = HeaderValue::from_str(tag) {
        headers.insert(header::ETAG, tag);
    }
    headers
}

fn is_known(asked: &HeaderMap, tag: &str) -> bool {
    let etag: Option<ETag> = tag.parse().ok();
    let condition: Option<IfNoneMatch> = asked.typed_get();
    etag.zip(condition).is_some_and(|(etag, condition)| !condition.precondition_passes(&etag))
}

fn accepts_zstd(asked: &HeaderMap) -> bool {
    let encodings = asked.get_all(header::ACCEPT_ENCODING).iter().filter_map(|value| value.to_str().ok());
    encodings.flat_map(|text| text.split(',')).any(|encoding| {
        let (name, weight) = encoding.split_once(';').unwrap_or((encoding, "q=1"));
        let weight = weight.trim().strip_prefix("q=").and_then(|weight| weight.parse::<f32>().ok());
        name.trim().eq_ignore_ascii_case("zstd") && weight.is_some_and(|weight| weight > 0.0)
    })
}
