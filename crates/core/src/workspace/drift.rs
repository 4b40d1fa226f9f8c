//! Drift: one package that projects declare with different ranges.

use std::collections::BTreeMap;

use super::{Project, Workspace};
use crate::manifest::Need;
use crate::name::PackageName;
use crate::range::{Range, VersionSet};

/// A package that projects declare with different ranges.
#[derive(Debug, Clone)]
pub struct Drift<'w> {
    /// The package.
    pub package: PackageName,
    /// The needs, in the order of projects and manifests.
    pub needs: Vec<(&'w Project, &'w Need)>,
    /// What all of them accept, which is what can be locked anyway; `None` where that is nothing.
    pub common: Option<Range>,
}

impl Workspace {
    /// The packages that several projects declare, and not all with the same range.
    pub fn drifts(&self) -> Vec<Drift<'_>> {
        let mut declared: BTreeMap<&PackageName, Vec<(&Project, &Need)>> = BTreeMap::new();
        let has_own_range =
            |need: &Need| need.source.is_none() && need.family.is_none() && !need.is_chartered;
        let with_own_range = self.needs().filter(|(_, need)| has_own_range(need));
        with_own_range
            .for_each(|(project, need)| declared.entry(&need.package).or_default().push((project, need)));
        let drifting = declared.into_iter().filter(|(_, needs)| has_drifted(needs));
        let drift = |(package, needs): (&PackageName, Vec<_>)| {
            let common = common(&needs);
            Drift { package: package.clone(), needs, common }
        };
        drifting.map(drift).collect()
    }
}

/// Whether needs are of several projects and have different ranges, or have the same one and only some of them share it.
fn has_drifted(needs: &[(&Project, &Need)]) -> bool {
    let Some((first, rest)) = needs.split_first() else { return false };
    let is_of_another = |(project, _): &(&Project, &Need)| project.folder != first.0.folder;
    let differs =
        |(_, need): &(&Project, &Need)| need.range != first.1.range || need.is_shared != first.1.is_shared;
    rest.iter().any(is_of_another) && rest.iter().any(differs)
}

/// The range that says what all needs accept.
fn common(needs: &[(&Project, &Need)]) -> Option<Range> {
    // One of them may say just that, and says it as people do.
    let sets: Vec<&VersionSet> = needs.iter().map(|(_, need)| need.range.set(false)).collect();
    let all = sets.iter().skip(1).fold((*sets.first()?).clone(), |all, set| all.and(set));
    let said = needs.iter().map(|(_, need)| &need.range).find(|range| *range.set(false) == all);
    said.cloned().or_else(|| all.to_string().parse().ok())
}
