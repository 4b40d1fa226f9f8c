//! A card for a package whose own files have none: beside a manifest, or inside a need.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::Serialize;

use super::CardPart;
use crate::card::{Card, CardNeed, FileRecord};
use crate::facet::Fits;
use crate::follow::Follow;
use crate::license::License;
use crate::name::{PackageName, ProgramName};
use crate::range::Range;
use crate::version::Version;

/// A card that people wrote; the package's own card fills in what it doesn't say.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct StatedCard {
    /// The package.
    pub name: Option<PackageName>,
    /// Its version.
    pub version: Option<Version>,
    /// When it was published.
    pub published: Option<Timestamp>,
    /// Its licence.
    pub license: Option<License>,
    /// What it needs.
    pub needs: Option<Vec<CardNeed>>,
    /// Where it can be used.
    pub fits: Fits,
    /// Programs that have to be on the machine.
    pub programs: BTreeMap<ProgramName, Range>,
    /// Its archives.
    pub files: Vec<FileRecord>,
    /// Where upstream's releases appear.
    pub follow: Option<Follow>,
    /// All else.
    pub part: CardPart,
}

impl StatedCard {
    /// A card with what is stated in place of what it said.
    pub fn laid_over(&self, card: &mut Card) {
        let part = self.part.clone();
        replace(&mut card.license, self.license.clone());
        if let Some(needs) = &self.needs {
            card.needs.clone_from(needs);
        }
        if let Some(version) = &self.version {
            card.version = version.clone();
        }
        if let Some(published) = self.published {
            card.published = published;
        }
        for (own, stated) in [
            (&mut card.summary, part.summary),
            (&mut card.description, part.description),
            (&mut card.homepage, part.homepage),
            (&mut card.repository, part.repository),
            (&mut card.notes, part.notes),
        ] {
            replace(own, stated);
        }
        replace(&mut card.upstream_version, part.upstream_version);
        replace(&mut card.family, part.family);
        replace(&mut card.follow, self.follow.clone());
        card.fits.extend(self.fits.clone());
        card.programs.extend(self.programs.clone());
        card.exposes.extend(part.exposes);
        card.components.extend(part.components);
        replace_all(&mut card.tags, part.tags);
        replace_all(&mut card.upstream, part.upstream);
        replace_all(&mut card.provides, part.provides);
        replace_all(&mut card.conflicts, part.conflicts);
        replace_all(&mut card.steps, part.steps);
        replace_all(&mut card.files, self.files.clone());
    }
}

fn replace<T>(own: &mut Option<T>, stated: Option<T>) {
    if stated.is_some() {
        *own = stated;
    }
}

fn replace_all<T>(own: &mut Vec<T>, stated: Vec<T>) {
    if !stated.is_empty() {
        *own = stated;
    }
}
