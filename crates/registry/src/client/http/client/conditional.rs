//! Requests for what may be known already: the answer is what it is now, or that it is as it was (RFC 9110, section 13).

use jiff::Timestamp;
use reqwest::blocking::{self, RequestBuilder, Response};
use reqwest::header::{
    ACCEPT, ACCEPT_ENCODING, CONTENT_TYPE, ETAG, HeaderName, IF_MODIFIED_SINCE, IF_NONE_MATCH, LAST_MODIFIED,
};
use reqwest::{StatusCode, Url};

use super::Client;
use crate::client::http::min_rate::MinRateReader;
use crate::client::http::request_error::RequestError;
use crate::model::error::RegistryError;

/// What a registry answers to a question.
pub enum Answer<T = String> {
    /// The request, with its validator.
    Found { content: T, tag: Option<String> },
    /// It is as it was.
    Same,
    /// There is none.
    Missing,
}

/// What a server sends, with the time of its last change where it says that.
pub type Dated = (MinRateReader<Response>, Option<Timestamp>);

impl Client {
    /// A text of the registry, if it is not the one with this validator; at most `limit` bytes.
    pub fn get(&self, path: &str, tag: Option<&str>, limit: u64) -> Result<Answer, RegistryError> {
        self.text(tag, limit, blocking::Client::get, path)
    }

    /// The same, of a kind that has to be named.
    pub fn get_as(
        &self,
        media_type: &str,
        path: &str,
        tag: Option<&str>,
        limit: u64,
    ) -> Result<Answer, RegistryError> {
        self.text(tag, limit, |client, url| client.get(url).header(ACCEPT, media_type), path)
    }

    /// The answer to a question, if it is not the one with this validator; at most `limit` bytes.
    pub fn ask(
        &self,
        path: &str,
        question: &str,
        tag: Option<&str>,
        limit: u64,
    ) -> Result<Answer, RegistryError> {
        let ask = |client: &blocking::Client, url| {
            client.post(url).header(CONTENT_TYPE, "application/json").body(question.to_owned())
        };
        self.text(tag, limit, ask, path)
    }

    /// Begins to read a file, unless it is the one with this validator: an entity tag, or the date of its last change.
    pub fn fresh(
        &self,
        path: &str,
        tag: Option<&str>,
    ) -> Result<Answer<MinRateReader<Response>>, RegistryError> {
        self.fresh_as(path, tag, |response| self.paced(response))
    }

    /// The same, with the date of its last change where the server says it.
    pub fn fresh_dated(&self, path: &str, tag: Option<&str>) -> Result<Answer<Dated>, RegistryError> {
        self.fresh_as(path, tag, |response| {
            let date = response.headers().get(LAST_MODIFIED).and_then(|date| date.to_str().ok());
            // RFC 9110, section 5.6.7: dates are as in RFC 2822.
            let date = date.and_then(|date| jiff::fmt::rfc2822::parse(date).ok());
            let date = date.map(|date| date.timestamp());
            (self.paced(response), date)
        })
    }

    fn fresh_as<T>(
        &self,
        path: &str,
        tag: Option<&str>,
        begun: impl Fn(Response) -> T,
    ) -> Result<Answer<T>, RegistryError> {
        if self.is_offline() {
            return Err(self.offline(path));
        }
        self.trying(|| {
            let response = self.read_from(path, |client, url| {
                let request = client.get(url).header(ACCEPT_ENCODING, "identity");
                match tag {
                    Some(tag) if tag.contains('"') => request.header(IF_NONE_MATCH, tag),
                    Some(date) => request.header(IF_MODIFIED_SINCE, date),
                    None => request,
                }
            })?;
            let validators = [ETAG, LAST_MODIFIED];
            self.answer(response, tag.is_some(), &validators, |response| Ok(begun(response)))
        })
    }

    fn text(
        &self,
        tag: Option<&str>,
        limit: u64,
        request: impl Fn(&blocking::Client, Url) -> RequestBuilder,
        path: &str,
    ) -> Result<Answer, RegistryError> {
        self.trying(|| {
            let response = self.read_from(path, |client, url| {
                let request = request(client, url);
                tag.into_iter().fold(request, |request, tag| request.header(IF_NONE_MATCH, tag))
            })?;
            self.answer(response, tag.is_some(), &[ETAG], |response| self.read(response, limit))
        })
    }

    /// What a response says of the requested file; `is_known` where the request had a validator. The new one is in the first of
    /// these headers that there is.
    fn answer<T>(
        &self,
        response: Response,
        is_known: bool,
        validators: &[HeaderName],
        read: impl FnOnce(Response) -> Result<T, RequestError>,
    ) -> Result<Answer<T>, RequestError> {
        match response.status() {
            StatusCode::NOT_MODIFIED if is_known => Ok(Answer::Same),
            StatusCode::NOT_FOUND | StatusCode::GONE => Ok(Answer::Missing),
            StatusCode::OK => {
                let header = |name| response.headers().get(name)?.to_str().ok().map(str::to_owned);
                let tag = validators.iter().find_map(header);
                Ok(Answer::Found { content: read(response)?, tag })
            }
            _ => Err(self.refused(response)),
        }
    }
}
