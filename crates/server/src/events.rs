//! What publishing ends in: releases, withdrawals, restorations, deprecations.

use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bibliotax_core::card::{Card, Deprecation, Event, Restoration, Withdrawal};
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use bibliotax_registry::RegistryError;
use bibliotax_registry::accept::{accept, check_acceptable};
use bibliotax_registry::folder::Folder;
use bibliotax_registry::tokens::{Action, Done, Token};
use jiff::Timestamp;
use serde::Deserialize;
use serde::de::DeserializeOwned;
use serde_json::json;

use crate::inspect::check_archives;
use crate::problem::Problem;

/// What a request brings, read or refused with what is wrong in it.
pub fn read<T: DeserializeOwned>(body: &[u8]) -> Result<T, Problem> {
    serde_json::from_slice(body)
        .map_err(|error| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "server.bad-json", error.to_string()))
}

/// Whoever asks, and what for.
pub struct Asking<'a> {
    /// The registry.
    pub registry: &'a Folder,
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

impl Asking<'_> {
    /// Makes a release of a card whose files are here. The time of publishing is now, whatever the card says.
    pub fn publish(&self, card: Card) -> Result<Response, Problem> {
        self.may(Action::Publish, &card.name)?;
        let card = Card { published: self.now, ..card };
        check_acceptable(self.registry, &card).map_err(|error| self.refused(&card, error))?;
        let missing: Vec<_> = card
            .files
            .iter()
            .map(|file| &file.sha256)
            .filter(|digest| !self.registry.has_file(digest))
            .collect();
        if !missing.is_empty() {
            let detail = "some files of the card were not uploaded";
            let problem = Problem::new(StatusCode::CONFLICT, "upload.missing", detail);
            return Err(problem.with("missing", json!(missing)));
        }
        check_archives(self.registry, &card)?;
        let already = accept(self.registry, &card).map_err(|error| self.refused(&card, error))?;
        if !already {
            self.note("publish", &card.name, card.version.as_str())?;
        }
        let status = if already { StatusCode::OK } else { StatusCode::CREATED };
        let said = json!({ "name": card.name, "version": card.version, "already": already });
        Ok((status, axum::Json(said)).into_response())
    }

    /// The refusal of a card; where another release has its version, with what is there.
    fn refused(&self, card: &Card, error: RegistryError) -> Problem {
        let is_there = matches!(error, RegistryError::Exists { .. });
        let problem = Problem::from(error);
        let history = self.registry.history(&card.name).ok().flatten().filter(|_| is_there);
        match history.as_ref().and_then(|history| history.release(&card.version)) {
            Some(release) => problem.with("there", json!(release.entry)),
            None => problem,
        }
    }

    /// Withdraws a release.
    pub fn withdraw(&self, asked: AskedWithdrawal) -> Result<Response, Problem> {
        let AskedWithdrawal { name, version, reason } = asked;
        self.may(Action::Withdraw, &name)?;
        has_reason(&reason)?;
        let event = Event::Withdrawn(Withdrawal { version: version.clone(), reason, at: self.now });
        let is_so =
            |history: &History| history.release(&version).is_some_and(|release| release.withdrawn.is_some());
        self.append("withdraw", &name, version.as_str(), event, is_so)
    }

    /// Takes a withdrawal back.
    pub fn restore(&self, asked: AskedRestoration) -> Result<Response, Problem> {
        let AskedRestoration { name, version } = asked;
        self.may(Action::Withdraw, &name)?;
        let event = Event::Restored(Restoration { version: version.clone(), at: self.now });
        let is_so =
            |history: &History| history.release(&version).is_some_and(|release| release.withdrawn.is_none());
        self.append("restore", &name, version.as_str(), event, is_so)
    }

    /// Deprecates releases.
    pub fn deprecate(&self, asked: AskedDeprecation) -> Result<Response, Problem> {
        let AskedDeprecation { name, range, reason, instead } = asked;
        self.may(Action::Deprecate, &name)?;
        has_reason(&reason)?;
        let said = (reason.clone(), instead.clone());
        let event = Event::Deprecated(Deprecation { range: range.clone(), reason, instead, at: self.now });
        let set = range.set(true).clone();
        let is_so = |history: &History| {
            let mut concerned =
                history.releases().iter().filter(|release| set.contains(release.entry.version.point()));
            concerned.all(|release| {
                release
                    .deprecated
                    .as_ref()
                    .is_some_and(|there| (there.reason.clone(), there.instead.clone()) == said)
            })
        };
        self.append("deprecate", &name, &range.to_string(), event, is_so)
    }

    /// Adds an event to the history of a package, unless that is so already.
    fn append(
        &self,
        action: &str,
        name: &PackageName,
        version: &str,
        event: Event,
        is_so: impl Fn(&History) -> bool,
    ) -> Result<Response, Problem> {
        if self.registry.history(name)?.is_none_or(|history| history.releases().is_empty()) {
            let detail = format!("there is no package {name}");
            return Err(Problem::new(StatusCode::NOT_FOUND, "package.unknown", detail));
        }
        let appended = self.registry.append(name, |history| {
            if is_so(history) {
                return Ok::<_, Problem>(Vec::new());
            }
            let mut followed = history.clone();
            followed.apply(name, event.clone()).map_err(|message| {
                Problem::new(StatusCode::NOT_FOUND, "package.unknown", format!("{name}: {message}"))
            })?;
            Ok(vec![event])
        })?;
        if appended > 0 {
            self.note(action, name, version)?;
        }
        Ok(axum::Json(json!({ "name": name, "version": version, "already": appended == 0 })).into_response())
    }

    fn may(&self, action: Action, package: &PackageName) -> Result<(), Problem> {
        if self.token.allows(action, package, self.now) {
            return Ok(());
        }
        let word =
            Action::ALL.iter().find(|(_, other)| *other == action).map_or("do that to", |(word, _)| word);
        let detail = format!("this token is not for that: to {word} {package}");
        Err(Problem::new(StatusCode::FORBIDDEN, "token.not-for-that", detail))
    }

    fn note(&self, action: &str, package: &PackageName, version: &str) -> Result<(), Problem> {
        let done =
            Done { at: self.now, token: &self.token.id, name: &self.token.name, action, package, version };
        Ok(done.note(self.registry)?)
    }
}

fn has_reason(reason: &str) -> Result<(), Problem> {
    if reason.trim().is_empty() {
        let detail = "a reason is wanted: people who use the release will read it";
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "event.no-reason", detail));
    }
    Ok(())
}
