//! Options of `kit`.

use std::fs::File;
use std::io::{self, IsTerminal};
use std::path::{Path, PathBuf};

use bibliotax_app::failure::Failure;
use bibliotax_app::kit::{self, Request};
use bibliotax_disk::error::At;

use super::projects::{ProjectFilterArgs, TargetFilterArgs};
use super::standard::{InputFile, STANDARD, is_standard, temporary_file};
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
        /// The file to write; `-` for standard output
        file: PathBuf,
        #[command(flatten)]
        projects: ProjectFilterArgs,
        #[command(flatten)]
        targets: TargetFilterArgs,
        /// Show what would be packed without writing it
        #[arg(long)]
        dry_run: bool,
    },
    /// Add the packages of a kit to the store
    ///
    /// Every file is verified. After that, `bibliotax install --offline` works in a project with the same lock.
    #[command(after_help = "Example:\n  bibliotax kit open garden.kit")]
    Open {
        /// The kit; `-` for standard input
        file: PathBuf,
        /// Verify the kit and show what is missing in the store, without adding anything
        #[arg(long)]
        dry_run: bool,
    },
}

impl Kit {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match &self.command {
            KitCommand::Make { file, projects, targets, dry_run } => make(
                run,
                file,
                &Request { projects: projects.words(), targets: targets.targets.clone() },
                *dry_run,
            ),
            KitCommand::Open { file, dry_run } => open(run, file, *dry_run),
        }
    }
}

fn make(run: &Run<'_>, file: &Path, request: &Request, is_dry_run: bool) -> Result<Exit, Failure> {
    let plan = run.working(|context| kit::plan(request, context))?;
    if !plan.is_locked {
        run.ui
            .warn("bibliotax.toml changed since bibliotax.lock was written; the kit contains what is locked");
    }
    if is_standard(file) && !is_dry_run {
        return make_to_output(run, &plan);
    }
    let head = if is_dry_run { plan.head() } else { run.working(|context| plan.apply(file, context)) }?;
    render::kit::show_made(run.ui, file, &head, is_dry_run);
    Ok(Exit::Done)
}

/// Makes a kit and, once it is whole, writes it to standard output.
fn make_to_output(run: &Run<'_>, plan: &kit::Plan) -> Result<Exit, Failure> {
    if io::stdout().is_terminal() {
        return Err(Failure::new("usage.value", "a kit can't be printed on a terminal")
            .advice("redirect it: `bibliotax kit make - > garden.kit`"));
    }
    let made = temporary_file()?;
    let head = run.working(|context| plan.apply(made.path(), context))?;
    let mut file = File::open(made.path()).at("read", made.path())?;
    io::copy(&mut file, &mut io::stdout().lock()).at("write", "standard output")?;
    render::kit::show_made(&run.ui.aside(), Path::new(STANDARD), &head, false);
    Ok(Exit::Done)
}

fn open(run: &Run<'_>, file: &Path, is_dry_run: bool) -> Result<Exit, Failure> {
    let input = InputFile::of(file)?;
    let opened = run.working(|context| kit::open(input.path(), is_dry_run, context))?;
    let is_for_here = run.working(|context| kit::is_for_workspace_here(&opened.head, context));
    render::kit::show_opened(run.ui, file, &opened, is_for_here, is_dry_run);
    Ok(Exit::Done)
}
