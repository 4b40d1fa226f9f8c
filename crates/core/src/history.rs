//! A package's history: its events, folded into its releases and their status.

use std::collections::BTreeSet;

use jiff::Timestamp;
use serde_json::error::Category;

use crate::card::{Deprecation, Entry, Event, FileRecord, Revision, Withdrawal};
use crate::digest::Digest;
use crate::name::PackageName;
use crate::range::Range;
use crate::version::Version;

/// A release as a registry has it today.
#[derive(Debug, Clone)]
pub struct Release {
    /// What was published.
    pub entry: Entry,
    /// That it was withdrawn, if it was and has not been restored.
    pub withdrawn: Option<Withdrawal>,
    /// That it is deprecated, by the newest such event that concerns it.
    pub deprecated: Option<Deprecation>,
    /// The cards that it had, the first one first and the one of today last; empty where its card was never corrected.
    pub revisions: Vec<CardRevision>,
}

/// A card that a release has or had.
#[derive(Debug, Clone)]
pub struct CardRevision {
    /// What it says.
    pub entry: Entry,
    /// Since when it holds.
    pub at: Timestamp,
    /// Why it took the place of the card before it; none of the card as published.
    pub reason: Option<String>,
}

impl Release {
    /// A release as it was published.
    pub fn new(entry: Entry) -> Self {
        Self { entry, withdrawn: None, deprecated: None, revisions: Vec::new() }
    }

    /// Whether it has this card, or had it once.
    pub fn has_had(&self, card: &Digest) -> bool {
        self.entry.card == *card || self.revisions.iter().any(|revision| revision.entry.card == *card)
    }

    /// What its cards say: the one of now, and all that it had.
    pub fn entries(&self) -> impl Iterator<Item = &Entry> {
        let earlier = self.revisions.iter().map(|revision| &revision.entry);
        [&self.entry].into_iter().chain(earlier.filter(|entry| entry.card != self.entry.card))
    }

    /// The release with the newest of its cards.
    pub fn corrected(&self) -> Self {
        let newest = self.revisions.last().map(|revision| revision.entry.clone());
        Self { entry: newest.unwrap_or_else(|| self.entry.clone()), ..self.clone() }
    }

    /// The corrections of its card since it had this one, the earliest first.
    pub fn corrections_since(&self, card: &Digest) -> &[CardRevision] {
        let at = self.revisions.iter().rposition(|revision| revision.entry.card == *card);
        at.map_or(&[], |at| &self.revisions[at + 1..])
    }

    /// Goes back to a card that it had.
    fn pin(&mut self, card: &Digest) {
        if let Some(revision) = self.revisions.iter().rfind(|revision| revision.entry.card == *card) {
            self.entry = revision.entry.clone();
        }
    }

    /// Takes in a corrected card; the reason if it isn't one of this release.
    fn revise(&mut self, revision: Revision) -> Result<(), String> {
        let Revision { entry, reason, at } = revision;
        let of = |entry: &Entry| (entry.name.clone(), entry.version.as_str().to_owned(), entry.published);
        if of(&entry) != of(&self.entry) {
            return Err(format!("another card of {} has another name, version or time", entry.version));
        }
        if !has_same_files(&entry.files, &self.entry.files) {
            return Err(format!(
                "another card of {} has other files, and the files of a release never change: publish a new version",
                entry.version
            ));
        }
        if entry.card == self.entry.card {
            return Err(format!("{} has this card already", entry.version));
        }
        if self.revisions.is_empty() {
            let first = self.entry.clone();
            self.revisions.push(CardRevision { at: first.published, entry: first, reason: None });
        }
        self.entry = entry.clone();
        self.revisions.push(CardRevision { entry, at, reason: Some(reason) });
        Ok(())
    }
}

/// Whether files have the same bytes and go to the same places; only where they are fetched from may differ.
fn has_same_files(one: &[FileRecord], other: &[FileRecord]) -> bool {
    let anywhere = |file: &FileRecord| FileRecord { url: None, ..file.clone() };
    one.iter().map(anywhere).eq(other.iter().map(anywhere))
}

/// All releases of one package, oldest version first; or, of a capability, the packages that provide it.
#[derive(Debug, Clone, Default)]
pub struct History {
    releases: Vec<Release>,
    providers: BTreeSet<PackageName>,
}

/// Why a line can't be part of a package's history.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {message}")]
pub struct BrokenLine {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong with it.
    pub message: String,
}

impl History {
    /// Adds a release that is newer than all there are, or stands among them by its version.
    pub fn add(&mut self, release: Release) {
        let version = &release.entry.version;
        let at = self.releases.partition_point(|other| other.entry.version < *version);
        self.releases.insert(at, release);
    }

