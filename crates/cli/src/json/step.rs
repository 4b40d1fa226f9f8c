//! Steps that people do by hand, and what `steps` prints.

use bibliotax_app::steps::{self, SeenStep};
use bibliotax_core::card::StepCheck;
use bibliotax_core::name::{PackageName, StepName};
use bibliotax_core::steps::{Place, StepStatus, Todo};
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// A step at a place.
#[derive(Serialize, JsonSchema)]
pub struct Step {
    /// Its name.
    pub id: StepName,
    /// Its package.
    pub package: PackageName,
    /// The package's version.
    pub version: Version,
    /// Where it has to be done.
    pub place: Place,
    /// Whether it is done.
    pub status: StepStatus,
    /// What to do.
    pub text: String,
    /// How to see that it was done.
    pub check: Option<StepCheck>,
}

impl From<&Todo<'_>> for Step {
    fn from(todo: &Todo<'_>) -> Self {
        Self {
            id: todo.step.id.clone(),
            package: todo.package.name.clone(),
            version: todo.package.version.clone(),
            place: todo.place.clone(),
            status: todo.status,
            text: todo.step.text.clone(),
            check: todo.step.check.clone(),
        }
    }
}

/// A step that is open, in short.
#[derive(Serialize, JsonSchema)]
pub struct OpenStep {
    /// Its name.
    pub id: StepName,
    /// Its package.
    pub package: PackageName,
    /// Where it has to be done.
    pub place: Place,
}

impl From<&steps::OpenStep> for OpenStep {
    fn from(step: &steps::OpenStep) -> Self {
        Self { id: step.id.clone(), package: step.package.clone(), place: step.place.clone() }
    }
}

/// What `steps` prints.
#[derive(Serialize, JsonSchema)]
pub struct Steps {
    /// How many steps are open.
    pub open: usize,
    /// The steps: those that are open, or all with `--all`.
    pub steps: Vec<Step>,
}

impl Document for Steps {
    const COMMAND: &'static str = "steps";
}

/// What `steps done` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NotedStep {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The step.
    pub id: StepName,
    /// Its package.
    pub package: PackageName,
    /// Where it was done.
    pub place: Place,
    /// Whether it counts as done now.
    pub done: bool,
    /// How many steps are open then.
    pub open: usize,
}

impl Document for NotedStep {
    const COMMAND: &'static str = "steps done";
}

/// What `steps check` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CheckedSteps {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The steps that have a check.
    pub steps: Vec<CheckedStep>,
}

impl Document for CheckedSteps {
    const COMMAND: &'static str = "steps check";
}

/// A step that was checked.
#[derive(Serialize, JsonSchema)]
pub struct CheckedStep {
    /// Its name.
    pub id: StepName,
    /// Its package.
    pub package: PackageName,
    /// Where it has to be done.
    pub place: Place,
    /// What was looked at.
    pub check: StepCheck,
    /// Whether it was done.
    pub done: bool,
}

impl From<&SeenStep<'_>> for CheckedStep {
    fn from(SeenStep { todo, check, is_seen }: &SeenStep<'_>) -> Self {
        Self {
            id: todo.step.id.clone(),
            package: todo.package.name.clone(),
            place: todo.place.clone(),
            check: (*check).clone(),
            done: *is_seen,
        }
    }
}
