//! Why a request failed, whether a retry may help, and the message.

use std::io::Read;
use std::time::Duration;

use reqwest::StatusCode;
use reqwest::header::{HeaderMap, RETRY_AFTER};
use serde_json::Value;

use crate::model::error::{Asked, RegistryError};

/// Most bytes of a refusal that are read.
pub const MAX_REFUSAL_SIZE: u64 = 64 << 10;

/// Why a try failed.
pub struct RequestError {
    /// What went wrong.
    pub error: Box<RegistryError>,
    /// Whether another one may work.
    pub is_passing: bool,
    /// Whether nothing was heard for as long as is waited.
    pub is_silence: bool,
    /// After which time, if the server said one.
    pub wait: Option<Duration>,
}

impl From<RegistryError> for RequestError {
    fn from(error: RegistryError) -> Self {
        Self::permanent(error)
    }
}

/// Longest id of a request that is shown, in characters.
const MAX_ID_LEN: usize = 64;

/// Most characters of a server's own words in a message.
const MAX_WORDS_LEN: usize = 1000;

impl RequestError {
    /// That another try would fail alike.
    pub fn permanent(error: RegistryError) -> Self {
        Self { error: Box::new(error), is_passing: false, is_silence: false, wait: None }
    }

    /// That another try may work.
    pub fn transient(error: RegistryError, wait: Option<Duration>) -> Self {
        Self { error: Box::new(error), is_passing: true, is_silence: false, wait }
    }

    /// That nothing was heard for too long, which may be otherwise at another try.
    pub fn silent(error: RegistryError) -> Self {
        Self { is_silence: true, ..Self::transient(error, None) }
    }

    /// Why a request was refused, in the registry's own words where it has some.
    pub fn refused(asked: &Asked, status: StatusCode, headers: &HeaderMap, body: impl Read) -> Self {
        let wait = headers.get(RETRY_AFTER).and_then(|wait| wait.to_str().ok()?.parse().ok());
        let wait = wait.map(Duration::from_secs);
        let mut text = String::new();
        // Whatever can be read of it is better than nothing.
        let _ = body.take(MAX_REFUSAL_SIZE).read_to_string(&mut text);
        let problem: Value = serde_json::from_str(&text).unwrap_or_default();
        let said = |key: &str| problem[key].as_str().map(str::to_owned);
        // Registries of containers list what is wrong (OCI Distribution Specification, "Error Codes").
        let listed = problem["errors"][0]["message"].as_str().filter(|_| !is_of_credentials(status));
        let error = RegistryError::Refused {
            asked: asked.clone(),
            status: status.as_u16(),
            code: said("code"),
            detail: shortened(problem["detail"].as_str().or(listed).unwrap_or(in_words(status)))
                + &said("request").map(|id| with_request(&id)).unwrap_or_default(),
        };
        let is_busy = status == StatusCode::CONFLICT && wait.is_some();
        // A copy in front of another registry has tried that one often enough.
        let has_tried = said("code").as_deref() == Some("registry.unreachable");
        let is_passing = is_busy
            || !has_tried
                && matches!(
                    status,
                    StatusCode::TOO_MANY_REQUESTS
                        | StatusCode::REQUEST_TIMEOUT
                        | StatusCode::INTERNAL_SERVER_ERROR
                        | StatusCode::BAD_GATEWAY
                        | StatusCode::SERVICE_UNAVAILABLE
                        | StatusCode::GATEWAY_TIMEOUT
                );
        if is_passing { Self::transient(error, wait) } else { Self::permanent(error) }
    }
}

/// The id by which a server's operators find what went wrong.
fn with_request(id: &str) -> String {
    let is_id = id.len() <= MAX_ID_LEN && id.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
    if is_id { format!(" (request {id})") } else { String::new() }
}

/// Whether a host let somebody in who asked for something, or else why it isn't known.
pub fn is_let_in<T>(asked: Result<T, RegistryError>) -> Result<bool, RegistryError> {
    match asked {
        Ok(_) => Ok(true),
        Err(RegistryError::Refused { status: 401 | 403, .. }) => Ok(false),
        Err(error) => Err(error),
    }
}

/// A text of no more than the most characters of others' words that a message has.
fn shortened(text: &str) -> String {
    text.char_indices()
        .nth(MAX_WORDS_LEN)
        .map_or_else(|| text.to_owned(), |(end, _)| format!("{}…", &text[..end]))
}

/// Whether it is about who asks, which we can say better than a word that all registries of containers have for it.
fn is_of_credentials(status: StatusCode) -> bool {
    matches!(status, StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN)
}

/// What a status says where the registry says nothing.
fn in_words(status: StatusCode) -> &'static str {
    match status {
        StatusCode::UNAUTHORIZED => "it requires a valid token or password",
        StatusCode::FORBIDDEN => "this token doesn't allow this",
        StatusCode::METHOD_NOT_ALLOWED => "it can only be read",
        status => status.canonical_reason().unwrap_or("it gives no reason"),
    }
}
