//! Accepts the events of publishing: releases, withdrawals, restorations, deprecations.

use std::sync::Arc;

use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bibliotax_core::card::{Card, FileRecord};
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use bibliotax_registry::RegistryError;
use bibliotax_registry::model::release_status::Change;
use bibliotax_registry::model::storage::{ReadRegistryExt, RegistryStorage};
use bibliotax_registry::publish::admit_release::admit_release;
use bibliotax_registry::storage::tokens::{Action, Done, Token};
use jiff::Timestamp;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::json;

use crate::problem::Problem;

/// What a request brings, read or refused with what is wrong in it.
pub fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, Problem> {
    serde_json::from_slice(body)
        .map_err(|error| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "server.bad-json", error.to_string()))
}

/// The client, and what it asks for.
pub struct Asking<'a> {
    /// The registry.
    pub registry: &'a Arc<dyn RegistryStorage>,
    /// The token that the request came with.
    pub token: &'a Token,
    /// Now.
    pub now: Timestamp,
}

/// That a release is to be withdrawn.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedWithdrawal {
    name: PackageName,
    version: Version,
    reason: String,
}

/// That a withdrawal is to be taken back.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedRestoration {
    name: PackageName,
    version: Version,
}

/// That releases are to be deprecated.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedDeprecation {
    name: PackageName,
    range: Range,
    reason: String,
    #[serde(default)]
    instead: Option<PackageName>,
}

impl From<AskedWithdrawal> for (PackageName, Change) {
    fn from(asked: AskedWithdrawal) -> Self {
        (asked.name, Change::Withdraw { version: asked.version, reason: asked.reason })
    }
}

impl From<AskedRestoration> for (PackageName, Change) {
    fn from(asked: AskedRestoration) -> Self {
        (asked.name, Change::Restore { version: asked.version })
    }
}

/// That a deprecation is to be taken back.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedUndeprecation {
    name: PackageName,
    range: Range,
}

impl From<AskedUndeprecation> for (PackageName, Change) {
    fn from(asked: AskedUndeprecation) -> Self {
        (asked.name, Change::Undeprecate { range: asked.range })
    }
}

impl From<AskedDeprecation> for (PackageName, Change) {
    fn from(asked: AskedDeprecation) -> Self {
        let AskedDeprecation { name, range, reason, instead } = asked;
        (name, Change::Deprecate { range, reason, instead })
    }
}

impl Asking<'_> {
    /// Makes a release of a card whose files are here. The time of publishing is now; what the card says of it is ignored.
    pub fn publish(&self, card: Card) -> Result<Response, Problem> {
        self.may(Action::Publish, &card.name)?;
        for provided in &card.provides {
            self.may(Action::Publish, &provided.name)?;
        }
        let card = Card { published: self.now, ..card };
        if card.files.iter().any(FileRecord::is_elsewhere) {
            // What nobody looked into is taken in by those who keep the registry, with `registry load`.
            let detail = "a published release must upload its files; some of these are URLs";
            return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "card.file", detail));
        }
        let note = || self.note("publish", &card.name, card.version.as_str());
        let already =
            admit_release(self.registry, &card, note).map_err(|error| self.refused(&card, error))?;
        let status = if already { StatusCode::OK } else { StatusCode::CREATED };
        let said = json!({ "name": card.name, "version": card.version, "already": already });
        Ok((status, axum::Json(said)).into_response())
    }

    /// The refusal of a card; where another release has its version, with what is there.
    fn refused(&self, card: &Card, error: RegistryError) -> Problem {
        let is_there = matches!(error, RegistryError::Exists { .. });
        if let RegistryError::MissingFiles { digests } = &error {
            let missing = json!(digests);
            return Problem::from(error).with("missing", missing);
        }
        let problem = Problem::from(error);
        let history = self.registry.history(&card.name).ok().flatten().filter(|_| is_there);
        match history.as_ref().and_then(|history| history.release(&card.version)) {
            Some(release) => problem.with("there", json!(release.entry)),
            None => problem,
        }
    }

    /// Reads which change is asked for, and makes it.
    pub fn asked<T: DeserializeOwned + Into<(PackageName, Change)>>(
        &self,
        action: Action,
        body: &[u8],
    ) -> Result<Response, Problem> {
        let (name, change) = read::<T>(body)?.into();
        self.change(action, &name, &change)
    }

    fn change(&self, action: Action, name: &PackageName, change: &Change) -> Result<Response, Problem> {
        self.may(action, name)?;
        let already = change.make(&**self.registry, name, self.now)?;
        let what = change.what();
        if !already {
            self.note(word_of(change), name, &what)?;
        }
        Ok(axum::Json(json!({ "name": name, "what": what, "already": already })).into_response())
    }

    fn may(&self, action: Action, package: &PackageName) -> Result<(), Problem> {
        if self.token.allows(action, package, self.now) {
            return Ok(());
        }
        let word =
            Action::ALL.iter().find(|(_, other)| *other == action).map_or("do that to", |(word, _)| word);
        let detail = format!("this token doesn't allow to {word} {package}");
        Err(Problem::new(StatusCode::FORBIDDEN, "token.not-for-that", detail))
    }

    fn note(&self, action: &str, package: &PackageName, version: &str) -> Result<(), RegistryError> {
        let done =
            Done { at: self.now, token: &self.token.id, name: &self.token.name, action, package, version };
        done.note(&**self.registry)
    }
}

/// What the log calls a change.
fn word_of(change: &Change) -> &'static str {
    match change {
        Change::Withdraw { .. } => "withdraw",
        Change::Restore { .. } => "restore",
        Change::Deprecate { .. } => "deprecate",
        Change::Undeprecate { .. } => "undeprecate",
    }
}
