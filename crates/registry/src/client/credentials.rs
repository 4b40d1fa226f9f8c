//! Credentials of a host: a token, or a user with a password.
//!
//! Secrets are found for one origin and sent to it alone: with everything that changes something there, and with what only reads
//! once the host asked for them. They are printed nowhere and wiped from memory when they go.

use std::fmt;

use data_encoding::BASE64;
use reqwest::header::HeaderValue;
use secrecy::{ExposeSecret, SecretString};

use crate::client::origin::Origin;
use crate::model::error::RegistryError;

/// What opens a host.
#[derive(Clone)]
pub struct Credential {
    secret: Secret,
    /// Where it was found, for people: `the variable BIBLIOTAX_TOKENS`.
    pub found_in: String,
}

#[derive(Clone)]
enum Secret {
    /// A bearer token (RFC 6750).
    Token(SecretString),
    /// A user and a password (RFC 7617).
    Password(String, SecretString),
    /// What tokens are given out for (RFC 6749, section 6).
    Refresh(SecretString),
}

impl Credential {
    /// A bearer token.
    pub fn token(token: impl Into<SecretString>, found_in: impl Into<String>) -> Self {
        Self { secret: Secret::Token(token.into()), found_in: found_in.into() }
    }

    /// A user and a password.
    pub fn password(
        user: impl Into<String>,
        password: impl Into<SecretString>,
        found_in: impl Into<String>,
    ) -> Self {
        Self { secret: Secret::Password(user.into(), password.into()), found_in: found_in.into() }
    }

    /// A token for which a host's tokens are given out.
    pub fn refresh(token: impl Into<SecretString>, found_in: impl Into<String>) -> Self {
        Self { secret: Secret::Refresh(token.into()), found_in: found_in.into() }
    }

    /// The value of the header `authorization`; `None` where the secret has letters that no header can have.
    pub(crate) fn header(&self) -> Option<HeaderValue> {
        match &self.secret {
            Secret::Token(token) => bearer(token.expose_secret()),
            Secret::Password(..) => self.basic_header(),
            Secret::Refresh(_) => None,
        }
    }

    /// The header of a user with a password, which may stand in a token's place as `user:password`.
    pub(crate) fn basic_header(&self) -> Option<HeaderValue> {
        let pair = match &self.secret {
            Secret::Password(user, password) => format!("{user}:{}", password.expose_secret()),
            Secret::Token(token) => {
                Some(token.expose_secret().trim()).filter(|pair| pair.contains(':'))?.to_owned()
            }
            Secret::Refresh(_) => return None,
        };
        secret_header(&format!("Basic {}", BASE64.encode(pair.as_bytes())))
    }

    /// The header of a token that is no user with a password.
    pub(crate) fn bearer_header(&self) -> Option<HeaderValue> {
        match &self.secret {
            Secret::Token(token) if !token.expose_secret().contains(':') => bearer(token.expose_secret()),
            _ => None,
        }
    }

    /// The token for which others are given out.
    pub(crate) fn refresh_token(&self) -> Option<&str> {
        match &self.secret {
            Secret::Refresh(token) => Some(token.expose_secret()),
            Secret::Token(_) | Secret::Password(..) => None,
        }
    }
}

/// The header of a token.
pub(crate) fn bearer(token: &str) -> Option<HeaderValue> {
    secret_header(&format!("Bearer {}", token.trim()))
}

fn secret_header(text: &str) -> Option<HeaderValue> {
    let mut header = HeaderValue::from_str(text).ok()?;
    header.set_sensitive(true);
    Some(header)
}

impl fmt::Debug for Credential {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a secret in {}", self.found_in)
    }
}

/// What is to be opened.
#[derive(Debug, Clone, Copy)]
pub struct CredentialRequest<'d> {
    /// The host that credentials would be sent to.
    pub origin: &'d Origin,
    /// Whether it is a registry of containers, whose tools have credentials of their own.
    pub is_for_containers: bool,
}

/// Finds what opens hosts.
pub trait Credentials: Send + Sync {
    /// What opens this door.
    fn find(&self, door: &CredentialRequest<'_>) -> Result<Option<Credential>, RegistryError>;
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn secrets_go_into_headers_and_into_nothing_else() {
        let token = Credential::token("s3cret\n", "the keyring");
        assert_eq!(token.header().unwrap(), "Bearer s3cret");
        let password = Credential::password("moss", "s3cret", "a file");
        assert_eq!(password.header().unwrap(), "Basic bW9zczpzM2NyZXQ=");
        for shown in [format!("{token:?}"), format!("{password:?}"), format!("{:?}", token.header().unwrap())]
        {
            assert!(!shown.contains("s3cret"), "{shown}");
        }
        assert!(Credential::token("two\nlines", "x").header().is_none());
    }
}
