//! What `compare` prints.

use bibliotax_app::compare::Report;
use bibliotax_core::name::PackageName;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::change::{self, Change};

/// What `compare` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Comparison {
    /// What became of packages.
    pub changes: Vec<Change>,
    /// What became of projects.
    pub projects: Projects,
    /// The bytes of all archives.
    pub size: Sizes,
    /// Whether only targets or purposes of packages differ.
    pub only_reasons: bool,
}

impl Document for Comparison {
    const COMMAND: &'static str = "compare";
}

/// Projects that are in one of two locks.
#[derive(Serialize, JsonSchema)]
pub struct Projects {
    /// Those that are new.
    pub added: Vec<PackageName>,
    /// Those that are gone.
    pub gone: Vec<PackageName>,
}

/// Bytes before and after.
#[derive(Serialize, JsonSchema)]
pub struct Sizes {
    /// Before.
    pub from: u64,
    /// After.
    pub to: u64,
}

impl Comparison {
    /// The difference of two locks.
    pub fn of(report: &Report, only_reasons: bool) -> Self {
        let (projects, (from, to)) = (report.projects(), report.sizes());
        let names = |names: Vec<&PackageName>| names.into_iter().cloned().collect();
        Self {
            changes: change::of(&report.changes(), &report.new),
            projects: Projects { added: names(projects.added), gone: names(projects.gone) },
            size: Sizes { from, to },
            only_reasons,
        }
    }
}
