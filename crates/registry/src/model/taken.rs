//! Whether a version or a name is taken already.

use std::collections::BTreeSet;

use bibliotax_core::card::Card;
use bibliotax_core::digest::Digest;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use serde_json::{Map, Value};

use super::error::RegistryError;

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
