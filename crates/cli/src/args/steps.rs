//! Options of `steps`.

use bibliotax_app::failure::Failure;
use bibliotax_app::steps::{self, StepWords};
use bibliotax_app::workspace::WorkspaceFolder;
use bibliotax_core::steps::Todo;

use super::members::MemberFilterArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// List what must still be done by hand, or tick it off
///
/// Packages can ask for things that no install can do: flash a table onto a device, switch something on. What was done is
/// noted in `bibliotax.steps`, which belongs into version control; a step that reads otherwise after an update is open again.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax steps\n  bibliotax steps done calibrate --device hand-3\n  bibliotax steps check"
)]
pub struct Steps {
    #[command(subcommand)]
    command: Option<StepsCommand>,
    #[command(flatten)]
    members: MemberFilterArgs,
    /// List the steps that are done, too
    #[arg(long)]
    all: bool,
}

#[derive(Debug, clap::Subcommand)]
enum StepsCommand {
    /// Tick a step off
    #[command(after_help = "Example:\n  bibliotax steps done calibrate --device hand-3")]
    Done(StepArgs),
    /// Open a step again that was ticked off
    #[command(after_help = "Example:\n  bibliotax steps reopen calibrate --device hand-3")]
    Reopen(StepArgs),
    /// Look whether steps were done, as far as their packages say how to see it
    ///
    /// What is seen to be done is ticked off, and what isn't is opened again. Ends with status 1 if something isn't.
    #[command(after_help = "Example:\n  bibliotax steps check")]
    Check(CheckArgs),
}

/// Which step is meant, and where.
#[derive(Debug, clap::Args)]
struct StepArgs {
    /// The step, as `bibliotax steps` calls it
    step: String,
    /// Its package, where several have a step of this name
    #[arg(long, value_name = "PACKAGE")]
    package: Option<String>,
    /// The target it was done for
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
    /// The device it was done on
    #[arg(long, value_name = "DEVICE", conflicts_with = "target")]
    device: Option<String>,
    /// Show what would be noted and write nothing
    #[arg(long)]
    dry_run: bool,
}

/// How the steps are looked at.
#[derive(Debug, clap::Args)]
struct CheckArgs {
    /// Show what is seen and note nothing
    #[arg(long)]
    dry_run: bool,
}

impl Steps {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let Some(command) = &self.command else { return self.list(run) };
        let workspace = run.working(|context| WorkspaceFolder::hold(context.folder, context.listener))?;
        match command {
            StepsCommand::Done(step) => step.note(run, &workspace, true),
            StepsCommand::Reopen(step) => step.note(run, &workspace, false),
            StepsCommand::Check(check) => check.run(run, &workspace),
        }
    }

    fn list(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let workspace = WorkspaceFolder::find(run.folder())?;
        let todos = steps::steps_of(&workspace, workspace.needed_lock()?, &self.members.words())?;
        render::steps::list(run.ui, &todos, self.all);
        Ok(Exit::Done)
    }
}

impl StepArgs {
    /// Ticks the step off, or opens it again.
    fn note(&self, run: &Run<'_>, workspace: &WorkspaceFolder, is_done: bool) -> Result<Exit, Failure> {
        let lock = workspace.needed_lock()?;
        let words = StepWords {
            step: self.step.clone(),
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
