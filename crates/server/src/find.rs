//! `GET api/v1/find?q=WORDS&fits=os:linux,arch:x86_64&page=0`: packages by words, as data.

use std::sync::Arc;

use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use bibliotax_core::facet::Facets;
use bibliotax_registry::model::storage::{ReadRegistry, ReadRegistryExt};
use bibliotax_registry::search::{Query, Searcher, read_place};
use jiff::Timestamp;

use crate::blocking::blocking;
use crate::history_cache::Prepared;
use crate::problem::Problem;
use crate::reads;

/// Longest question that is taken, in bytes.
const MAX_LEN: usize = 500;

/// Most places that are asked about at once.
const MAX_PLACES: usize = 20;

/// What a query string asks for.
pub fn asked(query: &str, facets: &Facets) -> Result<Query, Problem> {
    let mut asked = Query::default();
    for (key, value) in url::form_urlencoded::parse(query.as_bytes()) {
        match &*key {
            "q" if value.len() > MAX_LEN => return Err(Problem::bad("too many words")),
            "q" => asked.words = value.into_owned(),
            "page" => asked.page = value.parse().map_err(|_| Problem::bad("`page` is a number from 0"))?,
            "fits" if asked.places.len() == MAX_PLACES => {
                return Err(Problem::bad("too many places"));
            }
            "fits" => {
                let place = read_place(&value, facets);
                asked.places.push(place.map_err(|what| {
                    Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "facet.value", format!("`fits`: {what}"))
                })?);
            }
            _ => {}
        }
    }
    Ok(asked)
}

/// What was found, as JSON.
pub async fn answer(
    registry: &Arc<dyn ReadRegistry>,
    searcher: &Arc<Searcher>,
    query: &str,
    headers: &HeaderMap,
) -> Result<Response, Problem> {
    let facets = registry.all_facets();
    let asked = asked(query, &facets)?;
    let searcher = Arc::clone(searcher);
    let found = blocking(move || searcher.find(&asked, &facets, Timestamp::now())).await??;
    // Texts, lists and numbers: nothing that could fail to be JSON.
    let text = serde_json::to_string(&found).unwrap_or_default() + "\n";
    Ok(reads::text(&Prepared::new(text), "application/json", headers))
}
