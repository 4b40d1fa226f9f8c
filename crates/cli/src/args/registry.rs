//! The subcommands of `registry`.

mod create;
mod mirror;
mod serve;
mod sign_in;
mod token;

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::{check, load};

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
        /// The registry: a folder, or `s3://BUCKET/PREFIX`
        folder: String,
        /// Files with one JSON object per line, or TOML files with one card each
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// Check every line without adding anything
        #[arg(long)]
        dry_run: bool,
    },
    /// Check everything in a registry; exits with status 1 if there are problems
    #[command(after_help = "Example:\n  bibliotax registry check ../registry")]
    Check {
        /// The registry: a folder, or `s3://BUCKET/PREFIX`
        folder: String,
        /// First rebuild the list of names, and delete abandoned uploads and temporary files
        #[arg(long)]
        repair: bool,
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
            RegistryCommand::Load { folder, files, dry_run } => {
                let (loaded, registry) =
                    run.working(|context| load::load(folder, files, *dry_run, context))?;
                render::show_loaded(run.ui, &loaded, &registry, *dry_run);
                Ok(Exit::Done)
            }
            RegistryCommand::Check { folder, repair } => {
                let read = |name: &str| run.ui.tell(1, format!("read {name}"));
                let report = run.working(|context| check::report(folder, *repair, context, &read))?;
                render::show_checked(run.ui, &report, folder);
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
