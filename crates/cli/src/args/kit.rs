//! Options of `kit`.

use std::path::{Path, PathBuf};

use bibliotax_app::failure::Failure;
use bibliotax_app::kit::{self, Request};

use super::members::MemberFilterArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Move packages to a machine without a network
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax kit make garden.kit\n  bibliotax kit open garden.kit\n  bibliotax install --offline"
)]
pub struct Kit {
    #[command(subcommand)]
    command: KitCommand,
}

#[derive(Debug, clap::Subcommand)]
enum KitCommand {
    /// Pack the lock and all its packages into one file
    ///
    /// The same lock and targets give the same bytes. Archives are downloaded from their registries, since the store keeps only their
    /// contents.
    #[command(after_help = "Example:\n  bibliotax kit make garden.kit --target hand-unit")]
    Make {
        /// The file to write
        file: PathBuf,
        #[command(flatten)]
        members: MemberFilterArgs,
        /// Pack only what this target needs
        #[arg(long = "target", value_name = "TARGET", value_delimiter = ',')]
        targets: Vec<String>,
        /// Show what would be packed without writing it
        #[arg(long)]
        dry_run: bool,
    },
    /// Add the packages of a kit to the store
    ///
    /// Every file is verified. After that, `bibliotax install --offline` works in a project with the same lock.
    #[command(after_help = "Example:\n  bibliotax kit open garden.kit")]
    Open {
        /// The kit
        file: PathBuf,
    },
}

impl Kit {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match &self.command {
            KitCommand::Make { file, members, targets, dry_run } => {
                make(run, file, &Request { members: members.words(), targets: targets.clone() }, *dry_run)
            }
            KitCommand::Open { file } => open(run, file),
        }
    }
}

fn make(run: &Run<'_>, file: &Path, request: &Request, is_dry_run: bool) -> Result<Exit, Failure> {
    let plan = run.working(|context| kit::plan(request, context))?;
    if !plan.is_locked {
        run.ui.warn("bibliotax.toml was changed since bibliotax.lock was made from it; the kit carries what is locked");
    }
    let head = if is_dry_run { plan.head() } else { run.working(|context| plan.apply(file, context)) }?;
    render::kit::show_made(run.ui, file, &head, is_dry_run);
    Ok(Exit::Done)
}

fn open(run: &Run<'_>, file: &Path) -> Result<Exit, Failure> {
    let opened = run.working(|context| kit::open(file, context))?;
    let is_for_here = run.working(|context| kit::is_for_workspace_here(&opened.head, context));
    render::kit::show_opened(run.ui, file, &opened, is_for_here);
    Ok(Exit::Done)
}
