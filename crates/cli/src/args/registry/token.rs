//! Options of `registry token`.

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::tokens;
use bibliotax_registry::storage::tokens::{Action, NewToken};
use jiff::SignedDuration;

use crate::exit_status::Exit;
use crate::render::registry as render;
use crate::run::Run;

/// Manage who may publish to a registry that you serve
#[derive(Debug, clap::Args)]
pub struct Tokens {
    #[command(subcommand)]
    command: TokenCommand,
}

#[derive(Debug, clap::Subcommand)]
enum TokenCommand {
    /// Issue a token; it is shown only once
    #[command(
        after_help = "Example:\n  bibliotax registry token issue ../registry \"the build server\" --only \"fernhollow/*\" --days 90"
    )]
    Issue {
        /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
        registry: String,
        /// A name for the token, such as its user
        name: String,
        /// Allow only this package, or all whose names begin with the text before `*`
        #[arg(long = "only", value_name = "PATTERN", required = true, value_delimiter = ',')]
        packages: Vec<String>,
        /// Allow this action
        #[arg(long = "allow", value_name = "ACTION", value_parser = ["publish", "withdraw", "deprecate"], default_value = "publish", value_delimiter = ',')]
        actions: Vec<String>,
        /// Let the token expire after so many days
        #[arg(long, value_parser = clap::value_parser!(u32).range(1..))]
        days: Option<u32>,
        /// Check the options without issuing a token
        #[arg(long)]
        dry_run: bool,
    },
    /// List the tokens
    #[command(after_help = "Example:\n  bibliotax registry token show ../registry")]
    Show {
        /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
        registry: String,
    },
    /// Revoke a token
    #[command(after_help = "Example:\n  bibliotax registry token end ../registry 4f1c09aa")]
    End {
        /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
        registry: String,
        /// The token's id, from `token show`
        id: String,
        /// Check that the token exists without revoking it
        #[arg(long)]
        dry_run: bool,
    },
}

impl Tokens {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let now = run.environment.now;
        match &self.command {
            TokenCommand::Issue { registry, name, packages, actions, days, dry_run } => {
                let known = |word: &String| Action::ALL.iter().find(|(known, _)| known == word);
                let actions = actions.iter().filter_map(known).map(|(_, action)| *action).collect();
                let expires = days.map(|days| now + SignedDuration::from_hours(24 * i64::from(days)));
                let wish = NewToken { name: name.clone(), packages: packages.clone(), actions, expires };
                if *dry_run {
                    let place = run.working(|context| tokens::check_place(registry, context))?;
                    render::show_wanted_token(run.ui, &wish, &place);
                } else {
                    let (token, text) = run.working(|context| tokens::issue(registry, wish, context))?;
                    render::show_token(run.ui, &token, &text);
                }
            }
            TokenCommand::Show { registry } => {
                let tokens = run.working(|context| tokens::show(registry, context))?;
                render::show_tokens(run.ui, &tokens, now);
            }
            TokenCommand::End { registry, id, dry_run } => {
                run.working(|context| tokens::end(registry, id, *dry_run, context))?;
                render::show_ended(run.ui, id, *dry_run);
            }
        }
        Ok(Exit::Done)
    }
}
