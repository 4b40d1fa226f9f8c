//! The subcommands of `registry`.

mod create;
mod mirror;
mod serve;
mod sign_in;
mod token;

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::{check, load};

use super::standard::InputFile;
use crate::exit_status::Exit;
use crate::render::registry as render;
use crate::run::Run;

/// Create, fill and serve registries
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry create ../registry\n  bibliotax registry load ../registry cards.jsonl\n  bibliotax registry serve ../registry"
)]
pub struct Registry {
    #[command(subcommand)]
    command: RegistryCommand,
}

#[derive(Debug, clap::Subcommand)]
enum RegistryCommand {
    Create(create::Create),
    /// Add cards and events from files, with the archives that they name
    #[command(after_help = "Example:\n  bibliotax registry load ../registry cards.jsonl")]
    Load {
        /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
        registry: String,
        /// Files with one JSON object per line, or TOML files with one card each; `-` for standard input
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// Fetch the archives that cards point at, check them, and fill in what cards don't say of them
        #[arg(long)]
        fetch: bool,
        /// Check every line without adding anything
        #[arg(long)]
        dry_run: bool,
    },
    /// Check everything in a registry; exits with status 1 if there are problems
    #[command(after_help = "Example:\n  bibliotax registry check ../registry")]
    Check {
        /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
        registry: String,
        /// First rebuild the list of names, and delete abandoned uploads and temporary files
        #[arg(long)]
        repair: bool,
        /// Fetch and check the archives that cards point at, too
        #[arg(long)]
        archives: bool,
        /// With --repair: check without repairing
        #[arg(long, requires = "repair")]
        dry_run: bool,
    },
    Mirror(mirror::Mirror),
    Serve(serve::Serve),
    Token(token::Tokens),
    SignIn(sign_in::SignIn),
    SignOut(sign_in::SignOut),
}

impl Registry {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        match &self.command {
            RegistryCommand::Create(create) => create.run(run),
            RegistryCommand::Load { registry, files, fetch, dry_run } => {
                load(run, registry, files, *fetch, *dry_run)
            }
            RegistryCommand::Check { registry, repair, archives, dry_run } => {
                let repairs = *repair && !dry_run;
                let report = run.working(|context| check::report(registry, repairs, *archives, context))?;
                render::show_checked(run.ui, &report, registry, *dry_run);
                Ok(if report.audit.flaws.is_empty() { Exit::Done } else { Exit::Differs })
            }
            RegistryCommand::Mirror(mirror) => mirror.run(run),
            RegistryCommand::Serve(serve) => serve.run(run),
            RegistryCommand::Token(tokens) => tokens.run(run),
            RegistryCommand::SignIn(sign_in) => sign_in.run(run),
            RegistryCommand::SignOut(sign_out) => sign_out.run(run),
        }
    }
}

/// Loads files of cards and events; what standard input has is seen from the folder here.
fn load(
    run: &Run<'_>,
    registry: &str,
    files: &[PathBuf],
    fetches: bool,
    is_dry_run: bool,
) -> Result<Exit, Failure> {
    let inputs = files.iter().map(|file| InputFile::of(file)).collect::<Result<Vec<_>, _>>()?;
    let beside = |input: &InputFile| input.is_standard().then(|| run.folder().to_owned());
    let files: Vec<load::Input> = inputs
        .iter()
        .map(|input| load::Input { path: input.path().to_owned(), beside: beside(input) })
        .collect();
    let (loaded, registry) =
        run.working(|context| load::load(registry, &files, fetches, is_dry_run, context))?;
    render::show_loaded(run.ui, &loaded, &registry, is_dry_run);
    Ok(Exit::Done)
}
