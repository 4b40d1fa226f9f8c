//! Searching a registry behind HTTP: by a list of names that is kept here and only fetched as far as it grew, or by asking
//! the server where the list is long.

use std::io::Read;
use std::path::PathBuf;

use bibliotax_core::facet::Facets;
use jiff::Timestamp;

use super::Remote;
use super::client::{Answer, Part};
use crate::model::error::RegistryError;
use crate::model::names::{NAMES, Named};
use crate::model::storage::with_built_in;
use crate::search::{Found, Hit, Index, Query, place_text};

/// How much of a list is fetched at most where the server can be asked instead, in bytes.
pub const MAX_LIST_LEN: u64 = 8 << 20;

/// Largest answer that is read, in bytes.
const MAX_ANSWER_SIZE: u64 = 4 << 20;

impl Remote {
    /// Finds packages by words, and says which of their releases fit.
    pub fn find(&self, query: &Query, facets: &Facets, now: Timestamp) -> Result<Found, RegistryError> {
        let Some(path) = self.index_path() else { return self.ask_server(query) };
        let mut index = Index::open(&path)?;
        if self.client.is_offline() {
            if index.read_up_to()?.bytes == 0 {
                return Err(self.client.offline(NAMES));
            }
        } else if !self.follow(&mut index)? {
            return self.ask_server(query);
        }
        let mut found = index.find(query, facets, now)?;
        found.look_into(&query.places, facets, |name| self.history(name));
        Ok(found)
    }

    /// What is known of the packages whose names begin with a text: by the list as it was last read, else by asking the server.
    pub fn beginning_with(&self, text: &str, most: usize) -> Result<Vec<Named>, RegistryError> {
        let Some(path) = self.index_path() else { return Ok(Vec::new()) };
        let mut index = Index::open(&path)?;
        if index.read_up_to()?.bytes > 0 || !self.client.is_offline() && self.follow(&mut index)? {
            return index.beginning_with(text, most);
        }
        if self.client.is_offline() {
            return Err(self.client.offline(NAMES));
        }
        let query = Query { words: text.to_owned(), ..Query::default() };
        let known = |hit: Hit| Named {
            newest: hit.newest,
            published: hit.published,
            summary: hit.summary,
            deprecated: hit.deprecated,
            providers: hit.providers,
            ..Named::only(hit.name)
        };
        Ok(self.ask_server(&query)?.hits.into_iter().take(most).map(known).collect())
    }

    /// Reads on in the list of names. Where that isn't possible, what was read before does.
    pub fn follow_names(&self) {
        if let (Some(path), false) = (self.index_path(), self.client.is_offline()) {
            let _ = Index::open(&path).and_then(|mut index| self.follow(&mut index));
        }
    }

    fn index_path(&self) -> Option<PathBuf> {
        Some(self.cache.as_ref()?.folder().join("names.sqlite"))
    }

    /// Brings the database up to date; `false` where that is long and the server can be asked.
    fn follow(&self, index: &mut Index) -> Result<bool, RegistryError> {
        // A list that is not the one that was read before is read from its beginning.
        for _ in 0..2 {
            let since = index.read_up_to()?;
            let Some(Part { from, length, body }) = self.client.part(NAMES, since.from())? else {
                return Err(RegistryError::NoList { registry: self.name.to_string() });
            };
            if self.description.service.is_some() && length.is_none_or(|length| length > self.longest_list) {
                return Ok(false);
            }
            if from != since.from() {
                index.begin_anew()?;
            }
            if index.read_on(&index.read_up_to()?, body.take(super::MAX_LIST_SIZE))? {
                return Ok(true);
            }
        }
        Ok(true)
    }

    fn ask_server(&self, query: &Query) -> Result<Found, RegistryError> {
        let mut pairs = url::form_urlencoded::Serializer::new(String::new());
        pairs.append_pair("q", &query.words).append_pair("page", &query.page.to_string());
        // Facets that only this project knows are of no use there.
        let known = with_built_in(self.facets());
        for mut place in query.places.iter().cloned() {
            place.values.retain(|facet, _| known.get(facet).is_some());
            pairs.append_pair("fits", &place_text(&place));
        }
        let path = format!("{}?{}", self.service("find")?, pairs.finish());
        match self.client.get(&path, None, MAX_ANSWER_SIZE)? {
            Answer::Found { content: text, .. } => {
                serde_json::from_str(&text).map_err(|_| self.client.wrong("its results can't be read"))
            }
            Answer::Same | Answer::Missing => Err(self.client.wrong("it has no `find`")),
        }
    }
}
