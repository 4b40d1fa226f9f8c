//! Whether a registry can take a release: the one check that publishers make before they upload anything, and registries before
//! they admit it.

use std::collections::BTreeSet;

use bibliotax_core::card::{Card, Provided};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facets;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use serde_json::{Map, Value};

use super::card_check::check_card;
use super::error::RegistryError;

/// The registry that a release is checked for.
pub(crate) struct CheckedFor<'r, H, T> {
    /// Its name.
    pub name: &'r str,
    /// The facets that its cards speak of.
    pub facets: &'r Facets,
    /// Reads the history of a package.
    pub history: H,
    /// Reads the card of this digest.
    pub card_text: T,
}

impl<H, T> CheckedFor<'_, H, T>
where
    H: Fn(&PackageName) -> Result<Option<History>, RegistryError>,
    T: Fn(&Digest) -> Result<Option<String>, RegistryError>,
{
    /// Whether the registry has this very release already; an error where it can't take it: another release has its version or a
    /// name that it claims, or its card isn't what the registry wants.
    ///
    /// Before the archives are made nothing is known of them: then they are compared no further than `with_files` says.
    pub fn has_release(&self, card: &Card, with_files: bool) -> Result<bool, RegistryError> {
        let history = (self.history)(&card.name)?.unwrap_or_default();
        if refuse_second(card, &history, with_files, &self.card_text)? {
            return Ok(true);
        }
        check_card(self.name, self.facets, card)?;
        for Provided { name, .. } in &card.provides {
            check_is_capability(name, &(self.history)(name)?.unwrap_or_default())?;
        }
        Ok(false)
    }
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
