//! Who may do what to a served registry: tokens, stored as hashes, and the log of their use.
//!
//! A token is `bibliotax-ID-SECRET`. The registry keeps the id and the SHA-256 of the secret, which has 256 random bits: from
//! a hash that leaks nobody gets back to it. Tokens are events in `private/tokens.jsonl`, only ever appended; what was done
//! stands in `private/log.jsonl`.

use bibliotax_core::digest::Digest;
use bibliotax_core::name::{NamePattern, PackageName};
use bibliotax_disk::DiskError;
use data_encoding::HEXLOWER;
use jiff::Timestamp;
use ring::rand::{SecureRandom, SystemRandom};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use subtle::ConstantTimeEq;

use crate::model::error::RegistryError;
use crate::model::storage::{Private, ServerState};

/// What every token begins with, so that one that leaked is known for what it is.
const PREFIX: &str = "bibliotax-";

/// What a token allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[schemars(rename = "TokenAction")]
pub enum Action {
    /// Publish releases.
    Publish,
    /// Withdraw releases and restore them.
    Withdraw,
    /// Deprecate releases.
    Deprecate,
}

impl Action {
    /// All actions with the words for them.
    pub const ALL: [(&str, Self); 3] =
        [("publish", Self::Publish), ("withdraw", Self::Withdraw), ("deprecate", Self::Deprecate)];
}

/// What a registry keeps of a token.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Token {
    /// What it is called in lists and in the log.
    pub id: String,
    /// What it is for.
    pub name: String,
    /// The SHA-256 of its secret.
    hash: Digest,
    /// The packages that it is for: names, or beginnings of names before a `*`.
    pub packages: Vec<String>,
    /// What it allows.
    pub actions: Vec<Action>,
    /// When it ends.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expires: Option<Timestamp>,
    /// When it was made.
    pub at: Timestamp,
}

impl Token {
    /// Whether it allows something at a time.
    pub fn allows(&self, action: Action, package: &PackageName, now: Timestamp) -> bool {
        let is_for = |pattern: &String| NamePattern::new(pattern.as_str()).matches(package);
        self.is_valid(now) && self.actions.contains(&action) && self.packages.iter().any(is_for)
    }

    /// Whether it has not ended.
    pub fn is_valid(&self, now: Timestamp) -> bool {
        self.expires.is_none_or(|expires| now < expires)
    }
}

/// One line of the list of tokens.
#[derive(Debug, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "lowercase")]
enum Line {
    Issued(Token),
    Ended { id: String, at: Timestamp },
}

/// What a new token is to allow.
#[derive(Debug, Clone)]
pub struct NewToken {
    /// What it is for.
    pub name: String,
    /// The packages that it is for.
    pub packages: Vec<String>,
    /// What it allows.
    pub actions: Vec<Action>,
    /// When it ends.
    pub expires: Option<Timestamp>,
}

/// Makes a token; its text, which nothing keeps.
pub fn create(
    registry: &dyn ServerState,
    wish: NewToken,
    now: Timestamp,
) -> Result<(Token, String), RegistryError> {
    let mut random = [0; 36];
    let no_random =
        |_| DiskError::new("read", "the system's random numbers", std::io::Error::other("it has none"));
    SystemRandom::new().fill(&mut random).map_err(no_random)?;
    let (id, secret) = random.split_at(4);
    let (id, secret) = (HEXLOWER.encode(id), HEXLOWER.encode(secret));
    let NewToken { name, packages, actions, expires } = wish;
    let hash = Digest::of(secret.as_bytes());
    let token = Token { id: id.clone(), name, hash, packages, actions, expires, at: now };
    registry.append_private(Private::Tokens, &line(&Line::Issued(token.clone())))?;
    Ok((token, format!("{PREFIX}{id}-{secret}")))
}

/// The tokens that were not revoked, oldest first.
pub fn list(registry: &dyn ServerState) -> Result<Vec<Token>, RegistryError> {
    let mut tokens: Vec<Token> = Vec::new();
    for line in registry.read_private(Private::Tokens)?.lines() {
        let broken = |error: serde_json::Error| {
            let what = std::io::Error::other(format!("a line is broken: {error}"));
            DiskError::new("read", "the list of tokens", what)
        };
        match serde_json::from_str(line).map_err(broken)? {
            Line::Issued(token) => tokens.push(token),
            Line::Ended { id, .. } => tokens.retain(|token| token.id != id),
        }
    }
    Ok(tokens)
}

