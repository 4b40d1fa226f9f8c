//! Taking a release into a registry whose files are there: the last step of publishing, wherever it happens.

use std::panic::resume_unwind;
use std::sync::Arc;
use std::thread;

use bibliotax_core::card::{Card, Event, Provided, Provider};
use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facets;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;

use crate::model::check::check_card;
use crate::model::error::RegistryError;
use crate::model::keep::Keep;
use crate::model::layout::card_text;
use crate::model::taken::{check_is_capability, refuse_second};

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
