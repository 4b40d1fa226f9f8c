//! The search page.

use bibliotax_present::dates::date;
use bibliotax_present::words;
use bibliotax_registry::model::storage::{ReadRegistry, ReadRegistryExt};
use bibliotax_registry::search::{Hit, Index, Query, Searcher};
use jiff::Timestamp;
use serde::Serialize;
use url::form_urlencoded;

use crate::find::asked;
use crate::problem::Problem;

/// What the page shows.
#[derive(Serialize)]
pub struct SearchPage {
    registry: String,
    words: String,
    packages: String,
    heading: String,
    notes: Vec<String>,
    hits: Vec<ShownHit>,
    before: Option<String>,
    next: Option<String>,
}

#[derive(Serialize)]
struct ShownHit {
    name: String,
    version: String,
    summary: String,
    tags: Vec<String>,
    published: String,
    uses: String,
    deprecated: bool,
}

/// What is found for a query string; and whether only the results are wanted.
pub fn page(
    registry: &dyn ReadRegistry,
    searcher: &Searcher,
    query: &str,
) -> Result<(SearchPage, bool), Problem> {
    let facets = registry.all_facets();
    let asked = asked(query, &facets)?;
    let found = searcher.find(&asked, &facets, Timestamp::now())?;
    let packages = searcher.with(Index::len)? as usize;
    let mut notes: Vec<String> = Vec::new();
    for read in &found.read_as {
        notes.push(format!(
            "No match for “{}”; showing results for {}.",
            read.word,
            read.instead.join(" or ")
        ));
    }
    if found.is_loose {
        notes.push("No package has all of these words; these have some of them.".to_owned());
    }
    let link = |page: usize| {
        let mut pairs = form_urlencoded::Serializer::new(String::new());
        format!("/?{}", pairs.append_pair("q", &asked.words).append_pair("page", &page.to_string()).finish())
    };
    let page = SearchPage {
        registry: registry.name().to_owned(),
        packages: words::count(packages, "name"),
        heading: heading(&asked, found.hits.len(), found.more),
        notes,
        hits: found.hits.into_iter().map(shown).collect(),
        before: asked.page.checked_sub(1).map(link),
        next: found.more.then(|| link(asked.page + 1)),
        words: asked.words,
    };
    let is_part =
        form_urlencoded::parse(query.as_bytes()).any(|(key, value)| key == "part" && value == "results");
    Ok((page, is_part))
}

fn heading(asked: &Query, hits: usize, more: bool) -> String {
    let page = if asked.page > 0 { format!(", page {}", asked.page + 1) } else { String::new() };
    match (asked.words.trim(), hits) {
        ("", _) => format!("Used most{page}"),
        (words, 0) => format!("Nothing for “{words}”{page}"),
        (words, hits) => {
            let more = if more { ", and more" } else { "" };
            format!("{} for “{words}”{page}{more}", words::count(hits, "package"))
        }
    }
}

fn shown(hit: Hit) -> ShownHit {
    let is_capability = hit.providers > 0;
    let version = match &hit.newest {
        Some(newest) => newest.to_string(),
        None if is_capability => "capability".to_owned(),
        None => "withdrawn".to_owned(),
    };
    let summary = hit.summary.unwrap_or_default();
    ShownHit {
        name: hit.name.to_string(),
        version,
        summary: if is_capability {
            let verb = if hit.providers == 1 { "provides" } else { "provide" };
            format!("{} {verb} it", words::count(hit.providers, "package"))
        } else {
            summary
        },
        tags: hit.tags.iter().map(ToString::to_string).collect(),
        published: hit.published.map(date).unwrap_or_default(),
        uses: if hit.uses > 0 { format!("used by {}", hit.uses) } else { String::new() },
        deprecated: hit.deprecated,
    }
}
