//! Who sends a request: the address that asks, and the token that it came with.

use std::net::IpAddr;
use std::sync::{Arc, OnceLock};

use axum::extract::FromRequestParts;
use axum::http::request::Parts;
use axum::http::{HeaderValue, StatusCode, header};
use bibliotax_registry::model::storage::RegistryStorage;
use bibliotax_registry::storage::tokens::{self, Token};
use headers::authorization::Bearer;
use headers::{Authorization, HeaderMapExt};

use crate::app::App;
use crate::blocking::blocking;
use crate::problem::Problem;

/// The client of a request.
#[derive(Clone)]
pub struct Client {
    /// Its address, by which it is limited.
    pub address: IpAddr,
    /// The id of its token, once that is known to be good. For the log.
    pub token_id: Arc<OnceLock<String>>,
}

impl Client {
    /// A client that has shown no token yet.
    pub fn new(address: IpAddr) -> Self {
        Self { address, token_id: Arc::default() }
    }
}

impl<S: Sync> FromRequestParts<S> for Client {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Problem> {
        let client = parts.extensions.get::<Self>().cloned();
        client.ok_or_else(|| Problem::broken("this server has a defect", "a request has no client"))
    }
}

/// A request that was counted against the limit of the address that sent it.
pub struct Limited;

impl FromRequestParts<Arc<App>> for Limited {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let client = Client::from_request_parts(parts, app).await?;
        app.limit(&client.address.to_string()).map(|()| Self)
    }
}

/// A request that came with a good token, and the registry that it may change.
pub struct Authenticated {
    pub token: Token,
    pub storage: Arc<dyn RegistryStorage>,
}

impl FromRequestParts<Arc<App>> for Authenticated {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &Arc<App>) -> Result<Self, Problem> {
        let client = Client::from_request_parts(parts, app).await?;
        let bearer = parts.headers.typed_get::<Authorization<Bearer>>();
        let Authorization(bearer) = bearer.ok_or_else(|| refused("a token is required"))?;
        let token = app.token(client.address, bearer.token()).await?;
        let _ = client.token_id.set(token.id.clone());
        app.limit(&token.id)?;
        Ok(Self { token, storage: Arc::clone(app.served.storage()?) })
    }
}

impl App {
    /// The token of this text. Guessing is limited per address.
    async fn token(&self, address: IpAddr, text: &str) -> Result<Token, Problem> {
        // A token that was known a moment ago has a limit of its own. Unknown ones may only have the tokens read so often.
        let (known, is_new) = self.tokens.find(text);
        match known {
            Some(token) if is_new && !self.registry.is_on_this_machine() => return Ok(token),
            Some(_) => {}
            None => self.limit(&address.to_string())?,
        }
        let storage = Arc::clone(self.served.storage()?);
        self.tokens.replace(blocking(move || tokens::list(&*storage)).await??);
        let found = self.tokens.find(text).0;
        found.ok_or_else(|| refused("this token is unknown, expired or revoked"))
    }
}

fn refused(detail: &str) -> Problem {
    Problem::new(StatusCode::UNAUTHORIZED, "token.unknown", detail)
        .header(header::WWW_AUTHENTICATE, HeaderValue::from_static("Bearer"))
}
