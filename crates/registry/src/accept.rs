//! Taking a release into a registry whose files are there: the last step of publishing, wherever it happens.

use std::collections::BTreeSet;
use std::panic::resume_unwind;
use std::sync::Arc;
use std::thread;

use bibliotax_core::card::{Card, Event, Provided, Provider};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facets;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use serde_json::{Map, Value};

use crate::check::check_card;
use crate::error::RegistryError;
use crate::keep::Keep;

/// Whether what a card says goes with what the registry defines and holds.
pub(crate) fn check_claims(
    registry: &str,
    facets: &Facets,
    card: &Card,
    history: impl Fn(&PackageName) -> Result<Option<History>, RegistryError>,
) -> Result<(), RegistryError> {
    check_card(registry, facets, card)?;
    for Provided { name, .. } in &card.provides {
        check_is_capability(name, &history(name)?.unwrap_or_default())?;
    }
    Ok(())
}

/// Makes a card a release, the event that does so last; whether this very release was there already. A release that
/// exists is never replaced. While a new one is listed, `meanwhile` does what else is to be done then.
pub fn accept(
    registry: &Arc<dyn Keep>,
    card: &Card,
    meanwhile: impl FnOnce() -> Result<(), RegistryError>,
) -> Result<bool, RegistryError> {
    let (is_there, names) = append_release(registry, card)?;
    if is_there {
        // Who published it first may have been stopped before it was listed.
        registry.note_missing_names(&names)?;
        return Ok(true);
    }
    thread::scope(|scope| {
        let noted = scope.spawn(|| registry.note_names(&names));
        let done = meanwhile();
        // Only what panicked has no result; that goes on here.
        noted.join().unwrap_or_else(|panic| resume_unwind(panic))?;
        done
    })?;
    registry.unmark(card)?;
    Ok(false)
}

/// Appends a release to its package's history, once all that it names is there; whether it was there already, and the names that it
/// concerns.
fn append_release(registry: &Arc<dyn Keep>, card: &Card) -> Result<(bool, Vec<PackageName>), RegistryError> {
    let text = |digest: &Digest| registry.card_text(digest);
    let capabilities = card.provides.iter().map(|provided| provided.name.clone());
    let names: Vec<PackageName> = [card.name.clone()].into_iter().chain(capabilities).collect();
    if refuse_second(card, &registry.history_of_late(&card.name)?.unwrap_or_default(), true, text)? {
        return Ok((true, names));
    }
    check_claims(registry.name(), &registry.all_facets(), card, |name| registry.history_of_late(name))?;
    for file in card.files.iter().filter(|file| !file.is_elsewhere()) {
        if !registry.has_file_to_release(&file.sha256)? {
            return Err(RegistryError::NoFile { digest: file.sha256, path: registry.place() });
        }
    }
    let (digest, _) = registry.keep(registry.stage_bytes(card_text(card).as_bytes())?)?;
    // A provider whose release is not there yet harms nobody; a release that its capability doesn't know would.
    card.provides.iter().try_for_each(|provided| provide(&**registry, card, &provided.name))?;
    let appended = registry.append(&card.name, &mut |history| {
        let is_there = refuse_second(card, history, true, text)?;
        let release = (!is_there).then(|| Event::Release(Box::new(card.entry(digest))));
        Ok(release.into_iter().collect())
    })?;
    Ok((appended == 0, names))
}

/// Notes with a capability that a package provides it.
fn provide(registry: &dyn Keep, card: &Card, capability: &PackageName) -> Result<(), RegistryError> {
    let provider = Provider { by: card.name.clone(), at: card.published };
    registry.append(capability, &mut |history| {
        check_is_capability(capability, history)?;
        let is_known = history.providers().contains(&provider.by);
        Ok(if is_known { vec![] } else { vec![Event::Provided(provider.clone())] })
    })?;
    Ok(())
}

/// Whether the registry has this very release already, whose card `card_of` reads; an error that says what is another if it has
/// another by this version. The time of publishing is the registry's.
///
/// Before the archives are made nothing is known of them.
pub(crate) fn refuse_second(
    card: &Card,
    history: &History,
    with_files: bool,
    card_of: impl Fn(&Digest) -> Result<Option<String>, RegistryError>,
) -> Result<bool, RegistryError> {
    if !history.providers().is_empty() {
        let name = card.name.clone();
        return Err(RegistryError::NameTaken { name, there: "capability", wanted: "package" });
    }
    let Some(there) = history.release(&card.version) else { return Ok(false) };
    let known = card_of(&there.entry.card)?.and_then(|text| serde_json::from_str::<Card>(&text).ok());
    let mut differing = known.map_or_else(|| vec!["card".to_owned()], |known| differing(&known, card));
    differing.retain(|key| key != "published" && (with_files || key != "files"));
    if differing.is_empty() {
        return Ok(true);
    }
    let (package, version) = (card.name.clone(), card.version.clone());
    Err(RegistryError::Exists { package, version, differing })
}

/// What two cards say differently, by the keys of their texts.
fn differing(one: &Card, other: &Card) -> Vec<String> {
    // Texts, lists and maps with text keys: nothing in a card can fail to be JSON.
    let fields = |card: &Card| match serde_json::to_value(card) {
        Ok(Value::Object(fields)) => fields,
        _ => Map::new(),
    };
    let (one, other) = (fields(one), fields(other));
    let keys: BTreeSet<&String> = one.keys().chain(other.keys()).collect();
    keys.into_iter().filter(|key| one.get(*key) != other.get(*key)).cloned().collect()
}

/// Whether a name can be a capability's.
pub(crate) fn check_is_capability(name: &PackageName, history: &History) -> Result<(), RegistryError> {
    if history.releases().is_empty() {
        return Ok(());
    }
    Err(RegistryError::NameTaken { name: name.clone(), there: "package", wanted: "capability" })
}

/// A card as its file holds it.
pub fn card_text(card: &Card) -> String {
    // Texts, lists and maps with text keys: nothing in a card can fail to be JSON.
    serde_json::to_string(card).unwrap_or_default() + "\n"
}