/// Ends a token; whether there was one.
pub fn revoke(registry: &dyn ServerState, id: &str, now: Timestamp) -> Result<bool, RegistryError> {
    if !list(registry)?.iter().any(|token| token.id == id) {
        return Ok(false);
    }
    registry.append_private(Private::Tokens, &line(&Line::Ended { id: id.to_owned(), at: now }))?;
    Ok(true)
}

/// The token of this text, if it is one of these and has not ended.
pub fn find<'t>(tokens: &'t [Token], text: &str, now: Timestamp) -> Option<&'t Token> {
    let (id, secret) = text.strip_prefix(PREFIX)?.split_once('-')?;
    let hash = Digest::of(secret.as_bytes());
    let is_it = |token: &&Token| {
        // The ids are no secret; the hashes are compared in a time that tells nothing of where they differ.
        token.id == id && bool::from(token.hash.as_bytes().ct_eq(hash.as_bytes()))
    };
    tokens.iter().find(is_it).filter(|token| token.is_valid(now))
}

/// Something that was done to a registry.
#[derive(Debug, Serialize)]
pub struct Done<'d> {
    /// When.
    pub at: Timestamp,
    /// With which token.
    pub token: &'d str,
    /// What it is called.
    pub name: &'d str,
    /// What was done.
    pub action: &'d str,
    /// To which package.
    pub package: &'d PackageName,
    /// To which of its versions; a range for deprecations.
    pub version: &'d str,
}

impl Done<'_> {
    /// Notes it in the registry's log.
    pub fn note(&self, registry: &dyn ServerState) -> Result<(), RegistryError> {
        registry.append_private(Private::Log, &line(self))
    }
}

/// A line as JSON.
fn line<T: Serialize>(what: &T) -> String {
    // Texts, lists and times: nothing that could fail to be JSON.
    serde_json::to_string(what).unwrap_or_default() + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::storage::folder::Folder;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn a_token_is_known_by_its_text_allows_what_it_says_and_ends() {
        let folder = tempfile::tempdir().unwrap();
        let registry =
            Folder::create(&folder.path().join("r"), "seedhouse", std::collections::BTreeMap::new()).unwrap();
        let now = at("2026-03-01T08:00:00Z");
        let wish = NewToken {
            name: "the build server".into(),
            packages: vec!["fernhollow/*".into(), "moss-map".into()],
            actions: vec![Action::Publish],
            expires: Some(at("2026-04-01T00:00:00Z")),
        };
        let (token, text) = create(&registry, wish, now).unwrap();
        let tokens = list(&registry).unwrap();
        let found = find(&tokens, &text, now).unwrap();
        assert_eq!((found.id.as_str(), found.name.as_str()), (token.id.as_str(), "the build server"));
        let kept = std::fs::read_to_string(folder.path().join("r/private/tokens.jsonl")).unwrap();
        assert!(!kept.contains(text.rsplit('-').next().unwrap()), "the secret itself is not kept");
        let name = |text: &str| text.parse::<PackageName>().unwrap();
        for (action, package, allowed) in [
            (Action::Publish, "fernhollow/valve-core", true),
            (Action::Publish, "moss-map", true),
            (Action::Publish, "moss-mapper", false),
            (Action::Withdraw, "moss-map", false),
        ] {
            assert_eq!(found.allows(action, &name(package), now), allowed, "{action:?} {package}");
        }
        assert!(find(&tokens, &text, at("2026-05-01T00:00:00Z")).is_none(), "it has ended");
        let last = if text.ends_with('0') { "1" } else { "0" };
        for wrong in [
            format!("{}{last}", &text[..text.len() - 1]),
            format!("{text}0"),
            token.id.clone(),
            String::new(),
        ] {
            assert!(find(&tokens, &wrong, now).is_none(), "{wrong}");
        }
        assert!(revoke(&registry, &token.id, now).unwrap() && !revoke(&registry, &token.id, now).unwrap());
        assert!(list(&registry).unwrap().is_empty());
    }
}
