//! Accepts uploads: streamed to disk, resumable, stored only with the right digest.
//!
//! `HEAD api/v1/files/<sha256>` tells whether the file is here (200) or how much of it (404 with `upload-offset`). With
//! `upload-length` it says how long the file is: of a short one nobody looks for a part.
//! `PUT` sends it whole, or with `content-range: bytes FROM-TO/LENGTH` from there on.

use std::io;
use std::sync::Arc;
use std::time::{Duration, Instant};

use axum::body::Body;
use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode};
use axum::response::{IntoResponse, Response};
use bibliotax_core::digest::Digest;
use bibliotax_registry::model::partial_upload::UploadPiece;
use bibliotax_registry::model::storage::RegistryStorage;
use futures_util::StreamExt;
use headers::{ContentLength, ContentRange, HeaderMapExt};
use serde_json::json;
use tokio_util::io::{StreamReader, SyncIoBridge};

use crate::blocking::blocking;
use crate::connections::MIN_RATE;
use crate::limits::Limits;
use crate::problem::Problem;

/// How long the file is that is asked for.
const LENGTH: HeaderName = HeaderName::from_static("upload-length");

/// How much of a file has come.
const OFFSET: HeaderName = HeaderName::from_static("upload-offset");

/// Tells whether a file is here, or how much of it.
pub async fn look(
    registry: &Arc<dyn RegistryStorage>,
    digest: Digest,
    headers: &HeaderMap,
) -> Result<Response, Problem> {
    let registry = Arc::clone(registry);
    let length = headers.get(LENGTH).and_then(|length| length.to_str().ok()?.parse().ok());
    let standing = blocking(move || registry.file_status(&digest, length)).await??;
    if standing.may_be_released() {
        return Ok(StatusCode::OK.into_response());
    }
    Err(Problem::not_found().header(OFFSET, HeaderValue::from(standing.came)))
}

/// Takes a file in, or the rest of one.
pub async fn take(
    registry: &Arc<dyn RegistryStorage>,
    digest: Digest,
    headers: &HeaderMap,
    body: Body,
    limits: &Limits,
) -> Result<Response, Problem> {
    let piece = announced(headers)?;
    if piece.whole > limits.largest_file {
        let detail = format!("a file has at most {} bytes here", limits.largest_file);
        return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "upload.too-large", detail));
    }
    let patience = limits.silence;
    let bytes = body.into_data_stream().map(|piece| piece.map_err(io::Error::other));
    let bytes = StreamReader::new(Box::pin(patient(bytes, patience)));
    let mut source = SyncIoBridge::new(bytes);
    let registry = Arc::clone(registry);
    let most = limits.pending;
    let is_new = blocking(move || {
        if registry.has_releasable_file(&digest)? {
            return Ok::<bool, Problem>(false);
        }
        if registry.pending_bytes()?.saturating_add(piece.to - piece.from) > most {
            return Err(no_room(most));
        }
        registry.receive(&digest, piece, &mut source)?;
        Ok(true)
    })
    .await??;
    let status = if is_new { StatusCode::CREATED } else { StatusCode::OK };
    Ok((status, axum::Json(json!({ "sha256": digest, "already": !is_new }))).into_response())
}

/// That too much waits for its release already.
fn no_room(most: u64) -> Problem {
    let detail =
        format!("uploads without a release may have {most} bytes in all; they are deleted after two days");
    Problem::new(StatusCode::INSUFFICIENT_STORAGE, "upload.no-room", detail)
}

/// The same pieces, with an error where one lets wait too long, or too little comes in such a time.
fn patient<S: futures_util::Stream<Item = io::Result<bytes::Bytes>> + Unpin>(
    pieces: S,
    patience: Duration,
) -> impl futures_util::Stream<Item = io::Result<bytes::Bytes>> {
    let least = MIN_RATE * patience.as_millis() as u64 / 1000;
    let begun = (pieces, Instant::now(), 0);
    futures_util::stream::unfold(begun, move |(mut pieces, mut since, mut came)| async move {
        let Ok(next) = tokio::time::timeout(patience, pieces.next()).await else {
            return Some((Err(io::ErrorKind::TimedOut.into()), (pieces, since, came)));
        };
        let mut piece = next?;
        came += piece.as_ref().map_or(0, |piece| piece.len() as u64);
        if since.elapsed() >= patience {
            if came < least {
                piece = Err(io::ErrorKind::TimedOut.into());
            }
            (since, came) = (Instant::now(), 0);
        }
        Some((piece, (pieces, since, came)))
    })
}

/// Which bytes of a file a request brings.
fn announced(headers: &HeaderMap) -> Result<UploadPiece, Problem> {
    let wrong = || Problem::bad("`content-range` has to be `bytes FROM-TO/LENGTH`");
    if let Some(range) = headers.typed_try_get::<ContentRange>().map_err(|_| wrong())? {
        let bytes = range.bytes_range().zip(range.bytes_len());
        let piece =
            bytes.map(|((from, last), whole)| UploadPiece { from, to: last.saturating_add(1), whole });
        let piece = piece.filter(|piece| piece.from < piece.to && piece.to <= piece.whole);
        return piece.ok_or_else(wrong);
    }
    let length: Option<ContentLength> = headers.typed_get();
    let length = length.ok_or_else(|| {
        let detail = "an upload needs a `content-length`";
        Problem::new(StatusCode::LENGTH_REQUIRED, "upload.no-length", detail)
    })?;
    Ok(UploadPiece { from: 0, to: length.0, whole: length.0 })
}
