//! Everything that some needs can reach, in one answer: a client that has nothing yet asks once instead of level by level.
//!
//! Reached is whatever any release needs that the range on the way accepts, components and conditions included: too much
//! rather than too little, for it is only a guess at what resolving will ask for.

use std::collections::{HashMap, HashSet, VecDeque};

use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::MOST_PROVIDERS;
use bibliotax_registry::keep::Keep;
use serde::Deserialize;
use serde_json::json;

use crate::hot::tag_of;
use crate::problem::Problem;

/// Most packages in one answer.
const MOST_PACKAGES: usize = 20_000;

/// Most bytes in one answer; whoever needs more asks for the rest one by one.
const MOST_BYTES: usize = 256 << 20;

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
pub fn closure(registry: &dyn Keep, asked: Asked) -> Result<String, Problem> {
    let mut answer = String::new();
    let mut histories: HashMap<PackageName, Option<History>> = HashMap::new();
    let mut reached: HashSet<(PackageName, String)> = HashSet::new();
    let needs: Vec<(PackageName, Range)> =
        asked.needs.into_iter().map(|need| (need.name, need.range)).collect();
    registry.foresee(&needs);
    let mut open = VecDeque::from(needs);
    while let Some((name, range)) = open.pop_front() {
        if !reached.insert((name.clone(), range.to_string())) {
            continue;
        }
        if !histories.contains_key(&name) {
            if histories.len() == MOST_PACKAGES || answer.len() > MOST_BYTES {
                break;
            }
            let text = registry.history_text(&name)?;
            if let Some(text) = &text {
                let head = json!({ "package": name, "bytes": text.len(), "tag": tag_of(text) });
                answer += &format!("{head}\n{text}");
            }
            let history = text.and_then(|text| History::read(&name, &text, None).ok());
            histories.insert(name.clone(), history);
        }
        let Some(Some(history)) = histories.get(&name) else { continue };
        // Of more, the client seeks only those that were chosen, and asks for these.
        if history.providers().len() <= MOST_PROVIDERS {
            open.extend(history.providers().iter().map(|provider| (provider.clone(), Range::any())));
        }
        let set = range.set(true);
        for release in history.releases().iter().filter(|release| set.contains(release.entry.version.point()))
        {
            let needs = release.entry.all_running_needs();
            open.extend(needs.map(|need| (need.name.clone(), need.range.clone())));
        }
    }
    Ok(answer)
}
