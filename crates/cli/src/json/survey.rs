//! What `survey` prints.

use bibliotax_app::survey::{Report, UsedAdvisory, UsedPackage, UsedRelease};
use bibliotax_core::advisory::Severity;
use bibliotax_core::name::PackageName;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `survey` prints.
#[derive(Serialize, JsonSchema)]
pub struct Survey {
    /// The workspaces that were looked at.
    pub workspaces: Vec<SurveyedWorkspace>,
    /// The packages that they use.
    pub packages: Vec<SurveyedPackage>,
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
            packages: report.packages.iter().map(|package| package_of(package, report)).collect(),
        }
    }
}

fn package_of(package: &UsedPackage, report: &Report) -> SurveyedPackage {
    let release = |release: &UsedRelease| SurveyedRelease {
        version: release.version.clone(),
        behind: package.is_release_behind(release),
        license: release.license.clone(),
        source: release.source.clone(),
        advisories: release.advisories.iter().map(SurveyedAdvisory::from).collect(),
        by: release.by.iter().map(|at| report.workspaces[*at].name.clone()).collect(),
    };
    SurveyedPackage {
        name: package.name.clone(),
        newest: package.newest.clone(),
        releases: package.releases.iter().map(release).collect(),
    }
}

impl From<&UsedAdvisory> for SurveyedAdvisory {
    fn from(advisory: &UsedAdvisory) -> Self {
        Self { id: advisory.id.clone(), severity: advisory.severity }
    }
}
