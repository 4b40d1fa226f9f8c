//! Options of `init`.

use bibliotax_app::failure::Failure;
use bibliotax_app::init::{self, Begins, OldFiles, Request, has_workspace, old_files_of};

use crate::exit_status::Exit;
use crate::json;
use crate::render;
use crate::run::Run;

/// Create a manifest with comments
///
/// An existing manifest is never overwritten. Inside a workspace, the new project is added to the workspace. `--workspace` makes a
/// workspace of the projects in the folders below.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax init --registry seedhouse=../registry\n  bibliotax init --workspace"
)]
pub struct Init {
    /// The project's name [default: the folder's]
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Make this folder the root of a workspace
    #[arg(long, conflicts_with = "name")]
    workspace: bool,
    /// Remove the locks and shelves that the projects had before
    #[arg(long, requires = "workspace", conflicts_with = "dry_run")]
    remove_old: bool,
    /// Declare a registry: its name, and its URL or folder
    #[arg(long, value_name = "NAME=FOLDER")]
    registry: Vec<String>,
    /// Print the manifest without writing it
    #[arg(long)]
    dry_run: bool,
}

impl Init {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        if self.remove_old && has_workspace(run.folder()) {
            return remove_old_files(run);
        }
        let request = Request {
            name: self.name.clone(),
            is_workspace: self.workspace,
            registries: self.registry.clone(),
        };
        let plan = run.working(|context| init::plan(&request, context))?;
        render::init::show_missing_registries(run.ui, &plan);
        if self.dry_run {
            run.ui.answer_as_is(plan.text.trim_end());
        } else {
            plan.apply()?;
            if let Begins::Workspace { old, .. } = &plan.begins
                && self.remove_old
            {
                remove(old, run)?;
            }
            render::init::show_begun(run.ui, &plan, self.remove_old);
        }
        run.ui.report(|| json::declare::Init::begun(&plan, self.dry_run, self.remove_old));
        Ok(Exit::Done)
    }
}

fn remove(old: &[OldFiles], run: &Run<'_>) -> Result<(), Failure> {
    run.working(|context| old.iter().try_for_each(|old| old.remove(context.folder, context.listener)))
}

/// Removes the locks and shelves that the projects of a workspace have from before.
fn remove_old_files(run: &Run<'_>) -> Result<Exit, Failure> {
    let old = old_files_of(run.folder())?;
    remove(&old, run)?;
    render::init::show_removed(run.ui, &old);
    if old.is_empty() {
        render::init::show_nothing_removed(run.ui);
    }
    run.ui.report(|| json::declare::Init::removed(&old));
    Ok(Exit::Done)
}
