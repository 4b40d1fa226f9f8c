//! Pages for people who browse: search, and a page for each release. They work without scripts, load nothing from elsewhere,
//! and everything that a card says is escaped.

mod contents;
mod markdown;
mod package;
mod search;

use std::sync::{Arc, LazyLock};

use axum::http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use axum::response::Response;
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use bibliotax_present::page::BASE_STYLE;
use bibliotax_registry::model::storage::ReadRegistry;
use bibliotax_registry::search::Searcher;
use minijinja::{Environment, UndefinedBehavior};
use serde::Serialize;
use url::{Host, Url};

pub use self::contents::ContentsCache;
use crate::blocking::blocking;
use crate::history_cache::Prepared;
use crate::problem::Problem;
use crate::reads;

/// Nothing is loaded, run or framed that is not this server's own.
const POLICY: &str = "default-src 'none'; style-src 'self'; script-src 'self'; connect-src 'self'; img-src 'self'; \
     form-action 'self'; base-uri 'none'; frame-ancestors 'none'";

/// What all pages share, given its validator and compressed once.
static STYLE: LazyLock<Prepared> =
    LazyLock::new(|| Prepared::new([BASE_STYLE, include_str!("pages/style.css")].concat()));
static SCRIPT: LazyLock<Prepared> =
    LazyLock::new(|| Prepared::new(include_str!("pages/search.js").to_owned()));

static ICON: LazyLock<Prepared> = LazyLock::new(|| Prepared::new(include_str!("pages/icon.svg").to_owned()));

static TEMPLATES: LazyLock<Environment<'static>> = LazyLock::new(|| {
    let mut templates = Environment::new();
    // A field that a template names and a page has not is a defect of ours, which tests meet.
    templates.set_undefined_behavior(UndefinedBehavior::Strict);
    templates.set_trim_blocks(true);
    templates.set_lstrip_blocks(true);
    for (name, text) in [
        ("base.html", include_str!("pages/base.html")),
        ("search.html", include_str!("pages/search.html")),
        ("results.html", include_str!("pages/results.html")),
        ("package.html", include_str!("pages/package.html")),
        ("missing.html", include_str!("pages/missing.html")),
    ] {
        // A template of ours that can't be read is met by every test of it.
        let _ = templates.add_template(name, text);
    }
    templates
});

/// What all pages are made of.
pub struct Pages<'a> {
    /// The registry.
    pub registry: &'a Arc<dyn ReadRegistry>,
    /// What finds things in it.
    pub searcher: &'a Arc<Searcher>,
    /// What is in archives.
    pub contents: &'a Arc<ContentsCache>,
    /// What the request says.
    pub headers: &'a HeaderMap,
    /// Where the registry is, as the visitor sees it.
    pub place: String,
}

/// What every page shows: how to add the registry to a manifest.
#[derive(Serialize)]
struct Frame<'f, P> {
    #[serde(flatten)]
    page: &'f P,
    /// The line of a manifest that declares the registry.
    registry_line: String,
}

impl Pages<'_> {
    /// The styles of all pages.
    pub fn style(&self) -> Response {
        self.text(&STYLE, "text/css; charset=utf-8")
    }

    /// The picture of tabs and bookmarks.
    pub fn icon(&self) -> Response {
        self.text(&ICON, "image/svg+xml")
    }

    /// The script that searches while one types.
    pub fn script(&self) -> Response {
        self.text(&SCRIPT, "text/javascript; charset=utf-8")
    }

    /// The search page, or only its results where the script asks.
    pub async fn search(&self, query: &str) -> Result<Response, Problem> {
        let (registry, searcher) = (Arc::clone(self.registry), Arc::clone(self.searcher));
        let query = query.to_owned();
        let (page, is_part) = blocking(move || search::page(&*registry, &searcher, &query)).await??;
        Ok(self.shown(if is_part { "results.html" } else { "search.html" }, &page, StatusCode::OK))
    }

    /// The page of a package or of one of its releases.
    pub async fn package(&self, path: &str, query: &str) -> Result<Response, Problem> {
        let Some((name, version)) = read_path(path) else { return Ok(self.missing(path)) };
        let (registry, searcher) = (Arc::clone(self.registry), Arc::clone(self.searcher));
        let query = query.to_owned();
        let contents = Arc::clone(self.contents);
        let page = move || {
            let sources = package::Sources { registry: &registry, searcher: &searcher, contents: &contents };
            package::page(&sources, &name, version.as_ref(), &query)
        };
        Ok(match blocking(page).await?? {
            Some(page) => self.shown("package.html", &page, StatusCode::OK),
            None => self.missing(path),
        })
    }

    fn missing(&self, path: &str) -> Response {
        let page = Missing { registry: self.registry.name(), path };
        self.shown("missing.html", &page, StatusCode::NOT_FOUND)
    }

    /// The line of a manifest that declares this registry.
    fn registry_line(&self) -> String {
        let (name, place) = (self.registry.name(), serde_json::Value::from(self.place.as_str()));
        let is_here = |host: &Host<&str>| match host {
            Host::Domain(name) => *name == "localhost",
            Host::Ipv4(address) => address.is_loopback(),
            Host::Ipv6(address) => address.is_loopback(),
        };
        let is_inside = Url::parse(&self.place).is_ok_and(|url| url.host().as_ref().is_some_and(is_here));
        // A manifest has to allow it to be asked without encryption over a network.
        if self.place.starts_with("http:") && !is_inside {
            format!("{name} = {{ url = {place}, plain = true }}")
        } else {
            format!("{name} = {place}")
        }
    }

    fn shown(&self, template: &str, page: &impl Serialize, status: StatusCode) -> Response {
        let framed = Frame { page, registry_line: self.registry_line() };
        let shown = TEMPLATES.get_template(template).and_then(|template| template.render(framed));
        let mut response = match shown {
            Ok(text) => self.text(&Prepared::new(text), "text/html; charset=utf-8"),
            Err(_) => {
                let sentence = "This page can't be shown; it is a defect of the server.\n".to_owned();
                self.text(&Prepared::new(sentence), "text/plain")
            }
        };
        if response.status() == StatusCode::OK {
            *response.status_mut() = status;
        }
        response
    }

    fn text(&self, text: &Prepared, kind: &'static str) -> Response {
        let mut response = reads::text(text, kind, self.headers);
        let headers: [(HeaderName, &'static str); 2] =
            [(header::CONTENT_SECURITY_POLICY, POLICY), (header::REFERRER_POLICY, "no-referrer")];
        for (name, value) in headers {
            response.headers_mut().insert(name, HeaderValue::from_static(value));
        }
        response
    }
}

/// Where nothing is.
#[derive(Serialize)]
struct Missing<'m> {
    registry: &'m str,
    path: &'m str,
}

/// The package of a path, and its version where the path goes on with one: names begin with letters, versions with digits.
fn read_path(path: &str) -> Option<(PackageName, Option<Version>)> {
    let path = path.trim_end_matches('/');
    match path.rsplit_once('/') {
        Some((name, version)) if version.starts_with(|c: char| c.is_ascii_digit()) => {
            Some((name.parse().ok()?, Some(version.parse().ok()?)))
        }
        _ => Some((path.parse().ok()?, None)),
    }
}
