//! Refusals, as problem details (RFC 9457).

use std::error::Error;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::partial_upload::UploadProblem;
use serde_json::{Map, Value, json};

/// Most characters of a refusal's sentence.
const MAX_DETAIL: usize = 1000;

/// Why a request was refused.
#[derive(Debug, Clone)]
pub struct Problem {
    status: StatusCode,
    code: &'static str,
    detail: String,
    more: Box<More>,
}

/// What a refusal says beside its code and sentence.
#[derive(Debug, Default, Clone)]
struct More {
    fields: Map<String, Value>,
    headers: HeaderMap,
    /// What went wrong, for the server's operators alone.
    cause: Option<String>,
}

impl Problem {
    /// A refusal with a stable code and a sentence for people.
    pub fn new(status: StatusCode, code: &'static str, detail: impl Into<String>) -> Self {
        let mut detail = detail.into();
        // What a client sent may be in it, and is not sent back at any length.
        if let Some((end, _)) = detail.char_indices().nth(MAX_DETAIL) {
            detail.truncate(end);
            detail.push('…');
        }
        Self { status, code, detail, more: Box::default() }
    }

    /// The same with more for programs.
    pub fn with(mut self, key: &str, value: Value) -> Self {
        self.more.fields.insert(key.to_owned(), value);
        self
    }

    /// The same with a header.
    pub fn header(mut self, name: header::HeaderName, value: impl Into<HeaderValue>) -> Self {
        self.more.headers.insert(name, value.into());
        self
    }

    /// That there is nothing of this name.
    pub fn not_found() -> Self {
        Self::new(StatusCode::NOT_FOUND, "server.not-found", "there is nothing here")
    }

    /// That a request makes no sense.
    pub fn bad(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "server.bad-request", detail)
    }

    /// That something went wrong here that the client can't help. The cause is for the server's operators.
    pub fn broken(detail: impl Into<String>, cause: impl Into<String>) -> Self {
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "server.broken", detail).caused_by(cause)
    }

    /// The same with what went wrong, which only the server's operators see, in the log.
    pub fn caused_by(mut self, cause: impl Into<String>) -> Self {
        self.more.cause = Some(cause.into());
        self
    }

    /// Notes a failure of the server for its operators; the client gets the request's id, by which they find it.
    pub fn logged(self, request: &str) -> Self {
        if !self.status.is_server_error() {
            return self;
        }
        let cause = self.more.cause.as_deref().unwrap_or(&self.detail);
        tracing::error!(request, status = self.status.as_u16(), code = self.code, cause, "failed");
        self.with("request", request.into())
    }

    /// Puts this into an answer, which may have headers already.
    pub fn show_in(self, response: &mut Response) {
        let title = self.status.canonical_reason().unwrap_or("refused");
        let mut body = json!({ "title": title, "status": self.status.as_u16(), "detail": self.detail, "code": self.code });
        if let Some(body) = body.as_object_mut() {
            body.extend(self.more.fields);
        }
        *response.body_mut() = Body::from(body.to_string());
        let json = HeaderValue::from_static("application/problem+json");
        response.headers_mut().insert(header::CONTENT_TYPE, json);
        response.headers_mut().remove(header::CONTENT_LENGTH);
        response.headers_mut().extend(self.more.headers);
    }
}

/// Only the status, with the problem beside it: `answer` shows it, with the id of the request.
impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let mut response = self.status.into_response();
        response.extensions_mut().insert(self);
        response
    }
}

impl From<RegistryError> for Problem {
    fn from(error: RegistryError) -> Self {
        let (code, detail, cause) = (error.code(), error.to_string(), causes_of(&error));
        let status = match &error {
            RegistryError::Exists { .. } | RegistryError::NameTaken { .. } => StatusCode::CONFLICT,
            // What the disk says names paths of this machine.
            RegistryError::Disk(_) | RegistryError::Bucket { .. } | RegistryError::BrokenHistory { .. } => {
                let detail = "the registry can't read or write its files; its maintainers have to look at it";
                return Self::broken(detail, cause);
            }
            RegistryError::ReadOnly { .. } => StatusCode::METHOD_NOT_ALLOWED,
            RegistryError::Unreachable { .. }
            | RegistryError::Refused { .. }
            | RegistryError::WrongAnswer { .. } => StatusCode::BAD_GATEWAY,
            RegistryError::NothingThere { .. } => StatusCode::NOT_FOUND,
            RegistryError::NoFile { .. } | RegistryError::MissingFiles { .. } => StatusCode::CONFLICT,
            _ => StatusCode::UNPROCESSABLE_ENTITY,
        };
        Self::new(status, code, detail).caused_by(cause)
    }
}

/// An error with all that led to it.
pub fn causes_of(error: &dyn Error) -> String {
    let mut shown = error.to_string();
    let mut source = error.source();
    while let Some(cause) = source {
        let cause_text = cause.to_string();
        // Some say what led to them themselves.
        if !shown.contains(&cause_text) {
            shown = format!("{shown}: {cause_text}");
        }
        source = cause.source();
    }
    shown
}

impl From<UploadProblem> for Problem {
    fn from(problem: UploadProblem) -> Self {
        let detail = problem.to_string();
        match problem {
            UploadProblem::Busy => Self::new(StatusCode::CONFLICT, "upload.busy", detail)
                .header(header::RETRY_AFTER, HeaderValue::from_static("2")),
            UploadProblem::Gap { there } => {
                Self::new(StatusCode::CONFLICT, "upload.gap", detail).with("there", there.into())
            }
            UploadProblem::Broke | UploadProblem::Length { .. } => Self::bad(detail),
            UploadProblem::WrongDigest { .. } => {
                Self::new(StatusCode::UNPROCESSABLE_ENTITY, "upload.wrong-bytes", detail)
            }
            UploadProblem::Registry(error) => error.into(),
        }
    }
}
