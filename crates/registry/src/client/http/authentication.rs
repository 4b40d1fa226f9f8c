//! Authenticates requests to a host, and answers its challenges.
//!
//! A registry of our own kind takes the credential itself, and is sent it at once where something is to be changed. Others say
//! in a challenge (RFC 9110, section 11.6.1) what they want, which may be a token that another place gives out for one
//! repository (the token authentication that goes with the OCI Distribution Specification). What let us in once is kept as long
//! as this runs, and sent to nobody else.

use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, OnceLock, PoisonError};

use http_auth::parser::ChallengeParser;
use http_auth::{ChallengeRef, ParamValue};
use reqwest::header::{HeaderMap, HeaderValue, WWW_AUTHENTICATE};

use super::Network;
use crate::client::credentials::{Credential, CredentialRequest};
use crate::client::origin::Origin;
use crate::model::error::RegistryError;

/// How a host lets somebody in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AuthScheme {
    /// With the credential itself.
    Direct,
    /// With what its challenge asks for.
    Challenge,
}

/// What is done where somebody wants to be let in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Access {
    /// Something is asked for.
    Read,
    /// Something is changed.
    Write,
}

/// A request for a token, as a challenge asks for it.
pub struct TokenRequest {
    /// Where tokens are given out.
    pub realm: String,
    /// What the request says.
    pub pairs: Vec<(&'static str, String)>,
    /// Who asks for it; everybody without it.
    pub authorization: Option<HeaderValue>,
    /// Whether it is sent as a form, since it holds a secret.
    pub is_form: bool,
}

/// What one host has to be sent.
pub struct Authenticator {
    manner: AuthScheme,
    origin: Option<Origin>,
    network: Network,
    /// What opens the host, once it was looked for.
    credential: OnceLock<Option<Credential>>,
    /// What let us in: to read, to write, and to which repository where hosts distinguish.
    passes: Mutex<HashMap<(Access, String), HeaderValue>>,
}

impl Authenticator {
    /// Nothing is known yet of what a host wants.
    pub fn new(manner: AuthScheme, origin: Option<Origin>, network: &Network) -> Self {
        let network = network.clone();
        Self { manner, origin, network, credential: OnceLock::new(), passes: Mutex::default() }
    }

    /// The host that credentials would be sent to.
    pub fn origin(&self) -> Option<&Origin> {
        self.origin.as_ref()
    }

    /// What opens the host, looked for when it is wanted first.
    pub fn credential(&self) -> Result<Option<&Credential>, RegistryError> {
        if let Some(known) = self.credential.get() {
            return Ok(known.as_ref());
        }
        let is_for_containers = self.manner == AuthScheme::Challenge;
        let found = match (&self.network.credentials, &self.origin) {
            (Some(credentials), Some(origin)) => {
                credentials.find(&CredentialRequest { origin, is_for_containers })?
            }
            _ => None,
        };
        Ok(self.credential.get_or_init(|| found).as_ref())
    }

    /// What is sent along before the host asked for anything.
    pub fn pass(&self, deed: Access, path: &str) -> Result<Option<HeaderValue>, RegistryError> {
        if (self.manner, deed) == (AuthScheme::Direct, Access::Write) {
            return Ok(self.credential()?.and_then(Credential::header));
        }
        Ok(self.passes().get(&self.key(deed, path)).cloned())
    }

    /// What a host wants that answered with these headers; `None` where nothing here opens it.
    pub fn answer<E: From<RegistryError>>(
        &self,
        deed: Access,
        path: &str,
        headers: &HeaderMap,
        token: impl FnOnce(TokenRequest) -> Result<Option<HeaderValue>, E>,
    ) -> Result<Option<HeaderValue>, E> {
        let credential = self.credential()?;
        let pass = match self.manner {
            AuthScheme::Direct => credential.and_then(Credential::header),
            AuthScheme::Challenge => match challenge(headers) {
                Some(Challenge::Basic) => credential.and_then(Credential::basic_header),
                Some(Challenge::Token { realm, pairs }) => {
                    match credential.and_then(Credential::bearer_header) {
                        Some(header) => Some(header),
                        None => token(request(realm, pairs, credential))?,
                    }
                }
                None => None,
            },
        };
        if let Some(pass) = &pass {
            self.passes().insert(self.key(deed, path), pass.clone());
        }
        Ok(pass)
    }

