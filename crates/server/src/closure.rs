//! Everything that some needs can reach, in one answer: a client with an empty cache asks once instead of level by level.
//!
//! Reached is everything that any accepted release needs, components and conditions included: too much
//! rather than too little, for it is only a guess at what resolving will ask for.

use std::collections::{HashMap, HashSet, VecDeque};

use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::MAX_PROVIDERS;
use bibliotax_registry::model::storage::ReadRegistry;
use serde::Deserialize;
use serde_json::json;

use crate::history_cache::tag_of;
use crate::problem::Problem;

/// Most packages in one answer.
const MAX_PACKAGES: usize = 20_000;

/// Most bytes in one answer; a client that needs more asks for the rest one by one.
const MAX_BYTES: usize = 64 << 20;

/// What is asked for.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Asked {
    /// The needs to begin with.
    pub needs: Vec<AskedNeed>,
}

/// A need to begin with.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AskedNeed {
    /// The package.
    pub name: PackageName,
    /// The versions that will do.
    pub range: Range,
}

/// The histories of all that the needs reach: for each package a line `{"package": …, "bytes": …, "tag": …}` with the
/// validator of its history, then its lines.
/// Ends early where `has_left` says that nobody waits for it any more.
pub fn closure(
    registry: &dyn ReadRegistry,
    asked: Asked,
    has_left: &dyn Fn() -> bool,
) -> Result<String, Problem> {
    let mut answer = String::new();
    let mut histories: HashMap<PackageName, Option<History>> = HashMap::new();
    let mut reached: HashSet<(PackageName, String)> = HashSet::new();
    let needs: Vec<(PackageName, Range)> =
        asked.needs.into_iter().map(|need| (need.name, need.range)).collect();
    registry.prefetch_closure(&needs);
    let mut open = VecDeque::new();
    let mut reach = |open: &mut VecDeque<(PackageName, Range)>, name: &PackageName, range: &Range| {
        if reached.insert((name.clone(), range.to_string())) {
            open.push_back((name.clone(), range.clone()));
        }
    };
    needs.iter().for_each(|(name, range)| reach(&mut open, name, range));
    while let Some((name, range)) = open.pop_front() {
        if has_left() {
            break;
        }
        if !histories.contains_key(&name) {
            let text = registry.history_text(&name)?;
            let more = text.as_ref().map_or(0, String::len);
            if histories.len() == MAX_PACKAGES || answer.len() + more > MAX_BYTES {
                break;
            }
            if let Some(text) = &text {
                let head = json!({ "package": name, "bytes": text.len(), "tag": tag_of(text) });
                answer += &format!("{head}\n{text}");
            }
            let history = text.and_then(|text| History::read(&name, &text, None).ok());
            histories.insert(name.clone(), history);
        }
        let Some(Some(history)) = histories.get(&name) else { continue };
        // Of more, the client seeks only those that were chosen, and asks for these.
        if history.providers().len() <= MAX_PROVIDERS {
            history.providers().iter().for_each(|provider| reach(&mut open, provider, &Range::any()));
        }
        let set = range.set(true);
        for release in history.releases().iter().filter(|release| set.contains(release.entry.version.point()))
        {
            let needs = release.entry.all_running_needs();
            needs.for_each(|need| reach(&mut open, &need.name, &need.range));
        }
    }
    Ok(answer)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use bibliotax_core::card::Event;
    use bibliotax_core::digest::Digest;
    use bibliotax_registry::storage::folder::Folder;

    use bibliotax_registry::model::storage::WriteRegistry;

    use super::*;

    #[test]
    fn what_is_needed_is_in_it_once_and_nothing_where_nobody_waits() {
        let folder = tempfile::tempdir().unwrap();
        let registry = Folder::create(&folder.path().join("r"), "seedhouse", BTreeMap::new()).unwrap();
        let publish = |name: &str, version: &str, needs: &[&str]| {
            let needs: Vec<_> = needs.iter().map(|name| json!({ "name": name, "range": "1" })).collect();
            let entry = json!({ "name": name, "version": version, "published": "2026-03-01T08:00:00Z",
                "card": Digest::of(b"card"), "needs": needs });
            let event = Event::Release(Box::new(serde_json::from_value(entry).unwrap()));
            registry.append(&name.parse().unwrap(), &mut |_| Ok(vec![event.clone()])).unwrap();
        };
        for version in ["1.0.0", "1.1.0", "1.2.0"] {
            publish("rain-ledger", version, &["dew-point", "moss-map"]);
            publish("moss-map", version, &["dew-point"]);
        }
        publish("dew-point", "1.0.0", &["rain-ledger"]);
        let asked =
            || serde_json::from_value(json!({ "needs": [{ "name": "rain-ledger", "range": "1" }] })).unwrap();
        let answer = closure(&registry, asked(), &|| false).unwrap();
        for name in ["rain-ledger", "moss-map", "dew-point"] {
            assert_eq!(answer.matches(&format!("\"package\":\"{name}\"")).count(), 1, "{answer}");
        }
        assert_eq!(closure(&registry, asked(), &|| true).unwrap(), "");
    }
}
