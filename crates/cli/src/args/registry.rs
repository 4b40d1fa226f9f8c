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

/// Make, load and serve a registry
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry create ../registry\n  bibliotax registry load ../registry cards.jsonl\n  bibliotax registry serve --dir ../registry"
)]
pub struct Registry {
    #[command(subcommand)]
    command: RegistryCommand,
}

#[derive(Debug, clap::Subcommand)]
enum RegistryCommand {
    Create(create::Create),
    /// Add many cards and events, one JSON object a line, with the archives that they name by path
    #[command(after_help = "Example:\n  bibliotax registry load ../registry cards.jsonl")]
    Load {
        /// The registry's folder, or `s3://BUCKET/PREFIX`
        folder: String,
        /// Files of JSON lines, or of one card each in TOML (`.toml`)
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// Check every line and load nothing
        #[arg(long)]
        dry_run: bool,
    },
    /// Read all that a registry holds and tell what is wrong; ends with status 1 if something is
    #[command(after_help = "Example:\n  bibliotax registry check ../registry")]
    Check {
        /// The registry's folder
        folder: String,
        /// First make the list of names anew from the histories, and take out old uploads and what was left behind
        #[arg(long)]
        mend: bool,
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
            RegistryCommand::Check { folder, mend } => {
                let read = |name: &str| run.ui.tell(1, format!("read {name}"));
                let report = run.working(|context| check::report(folder, *mend, context, &read))?;
                render::show_checked(run.ui, &report);
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
