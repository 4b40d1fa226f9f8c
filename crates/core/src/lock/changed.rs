//! Checks that a locked release is still what its registry has: a release never changes and never vanishes.

use super::LockedPackage;
use crate::history::History;
use crate::name::{PackageName, RegistryName};
use crate::version::Version;

/// A locked release that its registry has otherwise now, or not at all.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangedRelease {
    /// The package.
    pub package: PackageName,
    /// The version that is locked.
    pub version: Version,
    /// The registry.
    pub registry: RegistryName,
    /// What is another.
    pub what: Change,
}

/// What of a locked release is another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Change {
    /// The registry doesn't have it any more.
    Gone,
    /// Its card.
    Card,
    /// An archive of it.
    Archive,
}

impl LockedPackage {
    /// What is another in the history that its registry has of it now; `None` if all is as it was, or it is of no registry.
    pub fn changed_in(&self, history: &History) -> Option<ChangedRelease> {
        let registry = self.source.registry()?.clone();
        let what = match history.release(&self.version) {
            None => Change::Gone,
            // A corrected card is a new one for whoever asks for it; what is locked stays as it is.
            Some(release) if !self.card.is_some_and(|card| release.has_had(&card)) => Change::Card,
            Some(release) => {
                let is_there =
                    |file: &super::LockedFile| release.entry.files.iter().any(|there| file.is_of(there));
                if self.files.iter().all(is_there) {
                    return None;
                }
                Change::Archive
            }
        };
        Some(ChangedRelease { package: self.name.clone(), version: self.version.clone(), registry, what })
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::digest::Digest;
    use crate::lock::samples::test_lock;

    #[test]
    fn a_release_that_vanished_or_has_another_card_or_archive_is_told() {
        let file = |of: &str| json!({ "sha256": Digest::of(of.as_bytes()), "size": 1, "format": "tar" });
        let mut package = test_lock(&[("dew-point", "1.4")]).packages.remove(0);
        let card = package.card.unwrap();
        package.files = vec![serde_json::from_value(file("one")).unwrap()];
        for (version, card, archive, wanted) in [
            ("1.4", card, "one", None),
            ("1.4.0", card, "one", None),
            ("1.5", card, "one", Some(Change::Gone)),
            ("1.4", Digest::of(b"other"), "one", Some(Change::Card)),
            ("1.4", card, "other", Some(Change::Archive)),
        ] {
            let line = json!({ "event": "release", "name": "dew-point", "version": version, "card": card,
                "published": "2026-03-01T08:00:00Z", "files": [file(archive)] });
            let history = History::read(&package.name, &format!("{line}\n"), None).unwrap();
            assert_eq!(package.changed_in(&history).map(|changed| changed.what), wanted, "{line}");
        }
    }
}
