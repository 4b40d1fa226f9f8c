//! Options of `steps`.

use bibliotax_app::failure::Failure;
use bibliotax_app::steps::{self, StepWords};
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_core::steps::Todo;

use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use crate::exit_status::Exit;
use crate::picking::{self, Row};
use crate::render;
use crate::run::Run;

/// List steps to do by hand, or mark them as done
///
/// Packages can ask for things that an install can't do, such as loading a table onto a device. Done steps are recorded in
/// `bibliotax.steps`, which belongs into version control. A step that an update changes is open again.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax steps\n  bibliotax steps done calibrate --device hand-3\n  bibliotax steps check"
)]
pub struct Steps {
    #[command(subcommand)]
    command: Option<StepsCommand>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    /// List done steps, too
    #[arg(long)]
    all: bool,
}

#[derive(Debug, clap::Subcommand)]
enum StepsCommand {
    /// Mark a step as done
    #[command(
        after_help = "Examples:\n  bibliotax steps done calibrate --device hand-3\n  bibliotax steps done calibrate --device hand-3 --undo"
    )]
    Done(StepArgs),
    /// Check which steps are done, if their packages say how
    ///
    /// Steps found done are marked, others are opened again. Exits with status 1 if a step isn't done.
    #[command(after_help = "Example:\n  bibliotax steps check")]
    Check(CheckArgs),
}

/// Which step is meant, and where.
#[derive(Debug, clap::Args)]
struct StepArgs {
    /// The step, as `bibliotax steps` lists it [on a terminal, default: mark them in a list]
    step: Option<String>,
    /// The package, if several have a step of this name
    #[arg(long, value_name = "PACKAGE")]
    package: Option<String>,
    /// The target that it was done for
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// The device that it was done on
    #[arg(long, value_name = "DEVICE", conflicts_with = "target")]
    device: Option<String>,
    /// Mark it as not done
    #[arg(long)]
    undo: bool,
    /// Show the changes without making them
    #[arg(long)]
    dry_run: bool,
}

/// How the steps are looked at.
#[derive(Debug, clap::Args)]
struct CheckArgs {
    /// Show the result without recording it
    #[arg(long)]
    dry_run: bool,
}

impl Steps {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let Some(command) = &self.command else { return self.list(run) };
        let workspace = run.working(|context| WorkspaceFolder::hold(context.folder, context.listener))?;
        match command {
            StepsCommand::Done(step) if step.step.is_none() => step.mark(run, &workspace),
            StepsCommand::Done(step) => step.note(run, &workspace, !step.undo),
            StepsCommand::Check(check) => check.run(run, &workspace),
        }
    }

    fn list(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let workspace = WorkspaceFolder::find(run.folder())?;
        let todos = steps::steps_of(
            &workspace,
            workspace.needed_lock()?,
            &self.projects.words(),
            &self.targets.targets,
        )?;
        render::steps::list(run.ui, &todos, self.all);
        Ok(Exit::Done)
    }
}

impl StepArgs {
    /// Ticks off what a person marks of the open steps, or opens what they mark of those that are done.
    fn mark(&self, run: &Run<'_>, workspace: &WorkspaceFolder) -> Result<Exit, Failure> {
        if !picking::can_ask(run) {
            return Err(Failure::new("usage.missing", "`bibliotax steps done` needs `STEP`")
                .advice("`bibliotax steps` lists the steps"));
        }
        let lock = workspace.needed_lock()?;
        let todos = steps::all_steps(workspace, lock)?;
        // One whose device isn't known by name can't be marked in a list.
        let markable = todos.iter().filter(|todo| todo.is_open() != self.undo && todo.tick_name().is_some());
        let rows: Vec<Row<&Todo<'_>>> =
            markable.map(|todo| Row { label: render::steps::in_a_row(todo), value: todo }).collect();
        if rows.is_empty() {
            run.ui.say(if self.undo { "no step is done" } else { "no step is open" });
            return Ok(Exit::Done);
        }
        let title = if self.undo { "Steps that aren't done after all:" } else { "Steps that are done:" };
        let marked = picking::marked(title, rows)?;
        for todo in &marked {
            if !self.dry_run {
                steps::note(workspace, todo, !self.undo)?;
            }
            let open = steps::all_steps(workspace, lock)?.iter().filter(|todo| Todo::is_open(todo)).count();
            render::steps::show_noted(run.ui, todo, !self.undo, self.dry_run, open);
        }
        Ok(Exit::Done)
    }

    /// Ticks the step off, or opens it again.
    fn note(&self, run: &Run<'_>, workspace: &WorkspaceFolder, is_done: bool) -> Result<Exit, Failure> {
        let lock = workspace.needed_lock()?;
        let words = StepWords {
            step: self.step.clone().unwrap_or_default(),
            package: self.package.clone(),
            target: self.target.clone(),
            device: self.device.clone(),
        };
        let todo = steps::step_meant(&words, workspace, lock)?;
        if !self.dry_run {
            steps::note(workspace, &todo, is_done)?;
        }
        let open = steps::all_steps(workspace, lock)?.iter().filter(|todo| Todo::is_open(todo)).count();
        render::steps::show_noted(run.ui, &todo, is_done, self.dry_run, open);
        Ok(Exit::Done)
    }
}

impl CheckArgs {
    fn run(&self, run: &Run<'_>, workspace: &WorkspaceFolder) -> Result<Exit, Failure> {
        let seen = steps::look(workspace, workspace.needed_lock()?)?;
        if !self.dry_run {
            steps::note_seen(workspace, &seen)?;
        }
        render::steps::show_seen(run.ui, &seen, self.dry_run);
        Ok(if seen.iter().all(|step| step.is_seen) { Exit::Done } else { Exit::Differs })
    }
}
