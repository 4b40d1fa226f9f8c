//! What `survey` prints.

use bibliotax_app::survey::{AllowedRange, Report, UsedAdvisory, UsedCharter, UsedPackage, UsedRelease};
use bibliotax_core::advisory::Severity;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `survey` prints.
#[derive(Serialize, JsonSchema)]
pub struct Survey {
    /// The workspaces that were looked at.
    pub workspaces: Vec<SurveyedWorkspace>,
    /// The charters that they take on, and those that were named.
    pub charters: Vec<SurveyedCharter>,
    /// The packages that they use.
    pub packages: Vec<SurveyedPackage>,
}

/// A charter that workspaces take on.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedCharter {
    /// Its name.
    pub name: PackageName,
    /// Its newest release.
    pub newest: Version,
    /// The releases that are used, the newest first.
    pub releases: Vec<SurveyedCharterRelease>,
    /// The workspaces that don't take it on.
    pub without: Vec<String>,
}

/// A release of a charter that workspaces use.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedCharterRelease {
    /// Its version.
    pub version: Version,
    /// Whether there is a newer one.
    pub behind: bool,
    /// The workspaces that use it.
    pub by: Vec<String>,
}

/// What a charter allows of a package.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedRange {
    /// The charter.
    pub charter: PackageName,
    /// The range that its newest release has.
    pub range: Range,
}

impl Document for Survey {
    const COMMAND: &'static str = "survey";
}

/// A workspace that was looked at.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedWorkspace {
    /// Its folder, or its repository and the folder in it.
    pub name: String,
    /// How many packages its lock has; null if it can't be read.
    pub packages: Option<usize>,
    /// Why its lock can't be read; null if it can.
    pub problem: Option<String>,
}

/// A package that workspaces use.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedPackage {
    /// Its name.
    pub name: PackageName,
    /// Its newest release; null if no registry that was asked has it.
    pub newest: Option<Version>,
    /// What the newest releases of charters allow of it.
    pub allowed: Vec<SurveyedRange>,
    /// The releases that are used, the newest first.
    pub releases: Vec<SurveyedRelease>,
}

/// A release that workspaces use.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedRelease {
    /// Its version.
    pub version: Version,
    /// Whether there is a newer one.
    pub behind: bool,
    /// Whether it is outside of what a charter allows a workspace that uses it.
    pub outside: bool,
    /// Its licence.
    pub license: String,
    /// Where it comes from.
    pub source: String,
    /// The advisories that affect it.
    pub advisories: Vec<SurveyedAdvisory>,
    /// The workspaces that use it.
    pub by: Vec<String>,
}

/// An advisory that affects a release that is used.
#[derive(Serialize, JsonSchema)]
pub struct SurveyedAdvisory {
    /// Its name.
    pub id: String,
    /// How bad it is.
    pub severity: Severity,
}

impl Survey {
    /// Who uses what.
    pub fn of(report: &Report) -> Self {
        let workspace = report.workspaces.iter().map(|workspace| SurveyedWorkspace {
            name: workspace.name.clone(),
            packages: workspace.lock.as_ref().ok().map(|lock| lock.packages.len()),
            problem: workspace.lock.as_ref().err().cloned(),
        });
        Self {
            workspaces: workspace.collect(),
            charters: report.charters.iter().map(|charter| charter_of(charter, report)).collect(),
            packages: report.packages.iter().map(|package| package_of(package, report)).collect(),
        }
    }
}

fn charter_of(charter: &UsedCharter, report: &Report) -> SurveyedCharter {
    let names = |numbers: &[usize]| numbers.iter().map(|at| report.workspaces[*at].name.clone()).collect();
    let release = |(version, by): &(Version, Vec<usize>)| SurveyedCharterRelease {
        version: version.clone(),
        behind: *version < charter.newest,
        by: names(by),
    };
    SurveyedCharter {
        name: charter.name.clone(),
        newest: charter.newest.clone(),
        releases: charter.releases.iter().map(release).collect(),
        without: names(&charter.without),
    }
}

impl From<&AllowedRange> for SurveyedRange {
    fn from(allowed: &AllowedRange) -> Self {
        Self { charter: allowed.charter.clone(), range: allowed.range.clone() }
    }
}

fn package_of(package: &UsedPackage, report: &Report) -> SurveyedPackage {
    let release = |release: &UsedRelease| SurveyedRelease {
        version: release.version.clone(),
        behind: package.is_release_behind(release),
        outside: release.is_outside,
        license: release.license.clone(),
        source: release.source.clone(),
        advisories: release.advisories.iter().map(SurveyedAdvisory::from).collect(),
        by: release.by.iter().map(|at| report.workspaces[*at].name.clone()).collect(),
    };
    SurveyedPackage {
        name: package.name.clone(),
        newest: package.newest.clone(),
        allowed: package.allowed.iter().map(SurveyedRange::from).collect(),
        releases: package.releases.iter().map(release).collect(),
    }
}

impl From<&UsedAdvisory> for SurveyedAdvisory {
    fn from(advisory: &UsedAdvisory) -> Self {
        Self { id: advisory.id.clone(), severity: advisory.severity }
    }
}
