//! What `task` prints.

use bibliotax_app::task::Job;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::name::{PackageName, TaskName};
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// What `task` prints, without a task or with `--dry-run`.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Tasks {
    /// Whether this is what would be run, in this order; else all tasks are listed.
    pub dry_run: bool,
    /// The tasks.
    pub tasks: Vec<Task>,
}

impl Document for Tasks {
    const COMMAND: &'static str = "task";
}

/// A task of a project.
#[derive(Serialize, JsonSchema)]
pub struct Task {
    /// The project.
    pub project: PackageName,
    /// The task.
    pub name: TaskName,
    /// The command line.
    #[serde(rename = "do")]
    pub command: Option<String>,
    /// The tasks that run first.
    pub after: Vec<TaskName>,
    /// The folder that it runs in, seen from the project's.
    #[serde(rename = "in")]
    pub folder: Option<InnerPath>,
}

impl Tasks {
    /// These tasks.
    pub fn of(jobs: &[Job<'_>], dry_run: bool) -> Self {
        let one = |job: &Job<'_>| Task {
            project: job.project.name().clone(),
            name: job.task.name.clone(),
            command: job.task.command.clone(),
            after: job.task.after.clone(),
            folder: job.task.folder.clone(),
        };
        Self { dry_run, tasks: jobs.iter().map(one).collect() }
    }
}
