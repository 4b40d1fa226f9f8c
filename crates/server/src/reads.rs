//! Serves the registry's files: histories and description with validators and compression, archives and cards with ranges.
//!
//! Every validator is strong (RFC 9110, section 8.8.1): of a file that is named by its digest that digest, of other texts a
//! digest of what is sent, encoded or not.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::ops::{Bound, Range};
use std::sync::Arc;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bibliotax_registry::model::storage::{ReadRegistry, ReadRegistryExt};
use bytes::Bytes;
use futures_util::Stream;
use headers::{ETag, HeaderMapExt, IfNoneMatch, IfRange};

use crate::blocking::blocking;
use crate::history_cache::{Hot, Prepared};
use crate::problem::{Problem, causes_of};

/// Where the interface for programs is, seen from the registry.
pub const API: &str = "api/v1";

/// How much of a file is read at once, in bytes.
const CHUNK_SIZE: usize = 128 << 10;

/// The description of the registry.
pub fn description(registry: &dyn ReadRegistry, asked: &HeaderMap) -> Response {
    text(&Prepared::new(registry.served_description(API)), "application/json", asked)
}

/// A package's history.
pub async fn history(
    registry: &Arc<dyn ReadRegistry>,
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
    // A client that has it in the other encoding has it as well.
    if is_known(asked, &tag) || is_known(asked, plain) {
        return (StatusCode::NOT_MODIFIED, headers).into_response();
    }
    if compressed.is_some() {
        headers.insert(header::CONTENT_ENCODING, HeaderValue::from_static("zstd"));
    }
    (headers, compressed.unwrap_or(text.plain()).clone()).into_response()
}

/// An archive or card, or the part of it that is asked for.
pub async fn file(
    registry: &Arc<dyn ReadRegistry>,
    path: &str,
    asked: &HeaderMap,
) -> Result<Response, Problem> {
    let (bin, name) = path.split_once('/').ok_or_else(Problem::not_found)?;
    let digest: Digest = name.parse().map_err(|_| Problem::not_found())?;
    if digest.folder() != bin {
        return Err(Problem::not_found());
    }
    let kept = Arc::clone(registry);
    let length = blocking(move || kept.file_size(&digest)).await??.ok_or_else(Problem::not_found)?;
    let forever = HeaderValue::from_static("public, max-age=31536000, immutable");
    let kept = Arc::clone(registry);
    let open = move |bytes| Ok(kept.read_file(&digest, bytes)?);
    stream(open, length, &format!("\"{digest}\""), forever, asked).await
}

/// The list of names, or the part of it that is asked for: who has its beginning fetches only the rest.
pub async fn names(registry: &Arc<dyn ReadRegistry>, asked: &HeaderMap) -> Result<Response, Problem> {
    let kept = Arc::clone(registry);
    let opened = blocking(move || Ok::<_, Problem>(File::open(kept.name_list_file()?).ok())).await??;
    let mut opened = opened.ok_or_else(Problem::not_found)?;
    let metadata = opened.metadata().map_err(|_| Problem::not_found())?;
    let since = |time: std::time::SystemTime| time.duration_since(std::time::UNIX_EPOCH).ok();
    let modified = metadata.modified().ok().and_then(since).map_or(0, |time| time.as_nanos());
    let tag = format!("\"{:x}-{modified:x}\"", metadata.len());
    let open = move |bytes: Range<u64>| {
        opened.seek(SeekFrom::Start(bytes.start)).map_err(|_| Problem::not_found())?;
        Ok(Box::new(opened.take(bytes.end - bytes.start)) as Box<dyn Read + Send>)
    };
    stream(open, metadata.len(), &tag, HeaderValue::from_static("no-cache"), asked).await
}

/// A file of this length, or the part of it that is asked for.
async fn stream(
    open: impl FnOnce(Range<u64>) -> Result<Box<dyn Read + Send>, Problem> + Send + 'static,
    length: u64,
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
    let (status, (from, to)) = match range(asked, tag, length) {
        None => (StatusCode::OK, (0, length)),
        Some(Some(range)) => (StatusCode::PARTIAL_CONTENT, range),
        Some(None) => {
            headers.insert(header::CONTENT_RANGE, content_range(&format!("bytes */{length}")));
            return Ok((StatusCode::RANGE_NOT_SATISFIABLE, headers).into_response());
        }
    };
    if status == StatusCode::PARTIAL_CONTENT {
        headers.insert(header::CONTENT_RANGE, content_range(&format!("bytes {from}-{}/{length}", to - 1)));
    }
    headers.insert(header::CONTENT_LENGTH, (to - from).into());
    let reader = blocking(move || open(from..to)).await??;
    Ok((status, headers, Body::from_stream(pieces(reader))).into_response())
}

/// What a reader gives, piece by piece, read off the threads that wait for the network.
fn pieces(reader: Box<dyn Read + Send>) -> impl Stream<Item = io::Result<Bytes>> {
    futures_util::stream::unfold(Some(reader), |reader| async move {
        let mut reader = reader?;
        let read = blocking(move || {
            let mut piece = Vec::with_capacity(CHUNK_SIZE);
            let read = (&mut reader).take(CHUNK_SIZE as u64).read_to_end(&mut piece);
            (read.map(|_| Bytes::from(piece)), reader)
        });
        match read.await {
            Ok((Ok(piece), _)) if piece.is_empty() => None,
            Ok((Ok(piece), reader)) => Some((Ok(piece), Some(reader))),
            Ok((Err(error), _)) => {
                tracing::error!(cause = causes_of(&error), "an answer breaks off");
                Some((Err(error), None))
            }
            Err(_) => Some((Err(io::ErrorKind::Other.into()), None)),
        }
    })
}

fn content_range(text: &str) -> HeaderValue {
    // Digits and a few signs.
    HeaderValue::from_str(text).unwrap_or(HeaderValue::from_static("bytes */*"))
}

/// The one range that is asked for, as first byte and the one behind the last: nothing where the whole file is to be
/// sent (none asked, several, or another state of the file meant), and inside `None` where it lies beyond the end.
fn range(asked: &HeaderMap, tag: &str, length: u64) -> Option<Option<(u64, u64)>> {
    let range: headers::Range = asked.typed_get()?;
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
