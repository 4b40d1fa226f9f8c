//! Requests to one registry or archive: bounded in size and time, retried where that may help.

mod conditional;

use std::io::Read;
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use bibliotax_core::manifest::Allowed;
use bibliotax_core::source::without_user;
use reqwest::blocking::{self, RequestBuilder, Response};
use reqwest::header::{ACCEPT_ENCODING, AUTHORIZATION, CONTENT_TYPE, HeaderValue, LINK};
use reqwest::redirect::{Attempt, Policy};
use reqwest::{Method, StatusCode, Url};
use serde_json::Value;

pub use self::conditional::Answer;
use super::authentication::{Access, AuthScheme, Authenticator, TokenRequest};
use super::checked;
use super::connection_error::{is_about_tls, what_broke};
use super::min_rate::{MinRateReader, TooSlow, is_timeout};
use super::request_error::{MAX_REFUSAL_SIZE, RequestError};
use super::retry::retry;
use super::uploading::{UploadError, Watch, send_watched};
use crate::client::credentials::{Credential, bearer};
use crate::client::network::Network;
use crate::client::origin::{Origin, have_one_owner};
use crate::client::pending_hosts::{PendingHosts, Request};
use crate::model::error::{Asked, RegistryError};
use crate::model::private_hosts::is_loopback;
use crate::model::private_hosts::{OnlyOutside, is_inside, leads_inside};

/// Until a connection has to be there.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(10);

/// Until the next bytes have to come.
const IDLE_TIMEOUT: Duration = Duration::from_secs(20);

/// Until a text has to be there whole.
const READ_TIMEOUT: Duration = Duration::from_secs(120);

/// Most redirects that are followed.
const MAX_REDIRECTS: usize = 4;

/// A file of a registry from some place in it on.
pub struct Part {
    /// The place where it begins.
    pub from: u64,
    /// How many bytes come, if the registry says.
    pub length: Option<u64>,
    /// The bytes.
    pub body: MinRateReader<Response>,
}

/// Asks one registry, or for one archive.
#[derive(Clone)]
pub struct Client {
    shared: Arc<Shared>,
}

struct Shared {
    asked: Asked,
    base: Url,
    admission: Authenticator,
    /// Whether tokens may be given out at a place without encryption.
    allows_plain: bool,
    /// Another host where tokens may be given out.
    realm: Option<Origin>,
    /// Whether nothing inside may be asked, wherever it sends us on.
    only_outside: bool,
    is_offline: bool,
    silence: Duration,
    waits: PendingHosts,
    /// The host that it asks, in words.
    subject: Arc<str>,
    /// Made when something is asked for first: it reads the system's certificates.
    reading: OnceLock<blocking::Client>,
    writing: OnceLock<blocking::Client>,
}

impl Client {
    /// A client for a registry of our own kind, or for where one archive is; what opens its host goes to no other.
    pub fn new(asked: Asked, base: Url, network: &Network) -> Self {
        Self::made_of(Self::shared(AuthScheme::Direct, asked, base, network))
    }

    /// The same for a place that somebody outside named: it asks nothing that only this machine or its network reaches.
    pub fn outside(asked: Asked, base: Url, network: &Network) -> Self {
        Self::made_of(Shared { only_outside: true, ..Self::shared(AuthScheme::Direct, asked, base, network) })
    }

    /// A client for a host that says in a challenge how it lets people in, and where tokens are given out.
    pub fn challenged(asked: Asked, base: Url, network: &Network, allowed: &Allowed) -> Self {
        let realm = allowed.realm.as_deref().and_then(|realm| realm.parse().ok());
        let shared = Self::shared(AuthScheme::Challenge, asked, base, network);
        Self::made_of(Shared { allows_plain: allowed.plain, realm, ..shared })
    }

    fn made_of(shared: Shared) -> Self {
        Self { shared: Arc::new(shared) }
    }

    fn shared(manner: AuthScheme, asked: Asked, base: Url, network: &Network) -> Shared {
        let subject = match base.host_str() {
            Some(host) => format!("{asked} at {host}").into(),
            None => asked.to_string().into(),
        };
        Shared {
            waits: network.waits.clone(),
            subject,
            asked,
            admission: Authenticator::new(manner, Origin::of(&base), network),
            base,
            allows_plain: false,
            realm: None,
            only_outside: false,
            is_offline: network.offline,
            silence: network.silence.unwrap_or(IDLE_TIMEOUT),
            reading: OnceLock::new(),
            writing: OnceLock::new(),
        }
    }