    /// Folds the lines of `package`, in the order in which they were appended.
    ///
    /// A last line without its line feed is one that is just being written, or never was to the end: it is
    /// not there yet. Any other line that can't be read is an error, for it might be a withdrawal.
    ///
    /// With `until`, what happened later is not seen.
    pub fn read(package: &PackageName, text: &str, until: Option<Timestamp>) -> Result<Self, BrokenLine> {
        let whole = &text[..text.rfind('\n').map_or(0, |end| end + 1)];
        let mut history = Self::default();
        for (index, line) in whole.lines().enumerate().filter(|(_, line)| !line.is_empty()) {
            let broken = |message: String| BrokenLine { line: index + 1, message };
            let event = read_event(line).map_err(|error| broken(without_place(&error)))?;
            if until.is_none_or(|until| event.at() <= until) {
                history.apply(package, event).map_err(broken)?;
            }
        }
        Ok(history)
    }

    /// Adds what happened next; the reason if it can't follow on this history.
    pub fn apply(&mut self, package: &PackageName, event: Event) -> Result<(), String> {
        match event {
            Event::Release(entry) if entry.name != *package => {
                return Err(format!("it is for `{}`, not for `{package}`", entry.name));
            }
            Event::Release(_) if !self.providers.is_empty() => {
                return Err(format!("{package} is a capability, so no package can have its name"));
            }
            Event::Release(entry) => match self.position(&entry.version) {
                Ok(_) => return Err(format!("{} exists already", entry.version)),
                Err(place) => {
                    self.releases.insert(place, Release::new(*entry));
                }
            },
            Event::Revised(revision) => {
                let at = self.known(&revision.entry.version)?;
                self.releases[at].revise(*revision)?;
            }
            Event::Withdrawn(withdrawal) => {
                let at = self.known(&withdrawal.version)?;
                self.releases[at].withdrawn = Some(withdrawal);
            }
            Event::Restored(restored) => {
                let at = self.known(&restored.version)?;
                self.releases[at].withdrawn = None;
            }
            Event::Deprecated(deprecation) => {
                for release in self.releases_in(&deprecation.range) {
                    release.deprecated = Some(deprecation.clone());
                }
            }
            Event::Undeprecated(undeprecation) => {
                for release in self.releases_in(&undeprecation.range) {
                    release.deprecated = None;
                }
            }
            Event::Provided(_) if !self.releases.is_empty() => {
                return Err(format!("{package} is a package, so no other can provide it"));
            }
            Event::Provided(provider) => self.add_provider(provider.by),
        }
        Ok(())
    }

    fn releases_in(&mut self, range: &Range) -> impl Iterator<Item = &mut Release> {
        let concerned = range.set(true).clone();
        self.releases.iter_mut().filter(move |release| concerned.contains(release.entry.version.point()))
    }

    fn known(&self, version: &Version) -> Result<usize, String> {
        self.position(version).map_err(|_| format!("there is no {version} before it"))
    }

    fn position(&self, version: &Version) -> Result<usize, usize> {
        self.releases.binary_search_by(|release| release.entry.version.cmp(version))
    }

    /// Lets a release have a card again that it had, as a lock holds it.
    pub fn pin(&mut self, version: &Version, card: &Digest) {
        if let Ok(at) = self.position(version) {
            self.releases[at].pin(card);
        }
    }

    /// The releases, oldest version first.
    pub fn releases(&self) -> &[Release] {
        &self.releases
    }

    /// The packages that provide this capability, by name; none where it is a package.
    pub fn providers(&self) -> &BTreeSet<PackageName> {
        &self.providers
    }

    /// Takes in that a package provides this capability.
    pub fn add_provider(&mut self, package: PackageName) {
        self.providers.insert(package);
    }

    /// The version of the release before this one.
    pub fn before(&self, version: &Version) -> Option<&Version> {
        let at = self.position(version).unwrap_or_else(|at| at).checked_sub(1)?;
        Some(&self.releases[at].entry.version)
    }

    /// The release of this version.
    pub fn release(&self, version: &Version) -> Option<&Release> {
        self.position(version).ok().map(|at| &self.releases[at])
    }
}

/// How registries begin the line of a release.
const RELEASE: &str = r#"{"event":"release","#;

/// Reads a line. Most are releases and begin alike, and what follows is an entry: reading it as one takes half the
/// time of finding out first what event it is.
fn read_event(line: &str) -> serde_json::Result<Event> {
    match line.strip_prefix(RELEASE) {
        Some(entry) => serde_json::from_str(&format!("{{{entry}")).map(Event::Release),
        None => serde_json::from_str(line),
    }
}

