//! The card of a package outside registries: from its manifest, from a card that people wrote, or none.

use bibliotax_core::card::{Card, CardNeed};
use bibliotax_core::manifest::{Manifest, StatedCard};
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use jiff::Timestamp;

use crate::model::error::RegistryError;

/// What is known of a package before it is read.
pub struct Found<'f> {
    pub package: &'f PackageName,
    /// Where it is, for messages.
    pub place: String,
    /// The text of its manifest, and that of the workspace around it, where there are any.
    pub manifest: Option<String>,
    pub root: Option<String>,
    pub stated: Option<&'f StatedCard>,
    /// The version that overrides what it says itself, such as that of a tag.
    pub version: Option<Version>,
    /// The version that it has if nothing says one.
    pub otherwise: Version,
    pub published: Timestamp,
}

impl Found<'_> {
    /// All that is known of it. Which bytes it is, is left open.
    pub fn card(&self) -> Result<Card, RegistryError> {
        let mut card = self.own_card()?.unwrap_or_else(|| self.bare_card());
        self.check_name(&card.name)?;
        if let Some(stated) = self.stated {
            stated.name.iter().try_for_each(|name| self.check_name(name))?;
            stated.laid_over(&mut card);
        }
        if let Some(version) = &self.version {
            card.version = version.clone();
        }
        // It is one folder of files, however many archives a registry would have for it.
        card.files.clear();
        card.components.values_mut().for_each(|component| component.parts.clear());
        Ok(card)
    }

    fn check_name(&self, found: &PackageName) -> Result<(), RegistryError> {
        if found == self.package {
            return Ok(());
        }
        let (package, place, found) = (self.package.clone(), self.place.clone(), found.clone());
        Err(RegistryError::OtherName { package, place, found })
    }

    /// The card by the manifest among its files.
    fn own_card(&self) -> Result<Option<Card>, RegistryError> {
        let Some(text) = &self.manifest else { return Ok(None) };
        let root = self.root.as_ref().and_then(|root| Manifest::read(root).ok());
        let root = root.filter(|root| root.workspace.is_some());
        let read = match &root {
            Some(root) => Manifest::read_project(text, root),
            None => Manifest::read(text),
        };
        let manifest = read.map_err(|faults| RegistryError::BadManifest {
            package: self.package.clone(),
            place: self.place.clone(),
            text: text.clone(),
            faults,
        })?;
        let Some(project) = &manifest.project else { return Ok(None) };
        let needs = manifest.needs.iter().map(CardNeed::from).collect();
        let version = project.version.clone().unwrap_or_else(|| self.otherwise.clone());
        Ok(Some(manifest.card_of(project, version, needs, self.published)))
    }

    fn bare_card(&self) -> Card {
        Card::bare(self.package.clone(), self.otherwise.clone(), self.published)
    }
}
