//! Options of `task`.

use std::ffi::OsString;
use std::process::Command;

use bibliotax_app::failure::Failure;
use bibliotax_app::on_shelf::variables;
use bibliotax_app::programs::{ProgramVariables, exec, run_to_end};
use bibliotax_app::task::{self, Job, Request};
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_core::workspace::Project;

use super::install::carry_out;
use super::projects::ProjectArgs;
use super::shelf::ShelfArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Run a task of the manifest, after the tasks it depends on
///
/// The shelf is brought up to date first. Tasks are defined in `[tasks]` and run by the system's shell in the project's folder, with
/// the same environment as `bibliotax with`. Without a name, the tasks are listed.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax task\n  bibliotax task build\n  bibliotax task test -- --verbose\n  bibliotax task build --in all"
)]
pub struct Task {
    /// The task to run
    #[arg(value_name = "TASK")]
    name: Option<String>,
    #[command(flatten)]
    projects: ProjectArgs,
    /// Run it first in the projects that this one needs, if they have a task of this name
    #[arg(long)]
    needs_first: bool,
    #[command(flatten)]
    shelf: ShelfArgs,
    /// Show the commands without running them
    #[arg(long)]
    dry_run: bool,
    /// Further arguments for the task's command
    #[arg(last = true, value_name = "ARGUMENTS")]
    arguments: Vec<OsString>,
}

impl Task {
    /// Whether it only lists the tasks, or shows what would be run.
    pub fn only_lists(&self) -> bool {
        self.name.is_none() || self.dry_run
    }

    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &run.offline_if(self.shelf.network.offline);
        let workspace = WorkspaceFolder::without_lock(run.folder())?;
        let request = Request { projects: self.projects.words(), needs_first: self.needs_first };
        let Some(name) = &self.name else {
            let (jobs, projects) = task::list(&request, &workspace)?;
            render::task::list(run.ui, &jobs, projects > 1);
            return Ok(Exit::Done);
        };
        let jobs = task::jobs(&request, &workspace, name)?;
        if self.dry_run {
            render::task::show_plan(run.ui, &workspace, &jobs);
            return Ok(Exit::Done);
        }
        let mut projects: Vec<&Project> = jobs.iter().map(|job| job.project).collect();
        projects.dedup_by_key(|project| &project.folder);
        let variables = self.shelf.prepare(&workspace, &projects, run)?;
        let running = Running { run, workspace: &workspace, projects: &projects, variables: &variables };
        running.all(&jobs, name, &self.arguments)
    }
}

impl ShelfArgs {
    /// Makes the shelf right, without a word on stdout, which is the program's; what programs of these projects then find in
    /// their environment.
    pub fn prepare(
        &self,
        workspace: &WorkspaceFolder,
        projects: &[&Project],
        run: &Run<'_>,
    ) -> Result<Vec<ProgramVariables>, Failure> {
        let words = self.words();
        let targets = words.targets(projects)?;
        let aside = run.ui.aside();
        let run = run.with_ui(&aside);
        if let Some(plan) = run.working(|context| words.install(workspace, context))? {
            carry_out(&plan, false, &run)?;
        }
        run.working(|context| variables(workspace, projects, &targets, context))
    }
}

/// Tasks that are run one after the other.
struct Running<'r> {
    run: &'r Run<'r>,
    workspace: &'r WorkspaceFolder,
    projects: &'r [&'r Project],
    /// What programs of each project find in their environment.
    variables: &'r [ProgramVariables],
}

impl Running<'_> {
    /// Runs tasks in their order: those before the last as children, and the last in the place of this process.
    fn all(&self, jobs: &[Job<'_>], name: &str, arguments: &[OsString]) -> Result<Exit, Failure> {
        let Some((last, before)) = jobs.split_last() else { return Ok(Exit::Done) };
        for job in before {
            let Some(mut command) = self.command(job, if job.is(name) { arguments } else { &[] }) else {
                continue;
            };
            render::task::show_running(self.run.ui, self.workspace, job);
            let status = run_to_end(&mut command)?;
            if status != 0 {
                let title = |job| render::task::title(self.workspace, job);
                self.run.ui.warn(format!("task `{}` failed, so `{}` was not run", title(job), title(last)));
                return Ok(Exit::Passed(status));
            }
        }
        let Some(mut command) = self.command(last, arguments) else { return Ok(Exit::Done) };
        if !before.is_empty() {
            render::task::show_running(self.run.ui, self.workspace, last);
        }
        exec(&mut command).map(Exit::Passed)
    }

    fn command(&self, job: &Job<'_>, arguments: &[OsString]) -> Option<Command> {
        let mut command = job.command(self.workspace, arguments)?;
        let at = self.projects.iter().position(|project| project.folder == job.project.folder);
        let variables = at.and_then(|at| self.variables.get(at));
        variables.into_iter().for_each(|variables| variables.put_into(&mut command, job.task.tokens));
        Some(command)
    }
}