/// What is wrong with a JSON text, in our words where its syntax is; without the line and column, which count
/// from the wrong place here.
pub fn without_place(error: &serde_json::Error) -> String {
    match error.classify() {
        Category::Syntax | Category::Io => "this is not JSON".to_owned(),
        Category::Eof => "it ends too early".to_owned(),
        Category::Data => {
            let text = error.to_string();
            text.rfind(" at line ").map_or(text.as_str(), |end| &text[..end]).to_owned()
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name() -> PackageName {
        "dew-point".parse().unwrap()
    }

    fn release(version: &str) -> String {
        let card = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";
        format!(
            r#"{{"event":"release","name":"dew-point","version":"{version}","published":"2026-03-01T08:00:00Z","card":"{card}"}}"#
        )
    }

    fn read(lines: &[&str]) -> Result<History, BrokenLine> {
        History::read(&name(), &lines.iter().map(|line| format!("{line}\n")).collect::<String>(), None)
    }

    #[test]
    fn folds_withdrawals_restorations_and_deprecations() {
        let at = r#""at":"2026-04-01T08:00:00Z""#;
        let withdrawn = format!(r#"{{"event":"withdrawn","version":"1.10","reason":"wrong table",{at}}}"#);
        let restored = format!(r#"{{"event":"restored","version":"1.10",{at}}}"#);
        let deprecated = format!(r#"{{"event":"deprecated","range":".. 1.5","reason":"slow",{at}}}"#);
        let history = read(&[&release("1.10"), &release("1.2"), &withdrawn, &deprecated]).unwrap();
        let versions: Vec<_> = history.releases().iter().map(|r| r.entry.version.as_str()).collect();
        assert_eq!(versions, ["1.2", "1.10"], "sorted by version, not by line");
        assert!(history.releases()[0].deprecated.is_some() && history.releases()[1].deprecated.is_none());
        assert_eq!(
            history.release(&"1.10.0".parse().unwrap()).unwrap().withdrawn.as_ref().unwrap().reason,
            "wrong table"
        );
        let again = read(&[&release("1.10"), &withdrawn, &restored]).unwrap();
        assert_eq!(again.releases()[0].withdrawn, None);
    }

    #[test]
    fn a_corrected_card_is_the_one_of_today_and_the_earlier_ones_stay_known() {
        let revised = |card: &str, more: &str| {
            let entry = format!(
                r#""name":"dew-point","version":"1.0","published":"2026-03-01T08:00:00Z","card":"{}"{more}"#,
                Digest::of(card.as_bytes())
            );
            format!(
                r#"{{"event":"revised","entry":{{{entry}}},"reason":"{card}","at":"2026-04-01T08:00:00Z"}}"#
            )
        };
        let first = read(&[&release("1.0")]).unwrap().releases()[0].entry.card;
        let lines = [release("1.0"), revised("two", ""), revised("three", r#","license":"ISC""#)];
        let mut history = read(&lines.each_ref().map(String::as_str)).unwrap();
        let release_now = history.releases()[0].clone();
        assert_eq!(release_now.entry.card, Digest::of(b"three"));
        let reasons: Vec<_> =
            release_now.corrections_since(&first).iter().filter_map(|one| one.reason.as_deref()).collect();
        assert_eq!(reasons, ["two", "three"]);
        assert_eq!(release_now.corrections_since(&Digest::of(b"three")).len(), 0);
        assert_eq!(release_now.entries().count(), 3);
        history.pin(&"1.0".parse().unwrap(), &Digest::of(b"two"));
        assert_eq!(history.releases()[0].entry.card, Digest::of(b"two"));
        assert_eq!(history.releases()[0].corrected().entry.card, Digest::of(b"three"));
        history.pin(&"1.0".parse().unwrap(), &Digest::of(b"of nobody"));
        assert_eq!(history.releases()[0].entry.card, Digest::of(b"two"), "there is no such card");

        let before: Timestamp = "2026-03-31T08:00:00Z".parse().unwrap();
        let past = History::read(&name(), &(lines.join("\n") + "\n"), Some(before)).unwrap();
        assert_eq!(past.releases()[0].entry.card, first, "as it was then");
        let file = format!(r#","files":[{{"sha256":"{}","size":1,"format":"tar"}}]"#, Digest::of(b"file"));
        let same = revised("two", "").replace(&Digest::of(b"two").to_string(), &first.to_string());
        for wrong in [
            revised("two", &file),
            revised("two", "").replace("1.0", "1.1"),
            revised("two", "").replace("03-01", "03-02"),
            same,
        ] {
            assert_eq!(read(&[&release("1.0"), &wrong]).unwrap_err().line, 2, "{wrong}");
        }
    }

    #[test]
    fn a_last_line_without_its_end_is_not_there_yet() {
        let text = format!("{}\n{}", release("1.0"), &release("1.1")[..40]);
        assert_eq!(History::read(&name(), &text, None).unwrap().releases().len(), 1);
        assert_eq!(History::read(&name(), &release("1.0"), None).unwrap().releases().len(), 0);
    }

    #[test]
    fn a_broken_line_is_told_with_its_number() {
        let rows = [
            (vec![release("1.0"), "{".into()], 2),
            (vec![release("1.0"), release("1.0.0")], 2),
            (vec![release("1.0").replace("dew-point", "soil-curve")], 1),
            (vec![release("1.0").replace("\"card\"", "\"only-for\":1,\"card\"")], 1),
            (
                vec![r#"{"event":"withdrawn","version":"9","reason":"","at":"2026-04-01T08:00:00Z"}"#.into()],
                1,
            ),
            (vec![release("1.0"), r#"{"event":"renamed"}"#.into()], 2),
        ];
        for (lines, line) in rows {
            let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
            assert_eq!(read(&lines).unwrap_err().line, line, "{lines:?}");
        }
    }
}