    fn passes(&self) -> MutexGuard<'_, HashMap<(Access, String), HeaderValue>> {
        self.passes.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What a pass is for: everything, or one repository.
    fn key(&self, deed: Access, path: &str) -> (Access, String) {
        let ends = ["/manifests/", "/blobs/", "/tags/"].iter().filter_map(|part| path.find(part));
        let repository = match self.manner {
            AuthScheme::Direct => "",
            AuthScheme::Challenge => &path[..ends.min().unwrap_or(path.len())],
        };
        (deed, repository.to_owned())
    }
}

/// What a host asks for.
#[derive(Debug, PartialEq, Eq)]
enum Challenge {
    /// A user and a password (RFC 7617).
    Basic,
    /// A token that is given out at `realm` to who says this.
    Token { realm: String, pairs: Vec<(&'static str, String)> },
}

/// The challenge that can be answered, a token before a password.
fn challenge(headers: &HeaderMap) -> Option<Challenge> {
    let texts = headers.get_all(WWW_AUTHENTICATE).iter().filter_map(|value| value.to_str().ok());
    let all: Vec<ChallengeRef<'_>> =
        texts.flat_map(|text| ChallengeParser::new(text).map_while(Result::ok)).collect();
    let of = |scheme: &str| all.iter().find(|challenge| challenge.scheme.eq_ignore_ascii_case(scheme));
    if let Some(bearer) = of("bearer")
        && let Some(realm) = said(bearer, "realm")
    {
        let pairs = ["service", "scope"].into_iter().filter_map(|key| Some((key, said(bearer, key)?)));
        return Some(Challenge::Token { realm, pairs: pairs.collect() });
    }
    of("basic").map(|_| Challenge::Basic)
}

fn said(challenge: &ChallengeRef<'_>, key: &str) -> Option<String> {
    let (_, value) = challenge.params.iter().find(|(name, _)| name.eq_ignore_ascii_case(key))?;
    Some(ParamValue::to_unescaped(value)).filter(|value| !value.is_empty())
}

/// How a token is asked for: with a password, with a token that tokens are given out for, or by anybody.
fn request(
    realm: String,
    mut pairs: Vec<(&'static str, String)>,
    credential: Option<&Credential>,
) -> TokenRequest {
    let refresh = credential.and_then(Credential::refresh_token);
    if let Some(token) = refresh {
        pairs.extend([
            ("grant_type", "refresh_token".to_owned()),
            ("client_id", "bibliotax".to_owned()),
            ("refresh_token", token.to_owned()),
        ]);
    }
    let authorization = credential.and_then(Credential::basic_header);
    TokenRequest { realm, pairs, authorization, is_form: refresh.is_some() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(values: &[&'static str]) -> HeaderMap {
        values.iter().map(|value| (WWW_AUTHENTICATE, HeaderValue::from_static(value))).collect()
    }

    #[test]
    fn challenges_are_read_a_token_before_a_password() {
        let token = Challenge::Token {
            realm: "https://garden.example/token".into(),
            pairs: vec![("service", "garden".into()), ("scope", "repository:moss/map:pull,push".into())],
        };
        let asked = r#"Bearer realm="https://garden.example/token",service="garden",scope="repository:moss/map:pull,push""#;
        assert_eq!(challenge(&headers(&[asked])), Some(token));
        let both = challenge(&headers(&[
            r#"Basic realm="r""#,
            r#"bearer Realm="https://garden.example/token",scope="""#,
        ]));
        let plain = Challenge::Token { realm: "https://garden.example/token".into(), pairs: vec![] };
        assert_eq!(both, Some(plain));
        assert_eq!(challenge(&headers(&["Basic realm=\"r\", charset=\"UTF-8\""])), Some(Challenge::Basic));
        for nothing in [&[][..], &["Digest realm=\"r\""], &["Bearer service=\"x\""], &["\"", "Basic\" x"]] {
            assert_eq!(challenge(&headers(nothing)), None, "{nothing:?}");
        }
    }

    #[test]
    fn what_opens_one_repository_is_for_no_other() {
        let network = Network::default();
        let admission = Authenticator::new(AuthScheme::Challenge, "garden.example".parse().ok(), &network);
        let asked = headers(&[r#"Bearer realm="https://garden.example/token""#]);
        let token = |_| Ok::<_, RegistryError>(Some(HeaderValue::from_static("Bearer one")));
        admission.answer(Access::Read, "moss/map/manifests/index", &asked, token).unwrap();
        let pass = |deed, path| admission.pass(deed, path).unwrap();
        assert_eq!(pass(Access::Read, "moss/map/blobs/sha256:00").unwrap(), "Bearer one");
        assert_eq!(pass(Access::Write, "moss/map/manifests/index"), None);
        assert_eq!(pass(Access::Read, "moss/ink/tags/list"), None);
    }
}
