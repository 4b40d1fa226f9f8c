//! The subcommands of `registry`.

mod create;
mod follow;
mod load;
mod mirror;
mod serve;
mod sign_in;
mod token;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::check;

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
    Load(load::Load),
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
    Follow(follow::Follow),
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
            RegistryCommand::Load(load) => load.run(run),
            RegistryCommand::Check { registry, repair, archives, dry_run } => {
                let repairs = *repair && !dry_run;
                let report = run.working(|context| check::report(registry, repairs, *archives, context))?;
                render::show_checked(run.ui, &report, registry, *dry_run);
                Ok(if report.audit.flaws.is_empty() { Exit::Done } else { Exit::Differs })
            }
            RegistryCommand::Follow(follow) => follow.run(run),
            RegistryCommand::Mirror(mirror) => mirror.run(run),
            RegistryCommand::Serve(serve) => serve.run(run),
            RegistryCommand::Token(tokens) => tokens.run(run),
            RegistryCommand::SignIn(sign_in) => sign_in.run(run),
            RegistryCommand::SignOut(sign_out) => sign_out.run(run),
        }
    }
}