    /// Where it asks.
    pub fn base(&self) -> &Url {
        &self.shared.base
    }

    /// What opens the host, looked for when it is wanted first.
    pub fn credential(&self) -> Result<Option<&Credential>, RegistryError> {
        self.shared.admission.credential()
    }

    /// The host that credentials of this client are for.
    pub fn origin(&self) -> Option<&Origin> {
        self.shared.admission.origin()
    }

    /// Whether nothing is requested over a network.
    pub fn is_offline(&self) -> bool {
        self.shared.is_offline
    }

    /// That something would have to be asked for, and nobody may be.
    pub fn offline(&self, path: &str) -> RegistryError {
        let file = path.split_once('/').and_then(|(_, path)| path.split_once('/')?.1.strip_suffix(".jsonl"));
        let name = file.or_else(|| path.strip_suffix("/manifests/index"));
        let what = match name {
            Some(name) => format!("{name} in it"),
            None if path.starts_with("files/") || path.contains("/blobs/") => {
                "a file that is wanted".to_owned()
            }
            None => "what it is".to_owned(),
        };
        RegistryError::Offline { asked: self.shared.asked.clone(), what }
    }

    /// A page of a list, with its link (RFC 8288) to others; `None` if it is not there.
    pub fn page(&self, path: &str, limit: u64) -> Result<Option<(String, Option<String>)>, RegistryError> {
        self.trying(|| {
            let response = self.read_from(path, blocking::Client::get)?;
            let link = response.headers().get(LINK).and_then(|link| link.to_str().ok()).map(str::to_owned);
            match response.status() {
                StatusCode::NOT_FOUND => Ok(None),
                StatusCode::OK => Ok(Some((self.read(response, limit)?, link))),
                _ => Err(self.refused(response)),
            }
        })
    }

    /// A file of the registry whose length nobody said; at most `limit` bytes, `None` if it is not there.
    pub fn bytes(&self, path: &str, limit: u64) -> Result<Option<Vec<u8>>, RegistryError> {
        self.trying(|| {
            let identity =
                |client: &blocking::Client, url| client.get(url).header(ACCEPT_ENCODING, "identity");
            let response = self.read_from(path, identity)?;
            match response.status() {
                StatusCode::NOT_FOUND | StatusCode::GONE => Ok(None),
                StatusCode::OK => self.read_bytes(response, limit).map(Some),
                _ => Err(self.refused(response)),
            }
        })
    }

    /// Begins to read a file at a place in it.
    pub fn open(&self, path: &str, from: u64) -> Result<MinRateReader<Response>, RegistryError> {
        self.trying(|| {
            // A file is compressed already, and a place in it means its own bytes.
            let response = self.read_from(path, |client, url| {
                let request = client.get(url).header(ACCEPT_ENCODING, "identity");
                if from == 0 { request } else { request.header("range", format!("bytes={from}-")) }
            })?;
            match (response.status(), from) {
                (StatusCode::OK, 0) => Ok(self.paced(response)),
                (StatusCode::PARTIAL_CONTENT, _) if begins_at(&response, from) => Ok(self.paced(response)),
                (StatusCode::OK | StatusCode::PARTIAL_CONTENT, _) => Err(RequestError::permanent(
                    self.wrong("it answers with another part of the file than requested"),
                )),
                _ => Err(self.refused(response)),
            }
        })
    }

    /// A file that may have grown, from a place in it on, or from its beginning where it is not that long or is only given
    /// whole; `None` if it is not there.
    pub fn part(&self, path: &str, from: u64) -> Result<Option<Part>, RegistryError> {
        self.trying(|| {
            let asked = |range: Option<String>| {
                self.read_from(path, |client, url| {
                    let request = client.get(url).header(ACCEPT_ENCODING, "identity");
                    range.iter().fold(request, |request, range| request.header("range", range))
                })
            };
            let mut body = asked((from > 0).then(|| format!("bytes={from}-")))?;
            if body.status() == StatusCode::RANGE_NOT_SATISFIABLE {
                body = asked(None)?;
            }
            let length = body.content_length();
            match body.status() {
                StatusCode::NOT_FOUND | StatusCode::GONE => Ok(None),
                StatusCode::PARTIAL_CONTENT if begins_at(&body, from) => {
                    Ok(Some(Part { from, length, body: self.paced(body) }))
                }
                StatusCode::OK => Ok(Some(Part { from: 0, length, body: self.paced(body) })),
                _ => Err(self.refused(body)),
            }
        })
    }

