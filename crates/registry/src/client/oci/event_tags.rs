//! Histories in a container registry, one tag per event.
//!
//! Each event is an artifact of its own, which nobody else writes; the tag `index` names the whole history, so that reading takes
//! one request. Such registries can't replace a tag only if it is as it was, so two who write an index at once may each leave out
//! what the other has. A client that has written one therefore looks again, at the tags and at the index, until nothing is left out: the
//! last writer sees all. A history only ever gets longer lines at its end.

use std::collections::BTreeSet;
use std::thread;
use std::time::Duration;

use bibliotax_core::card::{Card, Event};
use bibliotax_core::digest::Digest;
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use rayon::prelude::*;

use super::Oci;
use super::artifact::{Manifest, kind};
use super::tags::{INDEX, is_of_event, tag_of};
use crate::model::error::RegistryError;
use crate::model::history_limits::{MAX_HISTORY_SIZE, checked_line, line_of};
use crate::model::jitter::share_of;
use crate::model::storage::{MAX_CARD_SIZE, read_history};

/// Largest event that is read, in bytes.
const MAX_EVENT_SIZE: u64 = 1 << 20;

/// How often an index is looked at again before its writer gives up.
const MAX_LOOKS: u32 = 30;

/// Most that is waited before the next look, once others write, too.
const MAX_WAIT: Duration = Duration::from_millis(400);

impl Oci {
    /// The whole lines of a package's history; `None` if the registry doesn't hold the name.
    pub fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        let repository = self.repository(package);
        let index = self.distribution.artifact(&repository, INDEX)?;
        index.map(|index| self.lines(&repository, &index)).transpose()
    }

    /// Makes the index name all events of a package, and says what it has then; nothing of a package that isn't there.
    pub(super) fn bring_up_to_date(&self, package: &PackageName) -> Result<(String, History), RegistryError> {
        let repository = self.repository(package);
        for look in 0..MAX_LOOKS {
            if look > 1 {
                thread::sleep(share_of(MAX_WAIT));
            }
            let index = self.distribution.artifact_now(&repository, INDEX)?;
            let text = index.map_or(Ok(String::new()), |index| self.lines(&repository, &index))?;
            let mut history = self.folded(package, &text)?;
            let added = appended(package, &mut history, self.left_out(&repository, &text)?);
            if added.is_empty() {
                return Ok((text, history));
            }
            let index = text + &added;
            self.distribution.put_text_artifact(&repository, INDEX, kind::HISTORY, &index)?;
        }
        Err(self
            .distribution
            .client()
            .wrong(&format!("the index of {package} is written over again and again")))
    }

    /// Puts an event where the next update of the index finds it.
    pub(super) fn put_event(&self, package: &PackageName, event: &Event) -> Result<(), RegistryError> {
        let line = checked_line(package, event)?;
        self.distribution.put_text_artifact(&self.repository(package), &tag_of(event), kind::EVENT, &line)
    }

    /// The history that lines come to, as it was at a time.
    pub(super) fn folded(&self, package: &PackageName, text: &str) -> Result<History, RegistryError> {
        read_history(package, text, None, || self.place_of(package))
    }

    /// The lines that an index names.
    fn lines(&self, repository: &str, index: &Manifest) -> Result<String, RegistryError> {
        let blob = index.blob(kind::HISTORY);
        let blob =
            blob.ok_or_else(|| self.distribution.client().wrong("its index isn't that of a history"))?;
        self.distribution.text(repository, blob, MAX_HISTORY_SIZE as u64)
    }

    /// The events that have a tag and no line in an index.
    fn left_out(&self, repository: &str, text: &str) -> Result<Vec<Event>, RegistryError> {
        let events = text.lines().filter_map(|line| serde_json::from_str(line).ok());
        let known: BTreeSet<String> = events.map(|event: Event| tag_of(&event)).collect();
        let tags = self.distribution.tags(repository)?;
        let left_out: Vec<String> =
            tags.into_iter().filter(|tag| is_of_event(tag) && !known.contains(tag)).collect();
        let events = left_out.par_iter().map(|tag| self.event(repository, tag));
        Ok(events.collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect())
    }

    /// The event that a tag names; `None` if it names something else.
    fn event(&self, repository: &str, tag: &str) -> Result<Option<Event>, RegistryError> {
        let Some(manifest) = self.distribution.artifact_now(repository, tag)? else { return Ok(None) };
        if let Some(blob) = manifest.blob(kind::EVENT) {
            let line = self.distribution.text(repository, blob, MAX_EVENT_SIZE)?;
            return Ok(serde_json::from_str(&line).ok());
        }
        let Some(blob) = manifest.blob(kind::CARD) else { return Ok(None) };
        let text = self.distribution.text(repository, blob, MAX_CARD_SIZE)?;
        let card = serde_json::from_str::<Card>(&text).ok();
        Ok(card.map(|card| Event::Release(Box::new(card.entry(Digest::of(text.as_bytes()))))))
    }
}

/// Adds events to a history as far as they go with it, the earliest first; their lines.
fn appended(package: &PackageName, history: &mut History, mut events: Vec<Event>) -> String {
    // What happened in one second happened to something that was there.
    let rank = |event: &Event| !matches!(event, Event::Release(_) | Event::Provided(_));
    events.sort_by_cached_key(|event| (event.at(), rank(event), tag_of(event)));
    let mut lines = String::new();
    // Clocks differ: what seems to come before its release comes after it.
    for _ in 0..2 {
        events.retain(|event| {
            let goes = history.apply(package, event.clone()).is_ok();
            if goes {
                lines += &(line_of(event) + "\n");
            }
            !goes
        });
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    fn event(text: &str) -> Event {
        serde_json::from_str(text).unwrap()
    }

    #[test]
    fn events_are_appended_in_their_order_and_only_once() {
        let package: PackageName = "moss-map".parse().unwrap();
        let card = Digest::of(b"card");
        let release = |version: &str, day: &str| {
            event(&format!(
                r#"{{"event":"release","name":"moss-map","version":"{version}","published":"2026-03-{day}T08:00:00Z","card":"{card}"}}"#
            ))
        };
        let withdrawn =
            event(r#"{"event":"withdrawn","version":"1.1.0","reason":"wet","at":"2026-03-02T08:00:00Z"}"#);
        let events = vec![release("1.1.0", "03"), withdrawn, release("1.0.0", "01"), release("1.0", "04")];
        let mut history = History::default();
        let lines = appended(&package, &mut history, events.clone());
        let kinds: Vec<&str> = lines.lines().map(|line| &line[10..17]).collect();
        assert_eq!(kinds, ["release", "release", "withdra"], "{lines}");
        assert!(history.release(&"1.1".parse().unwrap()).unwrap().withdrawn.is_some());
        assert_eq!(history.releases().len(), 2, "1.0 is 1.0.0, which came first");
        assert_eq!(appended(&package, &mut history, vec![release("1.0", "04")]), "");
        assert_eq!(History::read(&package, &lines, None).unwrap().releases().len(), 2);
    }
}
