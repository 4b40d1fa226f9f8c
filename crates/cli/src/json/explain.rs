//! What `explain` prints.

use bibliotax_app::explain::{self, Answer};
use bibliotax_core::charter::CharterRelease;
use bibliotax_core::graph::NeedPath;
use bibliotax_core::lock::{Lock, LockedPackage};
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
    /// What a charter binds, where one was asked about.
    pub charter: Option<Charter>,
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
    /// What charters allow of it.
    pub charters: Vec<AllowedRange>,
    /// The charters that it is excepted from.
    pub excepted: Vec<ExceptedFrom>,
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

/// What a charter binds.
#[derive(Serialize, JsonSchema)]
pub struct Charter {
    /// Its release.
    pub version: Version,
    /// The range in which the workspace takes it on.
    pub range: Range,
    /// The locked packages that it has a range for.
    pub binds: Vec<BoundPackage>,
    /// The names that it has and nobody uses here.
    pub unused: Vec<String>,
    /// The packages that are excepted.
    pub excepted: Vec<ExceptedPackage>,
    /// Whether it has rules.
    pub rules: bool,
    /// The newest release that the range accepts, where that is another.
    pub update: Option<Version>,
}

/// A locked package that a charter has a range for.
#[derive(Serialize, JsonSchema)]
pub struct BoundPackage {
    /// The package.
    pub name: PackageName,
    /// Its version.
    pub version: Version,
    /// The range that the charter allows.
    pub range: Range,
}

/// A package that a charter's ranges don't bind.
#[derive(Serialize, JsonSchema)]
pub struct ExceptedPackage {
    /// The package.
    pub name: PackageName,
    /// Why.
    pub reason: String,
}

/// What a charter allows of a package.
#[derive(Serialize, JsonSchema)]
pub struct AllowedRange {
    /// The charter's release.
    pub charter: CharterRelease,
    /// The range.
    pub range: Range,
}

impl From<&(CharterRelease, Range)> for AllowedRange {
    fn from((charter, range): &(CharterRelease, Range)) -> Self {
        Self { charter: charter.clone(), range: range.clone() }
    }
}

/// A charter whose ranges don't bind a package.
#[derive(Serialize, JsonSchema)]
pub struct ExceptedFrom {
    /// The charter.
    pub charter: PackageName,
    /// Why.
    pub reason: String,
}

impl From<&(PackageName, String)> for ExceptedFrom {
    fn from((charter, reason): &(PackageName, String)) -> Self {
        Self { charter: charter.clone(), reason: reason.clone() }
    }
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
            Answer::Charter(explained) => {
                let package = explained.charter.name.clone();
                Self { package, charter: Some(charter(explained)), locked: None, range: None }
            }
            Answer::Here(here) => {
                let (package, locked) = (here.package.name.clone(), Some(locked(here)));
                Self { package, charter: None, locked, range: None }
            }
            Answer::Possible(possible) => {
                let answer = RangeAnswer {
                    range: possible.range.clone(),
                    possible: true,
                    changes: change::of(&possible.moves(lock), &possible.lock),
                    proof: None,
                    ways_out: Vec::new(),
                };
                Self { package: possible.package.clone(), charter: None, locked: None, range: Some(answer) }
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
                Self { package, charter: None, locked: None, range: Some(answer) }
            }
        }
    }
}

fn charter(explained: &explain::ExplainedCharter<'_>) -> Charter {
    let bound = |(package, range): &(&LockedPackage, Range)| BoundPackage {
        name: package.name.clone(),
        version: package.version.clone(),
        range: range.clone(),
    };
    let excepted = |(name, reason): &(PackageName, String)| ExceptedPackage {
        name: name.clone(),
        reason: reason.clone(),
    };
    Charter {
        version: explained.charter.version.clone(),
        range: explained.range.clone(),
        binds: explained.binds.iter().map(bound).collect(),
        unused: explained.unused.clone(),
        excepted: explained.excepted.iter().map(excepted).collect(),
        rules: !explained.charter.charter.rules.is_silent(),
        update: explained.update.clone(),
    }
}

fn locked(here: &explain::Here<'_>) -> Locked {
    Locked {
        package: here.package.into(),
        provides: here.package.provides.clone(),
        charters: here.charters.iter().map(AllowedRange::from).collect(),
        excepted: here.excepted.iter().map(ExceptedFrom::from).collect(),
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
