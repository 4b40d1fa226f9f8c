//! What `explain` prints.

use bibliotax_app::explain::{self, Answer};
use bibliotax_core::graph::NeedPath;
use bibliotax_core::lock::Lock;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::change::{self, Change};
use super::conflict::{Proof, WayOut};
use super::package::Package;

/// What `explain` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Explanation {
    /// The package that was asked about.
    pub package: PackageName,
    /// The package as it is locked, where no range was asked about.
    pub locked: Option<Locked>,
    /// The answer, where a range was asked about.
    pub range: Option<RangeAnswer>,
}

impl Document for Explanation {
    const COMMAND: &'static str = "explain";
}

/// Why a package is locked as it is.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Locked {
    #[serde(flatten)]
    pub package: Package,
    /// The capabilities that it is used for.
    pub provides: Vec<PackageName>,
    /// The shortest paths from a project to it.
    pub paths: Vec<NeedPath>,
    /// Whether there are more paths, none of them shorter.
    pub more_paths: bool,
    /// What people should know of the release.
    pub notes: Vec<String>,
    /// Newer releases, and what keeps each out.
    pub newer: Vec<Newer>,
    /// A newer version that another place has, or that the manifest's commit or archive excludes.
    pub elsewhere: Option<Version>,
}

/// A newer release.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Newer {
    /// Its version.
    pub version: Version,
    /// What keeps it out.
    pub kept_out_by: KeptOutBy,
    /// Why, where needs keep it out.
    pub proof: Option<Proof>,
}

/// What keeps a release out.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KeptOutBy {
    /// Only the lock: an update would use it.
    Lock,
    /// What projects or packages need.
    Needs,
}

/// Whether a package can be in a range.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct RangeAnswer {
    /// The range.
    pub range: Range,
    /// Whether the package can be in it.
    pub possible: bool,
    /// How the lock would change.
    pub changes: Vec<Change>,
    /// Why it can't be in it.
    pub proof: Option<Proof>,
    /// Ways out, each tried.
    pub ways_out: Vec<WayOut>,
}

impl Explanation {
    /// An answer about a lock.
    pub fn of(answer: &Answer<'_>, lock: &Lock) -> Self {
        match answer {
            Answer::Here(here) => {
                Self { package: here.package.name.clone(), locked: Some(locked(here)), range: None }
            }
            Answer::Possible(possible) => {
                let answer = RangeAnswer {
                    range: possible.range.clone(),
                    possible: true,
                    changes: change::of(&possible.moves(lock), &possible.lock),
                    proof: None,
                    ways_out: Vec::new(),
                };
                Self { package: possible.package.clone(), locked: None, range: Some(answer) }
            }
            Answer::NotPossible(answer) => {
                let (package, ways) = (answer.package.clone(), &answer.ways);
                let answer = RangeAnswer {
                    range: answer.range.clone(),
                    possible: false,
                    changes: Vec::new(),
                    proof: Some(Proof::from(&*answer.conflict)),
                    ways_out: ways.iter().map(WayOut::from).collect(),
                };
                Self { package, locked: None, range: Some(answer) }
            }
        }
    }
}

fn locked(here: &explain::Here<'_>) -> Locked {
    Locked {
        package: here.package.into(),
        provides: here.package.provides.clone(),
        paths: here.paths.shown.clone(),
        more_paths: here.paths.has_more,
        notes: here.about.clone(),
        newer: here.newer.iter().map(newer).collect(),
        elsewhere: here.elsewhere.clone(),
    }
}

fn newer(newer: &explain::Newer) -> Newer {
    let proof = newer.conflict.as_deref().map(Proof::from);
    let kept_out_by = if proof.is_some() { KeptOutBy::Needs } else { KeptOutBy::Lock };
    Newer { version: newer.version.clone(), kept_out_by, proof }
}
