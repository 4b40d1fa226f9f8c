//! Sources outside registries, joined over all projects: one per package.

use std::collections::BTreeMap;

use super::joined::seen_from_root;
use super::{Misfit, Project, Workspace};
use crate::fault::Fault;
use crate::manifest::{DeclaredSource, StandIn};
use crate::name::PackageName;
use crate::range::VersionSet;
use crate::version::Version;

/// A package that comes from a git repository or an archive.
#[derive(Debug, Clone)]
pub struct DirectSources {
    /// Where it is, seen from the root's folder.
    pub source: DeclaredSource,
    /// The version that it counts as, if it doesn't say one itself.
    pub version: Option<Version>,
    /// The versions that will do for projects; each of them counts.
    pub sets: Vec<VersionSet>,
    /// Whether it stands in for the package while somebody works on it.
    pub is_stand_in: bool,
}

impl Workspace {
    /// Finds what needs take from elsewhere; what projects say differently.
    pub(super) fn find_elsewhere(&mut self) -> Vec<Misfit> {
        let mut found: BTreeMap<PackageName, DirectSources> = BTreeMap::new();
        let mut misfits = Vec::new();
        for (project, need) in self.needs() {
            let Some(source) = need.source.as_ref().filter(|source| source.folder().is_none()) else {
                continue;
            };
            let source = source.seen(|place| seen_from_root(place, &project.folder));
            let (sets, version) = (vec![need.range.set(need.prereleases).clone()], None);
            match found.get_mut(&need.package) {
                None => {
                    let elsewhere = DirectSources { source, version, sets, is_stand_in: false };
                    found.insert(need.package.clone(), elsewhere);
                }
                Some(there) if there.source == source => there.sets.extend(sets),
                Some(_) => misfits.push(differing(project, &need.package, need.span.clone())),
            }
        }
        let stand_ins = self.stand_ins.iter().filter(|(_, stand_in)| stand_in.source.folder().is_none());
        for (name, StandIn { source, version, .. }) in stand_ins {
            let source = source.seen(|place| seen_from_root(place, "")).described_by(self.card_for(name));
            let elsewhere =
                DirectSources { source, version: version.clone(), sets: Vec::new(), is_stand_in: true };
            found.insert(name.clone(), elsewhere);
        }
        // A folder that stands in for a package does so wherever a need says that it comes from.
        found.retain(|name, there| there.is_stand_in || !self.stand_ins.contains_key(name));
        misfits.extend(self.two_places(&found));
        self.elsewhere = found;
        misfits
    }

    /// Needs that take a package from a folder, or from a registry by name, which others take from elsewhere.
    fn two_places(&self, elsewhere: &BTreeMap<PackageName, DirectSources>) -> Vec<Misfit> {
        let is_otherwise = |need: &&crate::manifest::Need| {
            need.registry.is_some() || need.source.as_ref().is_some_and(|source| source.folder().is_some())
        };
        let clashing = self.needs().filter(|(_, need)| {
            elsewhere.get(&need.package).is_some_and(|there| !there.is_stand_in) && is_otherwise(need)
        });
        clashing.map(|(project, need)| differing(project, &need.package, need.span.clone())).collect()
    }
}

fn differing(project: &Project, package: &PackageName, at: std::ops::Range<usize>) -> Misfit {
    let message = format!("`{package}` has another source elsewhere in the workspace");
    let fault = Fault::new("workspace.differs", message, at);
    project.misfit(fault.advice("use the same source in all projects"))
}