    /// Sends something with the token. Tried again only where that changes nothing: everything sent is named by its
    /// digest or may be there already.
    pub fn send(
        &self,
        method: &Method,
        path: &str,
        prepare: impl Fn(RequestBuilder) -> Result<RequestBuilder, RegistryError>,
    ) -> Result<Response, RegistryError> {
        self.trying(|| self.send_now(method, path, &prepare))
    }

    /// Sends something once.
    pub fn send_now(
        &self,
        method: &Method,
        path: &str,
        prepare: impl Fn(RequestBuilder) -> Result<RequestBuilder, RegistryError>,
    ) -> Result<Response, RequestError> {
        let build = || {
            let request = self.writing()?.request(method.clone(), self.url(path)?);
            prepare(request).map_err(RequestError::permanent)
        };
        let response = self.admitted(Access::Write, path, build, |request| self.sent(request))?;
        let is_answer = response.status().is_success()
            || *method == Method::HEAD && response.status() == StatusCode::NOT_FOUND;
        if is_answer { Ok(response) } else { Err(self.refused(response)) }
    }

    /// Uploads `length` bytes once, for as long as they move; `body` opens them, and `prepare` adds headers.
    pub fn upload_now<R: Read + Send + 'static>(
        &self,
        path: &str,
        length: u64,
        body: impl Fn() -> Result<R, RegistryError>,
        prepare: impl Fn(RequestBuilder) -> RequestBuilder,
        watch: &Watch<'_>,
    ) -> Result<(), RequestError> {
        let build = || Ok(prepare(self.writing()?.request(Method::PUT, self.url(path)?)));
        let send = |request| {
            let sent = send_watched(request, body()?, length, watch);
            sent.map_err(|unsent| match unsent {
                UploadError::Broke(error) => self.unsent(&error),
                UploadError::Silent => RequestError::silent(self.broke_off("it doesn't answer in time")),
            })
        };
        let response = self.admitted(Access::Write, path, build, send)?;
        if response.status().is_success() { Ok(()) } else { Err(self.refused(response)) }
    }

    /// How long nothing may be heard.
    pub fn silence(&self) -> Duration {
        self.shared.silence
    }

    /// Reads an answer as JSON.
    pub fn json(&self, response: Response) -> Result<Value, RegistryError> {
        let text = self.read(response, MAX_REFUSAL_SIZE).map_err(|trouble| *trouble.error)?;
        serde_json::from_str(&text).map_err(|_| self.wrong("its answer is not JSON"))
    }

    /// Sends a request that only reads.
    fn read_from(
        &self,
        path: &str,
        request: impl Fn(&blocking::Client, Url) -> RequestBuilder,
    ) -> Result<Response, RequestError> {
        let build = || Ok(request(self.reading()?, self.url(path)?));
        self.admitted(Access::Read, path, build, |request| self.sent(request))
    }

    /// Sends a request with the credentials for the host: at once where they are known to be needed, else once the host asked for
    /// them; never to other hosts that it redirects to. All requests go through here, so that none is sent offline.
    fn admitted(
        &self,
        deed: Access,
        path: &str,
        build: impl Fn() -> Result<RequestBuilder, RequestError>,
        send: impl Fn(RequestBuilder) -> Result<Response, RequestError>,
    ) -> Result<Response, RequestError> {
        if self.is_offline() {
            return Err(RequestError::permanent(self.offline(path)));
        }
        let Shared { base, admission, .. } = &*self.shared;
        if self.url(path)?.origin() != base.origin() {
            return send(build()?);
        }
        let send = |pass: Option<HeaderValue>| {
            let with = |request: RequestBuilder, pass| request.header(AUTHORIZATION, pass);
            send(pass.into_iter().fold(build()?, with))
        };
        let pass = admission.pass(deed, path).map_err(RequestError::permanent)?;
        let response = send(pass.clone())?;
        if response.status() != StatusCode::UNAUTHORIZED {
            return Ok(response);
        }
        // One that was good may not be good any more.
        match admission.answer(deed, path, response.headers(), |request| self.token(request))? {
            Some(answer) if pass.as_ref() != Some(&answer) => send(Some(answer)),
            _ => Ok(response),
        }
    }

    /// Asks for a token where a host says that they are given out; `None` where it is refused.
    fn token(&self, request: TokenRequest) -> Result<Option<HeaderValue>, RequestError> {
        let TokenRequest { realm, pairs, authorization, is_form } = request;
        let Shared { asked, allows_plain, .. } = &*self.shared;
        let mut url = checked(asked, &realm, *allows_plain).map_err(RequestError::permanent)?;
        let is_secret = authorization.is_some() || is_form;
        self.check_realm(&url, is_secret).map_err(RequestError::permanent)?;
        let request = if is_form {
            let mut form = url::form_urlencoded::Serializer::new(String::new());
            let form = form.extend_pairs(&pairs).finish();
            self.writing()?.post(url).header(CONTENT_TYPE, "application/x-www-form-urlencoded").body(form)
        } else {
            url.query_pairs_mut().extend_pairs(&pairs);
            self.writing()?.get(url)
        };
        let request =
            authorization.into_iter().fold(request, |request, pass| request.header(AUTHORIZATION, pass));
        let response = self.sent(request)?;
        match response.status() {
            StatusCode::OK => {}
            StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => return Ok(None),
            _ => return Err(self.refused(response)),
        }
        let answer: Value = serde_json::from_str(&self.read(response, MAX_REFUSAL_SIZE)?).unwrap_or_default();
        let token = answer["token"].as_str().or(answer["access_token"].as_str());
        let wrong = || RequestError::permanent(self.wrong("the token service that it names has no token"));
        token.and_then(bearer).ok_or_else(wrong).map(Some)
    }

    /// Whether tokens may be asked for at a place that the host names: with a secret only at its own host, at one of the same
    /// owner, or where the manifest says so; and nowhere inside, unless the host is there itself.
    fn check_realm(&self, url: &Url, is_secret: bool) -> Result<(), RegistryError> {
        let Shared { asked, base, realm, .. } = &*self.shared;
        let is_allowed = realm.is_some() && Origin::of(url) == *realm;
        let is_kept = !is_secret || have_one_owner(base, url);
        if is_allowed || is_kept && (base.host() == url.host() || !leads_inside(url) || leads_inside(base)) {
            return Ok(());
        }
        let url = Origin::of(url).map_or_else(|| url.to_string(), |origin| origin.to_string());
        Err(RegistryError::OtherHost { asked: asked.clone(), key: "realm", url })
    }

    fn url(&self, path: &str) -> Result<Url, RequestError> {
        self.shared
            .base
            .join(path)
            .map_err(|_| RequestError::permanent(self.wrong("its URL can't be followed")))
    }

    fn reading(&self) -> Result<&blocking::Client, RequestError> {
        let only_outside = self.shared.only_outside;
        self.made(&self.shared.reading, Policy::custom(move |attempt| follow(attempt, only_outside)))
    }

    fn writing(&self) -> Result<&blocking::Client, RequestError> {
        self.made(&self.shared.writing, Policy::none())
    }

    fn made<'c>(
        &self,
        slot: &'c OnceLock<blocking::Client>,
        policy: Policy,
    ) -> Result<&'c blocking::Client, RequestError> {
        if let Some(client) = slot.get() {
            return Ok(client);
        }
        // The first caller installs it; it is the same for all.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let builder = blocking::Client::builder()
            .redirect(policy)
            .connect_timeout(CONNECT_TIMEOUT)
            .timeout(self.shared.silence);
        let builder = builder.user_agent(concat!("bibliotax/", env!("CARGO_PKG_VERSION"))).tcp_nodelay(true);
        let builder =
            if self.shared.only_outside { builder.dns_resolver(Arc::new(OnlyOutside)) } else { builder };
        let client =
            builder.build().map_err(|error| RequestError::permanent(self.broke_off(&what_broke(&error))))?;
        Ok(slot.get_or_init(|| client))
    }

    fn sent(&self, request: RequestBuilder) -> Result<Response, RequestError> {
        let waits = &self.shared.waits;
        let _wait = waits.begin(&self.shared.subject);
        let listener = waits.on_request().map(|on_request| (on_request, asked(&request)));
        let begun = Instant::now();
        let answer = request.send();
        waits.count();
        if let Some((on_request, asked)) = listener {
            let said = match &answer {
                Ok(response) => response.status().to_string(),
                Err(_) => "no answer".to_owned(),
            };
            on_request(&Request { asked: &asked, answer: &said, took: begun.elapsed() });
        }
        answer.map_err(|error| self.unsent(&error))
    }

    /// Why there is no answer.
    fn unsent(&self, error: &reqwest::Error) -> RequestError {
        let shown = self.broke_off(&what_broke(error));
        if error.is_redirect() || error.is_builder() || is_about_tls(error) {
            return RequestError::permanent(shown);
        }
        if error.is_timeout() { RequestError::silent(shown) } else { RequestError::transient(shown, None) }
    }

    /// The whole text of an answer.
    fn read(&self, response: Response, limit: u64) -> Result<String, RequestError> {
        let bytes = self.read_bytes(response, limit)?;
        String::from_utf8(bytes).map_err(|_| RequestError::permanent(self.wrong("its answer isn't text")))
    }

    fn read_bytes(&self, response: Response, limit: u64) -> Result<Vec<u8>, RequestError> {
        let (begun, mut bytes) = (Instant::now(), Vec::new());
        let mut body = self.paced(response).take(limit + 1);
        let mut piece = [0; 64 << 10];
        loop {
            let broke = |what: &str| RequestError::transient(self.broke_off(what), None);
            match body.read(&mut piece) {
                Ok(0) => break,
                Ok(read) => bytes.extend_from_slice(&piece[..read]),
                Err(error) if TooSlow::is(&error) => {
                    return Err(RequestError::permanent(self.broke_off(&TooSlow.to_string())));
                }
                Err(error) if bytes.is_empty() && is_timeout(&error) => {
                    return Err(RequestError::silent(self.broke_off("its answer broke off")));
                }
                Err(_) => return Err(broke("its answer broke off")),
            }
            if bytes.len() as u64 > limit {
                return Err(RequestError::permanent(self.wrong("its answer is too large")));
            }
            if begun.elapsed() > READ_TIMEOUT {
                return Err(broke("its answer took too long"));
            }
        }
        Ok(bytes)
    }

    /// A body that has to come at a pace.
    fn paced(&self, response: Response) -> MinRateReader<Response> {
        let Shared { silence, waits, subject, .. } = &*self.shared;
        MinRateReader::new(response, *silence * 3 / 2, waits, subject)
    }

    /// Sends until it works, is refused for good, or was tried often enough.
    pub fn trying<T>(&self, attempt: impl Fn() -> Result<T, RequestError>) -> Result<T, RegistryError> {
        retry(self.shared.silence, attempt).map_err(|failed| *failed.error)
    }

    /// That there is no answer, or not all of one.
    pub fn broke_off(&self, what: &str) -> RegistryError {
        let Shared { asked, base, .. } = &*self.shared;
        RegistryError::Unreachable { asked: asked.clone(), url: base.to_string(), what: what.to_owned() }
    }

    fn refused(&self, response: Response) -> RequestError {
        let (status, headers) = (response.status(), response.headers().clone());
        RequestError::refused(&self.shared.asked, status, &headers, self.paced(response))
    }

    /// That an answer is not what such an answer is.
    pub fn wrong(&self, what: &str) -> RegistryError {
        RegistryError::WrongAnswer { asked: self.shared.asked.clone(), what: what.to_owned() }
    }
}

/// Follows redirects that are few and lead to no less safe a place. Headers that are for one host alone don't go along.
fn follow(attempt: Attempt<'_>, only_outside: bool) -> reqwest::redirect::Action {
    let was_safe = attempt.previous().last().is_some_and(|url| url.scheme() == "https");
    let is_safe = attempt.url().scheme() == "https" || !was_safe && is_loopback(attempt.url());
    let is_open = !only_outside || !is_inside(attempt.url());
    if attempt.previous().len() > MAX_REDIRECTS || !is_safe || !is_open {
        return attempt.error("this redirect isn't followed");
    }
    attempt.follow()
}

/// Whether an answer is the part of a file that begins there.
fn begins_at(response: &Response, from: u64) -> bool {
    let range = response.headers().get("content-range").and_then(|range| range.to_str().ok());
    range.is_some_and(|range| {
        range.strip_prefix("bytes ").is_some_and(|range| range.starts_with(&format!("{from}-")))
    })
}

/// What a request asks for, without what only the server may see.
fn asked(request: &RequestBuilder) -> String {
    let built = request.try_clone().and_then(|request| request.build().ok());
    built.map_or_else(
        || "a request".to_owned(),
        |built| format!("{} {}", built.method(), without_user(built.url().as_str())),
    )
}
