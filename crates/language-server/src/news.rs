//! What is newer than what is locked, as far as an editor shows it.

use std::collections::BTreeMap;

use bibliotax_app::context::Context;
use bibliotax_app::failure::Failure;
use bibliotax_app::newer::{self, Request};
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_core::name::PackageName;
use bibliotax_core::newer::{Hold, Newer};
use bibliotax_core::version::Version;

/// What is newer of a locked package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackageNews {
    /// What an update leads to, where that is another version.
    pub update: Option<Version>,
    /// The newest version beyond that.
    pub beyond: Option<Version>,
    /// Who or what keeps that out.
    pub held_by: Vec<String>,
    /// The advisories that affect what is locked, each with the nearest release that it doesn't affect.
    pub advisories: Vec<(String, Option<Version>)>,
}

/// What is newer of all packages of a workspace's lock.
pub fn news(
    workspace: &WorkspaceFolder,
    context: &Context<'_>,
) -> Result<BTreeMap<PackageName, PackageNews>, Failure> {
    let report = newer::report(workspace, &Request::default(), context)?;
    Ok(report
        .packages
        .iter()
        .map(|one| (one.news.package.name.clone(), PackageNews::of(&one.news)))
        .collect())
}

impl PackageNews {
    /// The newest version that is there.
    pub fn newest(&self) -> Option<&Version> {
        self.beyond.as_ref().or(self.update.as_ref())
    }

    fn of(news: &Newer<'_>) -> Self {
        let update = news.update.as_ref().map(|(version, _)| version.clone());
        let holds = news.beyond.iter().flat_map(|(_, holds)| holds);
        let advisories = news.advisories.iter();
        Self {
            update: update.filter(|version| *version != news.package.version),
            beyond: news.beyond.as_ref().map(|(version, _)| version.clone()),
            held_by: holds.map(held_by).collect(),
            advisories: advisories.map(|(one, fixed)| (one.advisory.id.clone(), fixed.clone())).collect(),
        }
    }
}

fn held_by(hold: &Hold) -> String {
    match hold {
        Hold::Need { by, range, .. } => format!("{by} (needs {range})"),
        Hold::Unfit { place, .. } => place.name.clone(),
        Hold::Charter { release, range } => format!("the charter {release} (allows {range})"),
        Hold::Fixed { at } => format!("the manifest (takes {at})"),
        Hold::Refused { rules, .. } => rules.clone(),
    }
}
