//! One request for all that some needs can reach, where the registry supports it.
//!
//! It only saves questions: what the answer lacks is asked for one by one, and so is everything where there is none.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use serde::Deserialize;
use serde_json::json;

use super::Remote;
use super::client::Answer;
use crate::model::layout::history_path;

/// Largest answer that is read, in bytes.
const MAX_SIZE: u64 = 512 << 20;

/// Histories that an answer brought.
#[derive(Debug, Clone, Default)]
pub struct PrefetchedHistories(Arc<Mutex<HashMap<PackageName, String>>>);

impl PrefetchedHistories {
    /// The history of a package, if an answer brought it.
    pub fn get(&self, package: &PackageName) -> Option<String> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(package).cloned()
    }

    /// Whether all these packages were brought already, and so what they reach.
    fn has_all(&self, needs: &[(PackageName, Range)]) -> bool {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        needs.iter().all(|(name, _)| known.contains_key(name))
    }

    fn add(&self, histories: Vec<(PackageName, String)>) {
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        known.extend(histories);
    }
}

/// What stands before each history of an answer.
#[derive(Debug, Deserialize)]
struct Head {
    package: PackageName,
    bytes: usize,
    /// The validator of the history by itself.
    tag: String,
}

/// A history with its validator.
type Brought = (PackageName, String, String);

impl Remote {
    /// Asks for all that these needs can reach. What goes wrong is met again when it matters.
    pub fn prefetch_closure(&self, needs: &[(PackageName, Range)]) {
        // The same needs in narrower ranges reach nothing that they didn't reach before.
        if !self.prefetched.has_all(needs) {
            self.prefetched.add(self.reached_from(needs));
        }
    }

    /// The histories of all that these needs can reach, if the registry tells them at once.
    pub fn reached_from(&self, needs: &[(PackageName, Range)]) -> Vec<(PackageName, String)> {
        let service = self.description.service.as_ref().filter(|_| !self.client.is_offline());
        let Some(service) = service else { return Vec::new() };
        let needs: Vec<_> =
            needs.iter().map(|(name, range)| json!({ "name": name, "range": range })).collect();
        let asked = json!({ "needs": needs }).to_string();
        let kept_as = format!("closure/{}", Digest::of(asked.as_bytes()));
        let kept = self.cache.as_ref().and_then(|cache| cache.read(&kept_as));
        let tag = kept.as_ref().map(|kept| kept.tag.as_str());
        let answer =
            self.client.ask(&format!("{}/closure", service.trim_matches('/')), &asked, tag, MAX_SIZE);
        let text = match answer {
            Ok(Answer::Found { content: text, tag }) => {
                if let (Some(cache), Some(tag)) = (&self.cache, tag) {
                    cache.keep(&kept_as, &tag, &text);
                    for (package, tag, text) in histories(&text).unwrap_or_default() {
                        cache.keep(&history_path(&package), &tag, &text);
                    }
                }
                Some(text)
            }
            Ok(Answer::Same) => kept.map(|kept| kept.text),
            Ok(Answer::Missing) | Err(_) => None,
        };
        let brought = text.as_deref().and_then(histories).unwrap_or_default();
        brought.into_iter().map(|(package, _, text)| (package, text)).collect()
    }
}

/// The histories of an answer; nothing where it is not what such an answer is.
fn histories(mut text: &str) -> Option<Vec<Brought>> {
    let mut found = Vec::new();
    while !text.is_empty() {
        let (head, rest) = text.split_once('\n')?;
        let Head { package, bytes, tag } = serde_json::from_str(head).ok()?;
        found.push((package, tag, rest.get(..bytes)?.to_owned()));
        text = rest.get(bytes..)?;
    }
    Some(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_is_taken_whole_or_not_at_all() {
        let head = |package: &str, bytes: usize| {
            json!({ "package": package, "bytes": bytes, "tag": "\"1\"" }).to_string() + "\n"
        };
        let text = format!("{}one\ntwo\n{}", head("moss-map", 8), head("dew-point", 0));
        let found = histories(&text).unwrap();
        assert_eq!(
            (found[0].2.as_str(), found[0].1.as_str(), found[1].2.as_str()),
            ("one\ntwo\n", "\"1\"", "")
        );
        for broken in [&text[..text.len() - 2], &text.replace(":8", ":9"), "{}\n", "\u{e4}"] {
            assert!(histories(broken).is_none(), "{broken}");
        }
    }
}
