//! Admits a release whose files are stored: checks it and appends its event. The last step of publishing, wherever it happens.

use std::panic::resume_unwind;
use std::sync::Arc;
use std::thread;

use bibliotax_core::card::{Card, Event, Provider};
use bibliotax_core::digest::Digest;
use bibliotax_core::name::PackageName;

use crate::model::error::RegistryError;
use crate::model::inspect::check_archives;
use crate::model::layout::card_text;
use crate::model::release_check::{CheckedFor, check_is_capability, refuse_second};
use crate::model::storage::{ReadRegistryExt, RegistryStorage, WriteRegistryExt};

/// Makes a card a release whose files are there, once it and all of them are checked; the event that does so comes last. Whether
/// this very release was there already; a release that exists is never replaced. While a new one is listed, `meanwhile` does what
/// else is to be done then.
pub fn admit_release(
    registry: &Arc<dyn RegistryStorage>,
    card: &Card,
    meanwhile: impl FnOnce() -> Result<(), RegistryError>,
) -> Result<bool, RegistryError> {
    let capabilities = card.provides.iter().map(|provided| provided.name.clone());
    let names: Vec<PackageName> = [card.name.clone()].into_iter().chain(capabilities).collect();
    if has_release(registry, card)? || !append_release(registry, card)? {
        // Who published it first may have been stopped before it was listed.
        registry.complete_name_list(&names)?;
        return Ok(true);
    }
    thread::scope(|scope| {
        let noted = scope.spawn(|| registry.update_name_list(&names));
        let done = meanwhile();
        // Only what panicked has no result; that goes on here.
        noted.join().unwrap_or_else(|panic| resume_unwind(panic))?;
        done
    })?;
    registry.mark_released(card)?;
    Ok(false)
}

/// Whether the registry has this very release already; an error unless it can take it, with all its files.
fn has_release(registry: &Arc<dyn RegistryStorage>, card: &Card) -> Result<bool, RegistryError> {
    let facets = registry.all_facets();
    let checked_for = CheckedFor {
        name: registry.name(),
        facets: &facets,
        history: |name: &PackageName| registry.recent_history(name),
        card_text: |digest: &Digest| registry.card_text(digest),
    };
    if checked_for.has_release(card, true)? {
        return Ok(true);
    }
    let mut missing = Vec::new();
    for file in card.files.iter().filter(|file| !file.is_elsewhere()) {
        if !registry.has_releasable_file(&file.sha256)? {
            missing.push(file.sha256);
        }
    }
    if !missing.is_empty() {
        return Err(RegistryError::MissingFiles { digests: missing });
    }
    check_archives(card, &registry.scratch()?, &|file| registry.open_file(&file.sha256))?;
    Ok(false)
}

/// Appends a release to its package's history; whether it wasn't there.
fn append_release(registry: &Arc<dyn RegistryStorage>, card: &Card) -> Result<bool, RegistryError> {
    let text = |digest: &Digest| registry.card_text(digest);
    let (digest, _) = registry.keep(registry.stage_bytes(card_text(card).as_bytes())?)?;
    // A provider whose release is not there yet harms nobody; a release that its capability doesn't know would.
    card.provides.iter().try_for_each(|provided| provide(&**registry, card, &provided.name))?;
    let appended = registry.append(&card.name, &mut |history| {
        let is_there = refuse_second(card, history, true, text)?;
        let release = (!is_there).then(|| Event::Release(Box::new(card.entry(digest))));
        Ok(release.into_iter().collect())
    })?;
    Ok(appended > 0)
}

/// Notes with a capability that a package provides it.
fn provide(
    registry: &dyn RegistryStorage,
    card: &Card,
    capability: &PackageName,
) -> Result<(), RegistryError> {
    let provider = Provider { by: card.name.clone(), at: card.published };
    registry.append(capability, &mut |history| {
        check_is_capability(capability, history)?;
        let is_known = history.providers().contains(&provider.by);
        Ok(if is_known { vec![] } else { vec![Event::Provided(provider.clone())] })
    })?;
    Ok(())
}
