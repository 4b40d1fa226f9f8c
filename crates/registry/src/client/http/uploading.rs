//! Uploads that may take as long as their bytes need, but may not stall.
//!
//! What was handed to the system is not yet with the server: some MiB may are in buffers. So silence is measured by the bytes
//! handed over. A client that can ask the server how much it has goes on from there, where a slow line looked like silence.

use std::io::{self, Read};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, Instant};

use bibliotax_core::progress::{ProgressEvent, ProgressListener};
use reqwest::blocking::{Body, RequestBuilder, Response};

use super::request_error::MAX_REFUSAL_SIZE;

/// How often an upload is looked at.
const POLL_INTERVAL: Duration = Duration::from_millis(50);

/// The time limit of a watched request as a whole; the watch ends it long before.
const NO_LIMIT: Duration = Duration::from_secs(7 * 24 * 3600);

/// Most bytes that are in the buffers between us and a server, as systems are set up.
const MAX_BUFFERED: u64 = 4 << 20;

/// The slowest line that is reckoned with where nobody can say how much has come, in bytes a second.
const MIN_BYTES_PER_SECOND: u64 = 64 << 10;

/// How an upload is watched.
#[derive(Clone, Copy)]
pub struct Watch<'l> {
    /// How long no byte may move.
    pub silence: Duration,
    /// Whether the server can't say how much has come, so that what is in buffers is given time.
    pub is_blind: bool,
    /// Hears how many bytes went.
    pub listener: &'l dyn ProgressListener,
}

/// A body that counts what is taken of it.
struct Counted<R> {
    inner: R,
    count: Arc<Count>,
}

#[derive(Default)]
struct Count {
    handed: AtomicU64,
    is_given_up: AtomicBool,
}

impl<R: Read> Read for Counted<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.count.is_given_up.load(Ordering::Relaxed) {
            return Err(io::ErrorKind::TimedOut.into());
        }
        let read = self.inner.read(buffer)?;
        self.count.handed.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

/// Why there is no answer to an upload.
pub enum UploadError {
    /// Sending failed.
    Broke(reqwest::Error),
    /// For too long no byte moved, or no answer came.
    Silent,
}

/// Sends a request with these bytes as its body, for as long as they move.
pub fn send_watched(
    request: RequestBuilder,
    body: impl Read + Send + 'static,
    length: u64,
    watch: &Watch<'_>,
) -> Result<Response, UploadError> {
    let count = Arc::new(Count::default());
    let body = Body::sized(Counted { inner: body, count: Arc::clone(&count) }, length);
    let request = request.body(body).timeout(NO_LIMIT);
    let (done, answer) = channel();
    // A thread that waits for a server that is given up ends with its connection, or with the process.
    thread::spawn(move || drop(done.send(answer_to(request))));
    let (mut handed, mut moved) = (0, Instant::now());
    loop {
        match answer.recv_timeout(POLL_INTERVAL) {
            Ok(answer) => {
                watch.listener.on_event(&ProgressEvent::Sent { bytes: length.saturating_sub(handed) });
                return answer.map_err(UploadError::Broke);
            }
            Err(RecvTimeoutError::Disconnected) => return Err(UploadError::Silent),
            Err(RecvTimeoutError::Timeout) => {}
        }
        let now = count.handed.load(Ordering::Relaxed);
        if now > handed {
            watch.listener.on_event(&ProgressEvent::Sent { bytes: now - handed });
            (handed, moved) = (now, Instant::now());
        }
        if moved.elapsed() > watch.patience(handed) {
            count.is_given_up.store(true, Ordering::Relaxed);
            return Err(UploadError::Silent);
        }
    }
}

/// Sends a request and reads the answer to it whole, as far as anybody cares for it.
fn answer_to(request: RequestBuilder) -> reqwest::Result<Response> {
    let response = request.send()?;
    let (status, headers) = (response.status(), response.headers().clone());
    let mut body = Vec::new();
    // Whatever can be read of it is better than nothing.
    let _ = response.take(MAX_REFUSAL_SIZE).read_to_end(&mut body);
    let mut answer = http::Response::new(body);
    *answer.status_mut() = status;
    *answer.headers_mut() = headers;
    Ok(answer.into())
}

impl Watch<'_> {
    /// How long nothing may move after so many bytes were handed over.
    fn patience(&self, handed: u64) -> Duration {
        let buffered = if self.is_blind { handed.min(MAX_BUFFERED) } else { 0 };
        self.silence + Duration::from_millis(buffered * 1000 / MIN_BYTES_PER_SECOND)
    }
}
