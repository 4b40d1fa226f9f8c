//! The cards of what a lock has.

use std::collections::BTreeMap;
use std::sync::Arc;

use bibliotax_core::card::Card;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::client::http::Cards;
use bibliotax_registry::sources::direct_sources::Freshness;
use rayon::prelude::*;

use crate::environment::Environment;
use crate::failure::Failure;
use crate::workspace::WorkspaceFolder;

/// The cards of a lock's packages, by name: those that the store has, the others from where they were published, held against the
/// digests in the lock. A package that has no card, such as one in a folder without a manifest, isn't in it.
pub fn locked_cards(
    workspace: &WorkspaceFolder,
    lock: &Lock,
    environment: &Environment,
) -> Result<BTreeMap<PackageName, Card>, Failure> {
    let cards = Cards::of(&environment.registries_folder()?);
    let in_store =
        |package: &LockedPackage| -> Option<Card> { serde_json::from_str(&cards.read(&package.card?)?).ok() };
    let read: Vec<Option<Card>> = lock.packages.par_iter().map(in_store).collect();
    let mut registries = None;
    let mut found = BTreeMap::new();
    for (package, card) in lock.packages.iter().zip(read) {
        let card = match card {
            Some(card) => Some(card),
            None => {
                let opened = match &registries {
                    Some(opened) => opened,
                    None => registries.insert(open(workspace, environment)?),
                };
                published(package, opened)?
            }
        };
        found.extend(card.map(|card| (package.name.clone(), card)));
    }
    Ok(found)
}

fn open(workspace: &WorkspaceFolder, environment: &Environment) -> Result<Registries, Failure> {
    Ok(workspace.open_registries(&workspace.declared, Freshness::Locked, &environment.network())?)
}

/// The card of a package as it was published.
fn published(package: &LockedPackage, registries: &Registries) -> Result<Option<Card>, Failure> {
    let listing = match registries.listing_in_store(&package.name)? {
        Some(listing) => Some(Arc::new(listing)),
        None => registries.listing(&package.name)?,
    };
    let Some(listing) = listing else { return Ok(None) };
    match listing.history.release(&package.version) {
        Some(release) if package.card.is_none_or(|digest| digest == release.entry.card) => {
            Ok(Some(registries.card(&listing, release)?))
        }
        _ => Ok(None),
    }
}
