//! A project as the release that it would be published as.

use jiff::Timestamp;

use super::{Manifest, ProjectDeclaration};
use crate::card::{Card, CardNeed};
use crate::version::Version;

impl Manifest {
    /// The card of the project at this version, with these needs; of its files it says nothing yet.
    pub fn card_of(
        &self,
        project: &ProjectDeclaration,
        version: Version,
        needs: Vec<CardNeed>,
        published: Timestamp,
    ) -> Card {
        let part = self.card.clone();
        Card {
            summary: part.summary,
            description: part.description,
            tags: part.tags,
            license: project.license.clone(),
            homepage: part.homepage,
            repository: part.repository,
            upstream: part.upstream,
            upstream_version: part.upstream_version,
            needs,
            components: part.components,
            family: part.family,
            provides: part.provides,
            conflicts: part.conflicts,
            fits: self.fits.clone(),
            programs: self.programs.clone(),
            exposes: part.exposes,
            steps: part.steps,
            notes: part.notes,
            charter: self.charter.clone().map(Box::new),
            ..Card::bare(project.name.clone(), version, published)
        }
    }
}
