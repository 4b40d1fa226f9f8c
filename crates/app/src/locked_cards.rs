//! The cards of what a lock has.

use std::collections::BTreeMap;
use std::sync::Arc;

use bibliotax_core::card::Card;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::client::http::Cards;
use bibliotax_registry::model::error::RegistryError;
use bibliotax_registry::sources::direct_sources::Freshness;
use rayon::prelude::*;

use crate::environment::Environment;
use crate::failure::Failure;
use crate::workspace::WorkspaceFolder;

/// Cards by the names of their packages.
pub type LockedCards = BTreeMap<PackageName, Card>;

/// The cards of a lock's packages: those that the store has, the others from where they were published, held against the digests in the
/// lock. A package that has no card, such as one in a folder without a manifest, isn't in it.
pub fn locked_cards(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    environment: &Environment,
) -> Result<LockedCards, Failure> {
    let cards = Cards::of(&environment.registries_folder()?);
    let read: Vec<Option<Card>> =
        lock.packages.par_iter().map(|package| cards.card(&package.card?)).collect();
    let missing: Vec<&LockedPackage> = lock
        .packages
        .iter()
        .zip(&read)
        .filter(|(_, card)| card.is_none())
        .map(|(package, _)| package)
        .collect();
    let published = published(&missing, workspace, environment)?;
    let named = |(package, card): (&LockedPackage, Option<Card>)| Some((package.name.clone(), card?));
    Ok(lock.packages.iter().zip(read).filter_map(named).chain(published).collect())
}

/// The cards of packages from where they were published.
fn published(
    packages: &[&LockedPackage],
    workspace: &WorkspaceFolder,
    environment: &Environment,
) -> Result<LockedCards, Failure> {
    if packages.is_empty() {
        return Ok(LockedCards::new());
    }
    let registries =
        workspace.open_registries(&workspace.declared, Freshness::Locked, &environment.network())?;
    let named = |package: &&LockedPackage| {
        Ok(published_card(package, &registries)?.map(|card| (package.name.clone(), card)))
    };
    packages.par_iter().map(named).filter_map(Result::transpose).collect()
}

/// The card of a package as it was published.
fn published_card(package: &LockedPackage, registries: &Registries) -> Result<Option<Card>, Failure> {
    let LockedPackage { name, source, version, .. } = package;
    if let (Some(digest), Some(_)) = (package.card, source.registry()) {
        let text = registries.card_text(name, source, &digest)?;
        let wrong = |_| RegistryError::WrongCard { package: name.clone(), digest };
        return Ok(Some(serde_json::from_str(&text).map_err(wrong)?));
    }
    let listing = match registries.listing_in_store(name)? {
        Some(listing) => Some(Arc::new(listing)),
        None => registries.listing(name)?,
    };
    let Some(listing) = listing else { return Ok(None) };
    match listing.history.release(version) {
        Some(release) if package.card.is_none_or(|digest| digest == release.entry.card) => {
            Ok(Some(registries.card(&listing, release)?))
        }
        _ => Ok(None),
    }
}
