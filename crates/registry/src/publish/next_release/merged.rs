//! A release of another registry, with what the catalogue says otherwise.

use std::collections::BTreeSet;
use std::path::PathBuf;

use bibliotax_core::card::{Card, FileRecord};
use bibliotax_core::name::PackageName;
use serde_json::{Map, Value};

use super::NextRelease;
use crate::catalogue::registry::Registry;
use crate::catalogue::upstream_releases::{Upstream, UpstreamRelease};
use crate::model::error::RegistryError;

/// What a card says that follows from the release itself, not from how it is presented.
const FACTS: [&str; 10] = [
    "license",
    "needs",
    "components",
    "provides",
    "conflicts",
    "fits",
    "programs",
    "exposes",
    "steps",
    "upstream",
];

/// The release of another registry as one of the catalogue. What the catalogue said otherwise of the release that both have is said of
/// the new one, too; all else is as it is there.
pub fn merged(
    upstream: &Upstream<'_>,
    card: &Card,
    url: &str,
    there: &PackageName,
    release: &UpstreamRelease,
) -> Result<NextRelease, RegistryError> {
    let (registry, history) = upstream.registry(&card.name, url, there)?;
    let card_of = |version| -> Result<Option<Card>, RegistryError> {
        let Some(release) = history.release(version) else { return Ok(None) };
        let digest = release.entry.card;
        let text = registry.card_text(there, &digest)?;
        let wrong = |_| RegistryError::WrongCard { package: there.clone(), digest };
        serde_json::from_str(&text).map(Some).map_err(wrong)
    };
    let gone = || RegistryError::NothingToFollow {
        url: url.to_owned(),
        what: format!("it has no {there} {} any more", release.version),
    };
    let new = card_of(&release.version)?.ok_or_else(gone)?;
    let old = card_of(&card.version)?;
    let files = new.files.clone();
    let archives = files.iter().map(|file| archive(upstream, &registry, there, file));
    let archives = archives.collect::<Result<Vec<PathBuf>, RegistryError>>()?;
    let merged = Card {
        name: card.name.clone(),
        version: new.version.clone(),
        upstream_version: new.upstream_version.clone(),
        notes: new.notes.clone(),
        files,
        ..three_way(card, old.as_ref(), &new)
    };
    Ok(NextRelease { card: merged, archives, at: release.at })
}

/// A card with what is said there now, but for what we said otherwise than it was said there; what we say nothing of is as it is there.
fn three_way(ours: &Card, old: Option<&Card>, new: &Card) -> Card {
    let fields = |card: &Card| match serde_json::to_value(card) {
        Ok(Value::Object(fields)) => fields,
        _ => Map::new(),
    };
    let (own, old, new) = (fields(ours), old.map(fields), fields(new));
    let mut merged = Map::new();
    let keys: BTreeSet<&String> = own.keys().chain(new.keys()).collect();
    for key in keys {
        let takes_new = match &old {
            _ if !own.contains_key(key) => true,
            Some(old) => own.get(key) == old.get(key),
            None => FACTS.contains(&key.as_str()),
        };
        let value = if takes_new { new.get(key) } else { own.get(key) };
        merged.extend(value.map(|value| (key.clone(), value.clone())));
    }
    // Each field is one of a card, so all together are a card.
    serde_json::from_value(Value::Object(merged)).unwrap_or_else(|_| ours.clone())
}

fn archive(
    upstream: &Upstream<'_>,
    registry: &Registry,
    there: &PackageName,
    file: &FileRecord,
) -> Result<PathBuf, RegistryError> {
    let sources = upstream.sources;
    if let Some(path) = sources.kept_archive(&file.sha256) {
        return Ok(path);
    }
    let Some(url) = &file.url else {
        let content = registry.open_archive_anywhere(there, &file.archive())?;
        return sources.take_in(there, &file.sha256, content);
    };
    let fetched = sources.archive_again(there, url, upstream.is_inside)?;
    if fetched.archive.sha256 == file.sha256 {
        return Ok(fetched.path);
    }
    Err(RegistryError::WrongBytes { package: there.clone(), digest: file.sha256 })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn card(version: &str, more: &str) -> Card {
        let text =
            format!(r#"{{"name":"moss","version":"{version}","published":"2026-10-02T08:00:00Z"{more}}}"#);
        serde_json::from_str(&text).unwrap()
    }

    #[test]
    fn what_the_catalogue_says_otherwise_stays_and_all_else_is_as_it_is_there() {
        let ours = card("1.0", r#","license":"MIT","summary":"Ours","homepage":"https://moss.example""#);
        let old = card("1.0", r#","license":"MIT","summary":"Theirs","homepage":"https://moss.example""#);
        let new = card("1.1", r#","license":"ISC","summary":"Theirs again","tags":["map"]"#);
        let merged = three_way(&ours, Some(&old), &new);
        assert_eq!(merged.license.unwrap().to_string(), "ISC", "changed there");
        assert_eq!(merged.summary.as_deref(), Some("Ours"), "changed here");
        assert_eq!((merged.homepage, merged.tags.len()), (None, 1), "gone and new there");
        let unknown = three_way(&ours, None, &new);
        assert_eq!((unknown.summary.as_deref(), unknown.tags.len()), (Some("Ours"), 1));
        assert_eq!(unknown.license.unwrap().to_string(), "ISC", "a fact of the release");
    }
}
