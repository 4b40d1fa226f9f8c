//! `registry token`: who may publish to a registry that is served.

use std::path::Path;

use bibliotax_registry::model::keep::Keep;
use bibliotax_registry::storage::tokens::{self, Action, Token, Wish};
use serde_json::json;

use crate::clock::now;
use crate::codes::Exit;
use crate::credentials::TOKENS;
use crate::failure::Failure;
use crate::kept;
use crate::show::table;
use crate::ui::{Ui, clean};

/// Say who may publish to a registry that is served
#[derive(Debug, clap::Args)]
pub struct Tokens {
    #[command(subcommand)]
    command: TokenCommand,
}

#[derive(Debug, clap::Subcommand)]
enum TokenCommand {
    /// Make a token; it is shown once and nothing keeps it
    #[command(
        after_help = "Example:\n  bibliotax registry token create ../registry \"the build server\" --package \"fernhollow/*\" --days 90"
    )]
    Create {
        /// The registry's folder, or `s3://BUCKET/PREFIX`
        folder: String,
        /// Whom or what it is for
        name: String,
        /// A package that it is for, or the beginning of names before a `*`; may be given several times
        #[arg(long = "package", value_name = "PATTERN", required = true)]
        packages: Vec<String>,
        /// What it allows; may be given several times
        #[arg(long = "allow", value_name = "ACTION", value_parser = ["publish", "withdraw", "deprecate"], default_value = "publish")]
        actions: Vec<String>,
        /// Let it end after so many days
        #[arg(long, value_parser = clap::value_parser!(u32).range(1..))]
        days: Option<u32>,
    },
    /// List the tokens
    #[command(after_help = "Example:\n  bibliotax registry token list ../registry")]
    List {
        /// The registry's folder, or `s3://BUCKET/PREFIX`
        folder: String,
    },
    /// End a token
    #[command(after_help = "Example:\n  bibliotax registry token revoke ../registry 4f1c09aa")]
    Revoke {
        /// The registry's folder, or `s3://BUCKET/PREFIX`
        folder: String,
        /// The token's id, as the list shows it
        id: String,
    },
}

impl Tokens {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        match &self.command {
            TokenCommand::Create { folder, name, packages, actions, days } => {
                let known = |word: &String| Action::ALL.iter().find(|(known, _)| known == word);
                let actions = actions.iter().filter_map(known).map(|(_, action)| *action).collect();
                let expires = days.map(|days| now() + jiff::SignedDuration::from_hours(24 * i64::from(days)));
                let wish = Wish { name: name.clone(), packages: packages.clone(), actions, expires };
                create(ui, &*kept::open(folder, here)?, wish)
            }
            TokenCommand::List { folder } => list(ui, &*kept::open(folder, here)?),
            TokenCommand::Revoke { folder, id } => revoke(ui, &*kept::open(folder, here)?, id),
        }
    }
}

fn create(ui: &Ui, registry: &dyn Keep, wish: Wish) -> Result<Exit, Failure> {
    let (token, text) = tokens::create(registry, wish, now())?;
    ui.answer(&text);
    ui.say(format!("this is token {}; it is shown only now", token.id));
    ui.say(format!(
        "who publishes keeps it with `bibliotax registry sign-in`, or lets the variable {TOKENS} say `https://HOST TOKEN`"
    ));
    ui.report("registry token create", || json!({ "id": token.id, "token": text, "expires": token.expires }));
    Ok(Exit::Done)
}

fn list(ui: &Ui, registry: &dyn Keep) -> Result<Exit, Failure> {
    let tokens = tokens::list(registry)?;
    let actions = |token: &Token| {
        let words = Action::ALL.iter().filter(|(_, action)| token.actions.contains(action));
        words.map(|(word, _)| *word).collect::<Vec<_>>().join(", ")
    };
    let ends = |token: &Token| match token.expires {
        None => "never ends".to_owned(),
        Some(at) if token.is_valid(now()) => format!("ends {}", at.strftime("%Y-%m-%d")),
        Some(at) => format!("ended {}", at.strftime("%Y-%m-%d")),
    };
    let row = |token: &Token| {
        vec![
            format!(" {}", token.id),
            clean(&token.name),
            actions(token),
            clean(&token.packages.join(", ")),
            ends(token),
        ]
    };
    if tokens.is_empty() {
        ui.answer("there are no tokens: nobody can publish over the network");
    } else {
        ui.answer(table(ui, tokens.iter().map(row)));
    }
    let data = |token: &Token| {
        json!({ "id": token.id, "name": token.name, "actions": token.actions, "packages": token.packages,
            "expires": token.expires, "at": token.at })
    };
    ui.report("registry token list", || json!({ "tokens": tokens.iter().map(data).collect::<Vec<_>>() }));
    Ok(Exit::Done)
}

fn revoke(ui: &Ui, registry: &dyn Keep, id: &str) -> Result<Exit, Failure> {
    if !tokens::revoke(registry, id, now())? {
        let failure = Failure::new("token.none", format!("there is no token `{id}`"));
        return Err(failure.mend("`bibliotax registry token list` shows their ids"));
    }
    ui.say(format!("token {id} is of no use any more"));
    ui.report("registry token revoke", || json!({ "id": id }));
    Ok(Exit::Done)
}
