//! `registry`: makes a registry in a folder, loads it, serves it and says who may publish to it.

mod create;
mod log;
mod mirror;
mod serve;
mod sign_in;
mod token;
mod trying;

use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_registry::model::keep::Keep;
use bibliotax_registry::publish::audit::{Flaw, audit};
use bibliotax_registry::publish::load::{Loaded, load};
use serde_json::json;

use crate::clock::now;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::kept;
use crate::show::{count, size, table};
use crate::ui::{Ui, clean, style, styled};

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
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        match &self.command {
            RegistryCommand::Create(create) => create.run(here, ui),
            RegistryCommand::Load { folder, files, dry_run } => {
                load_files(ui, &*kept::open(folder, here)?, here, files, *dry_run)
            }
            RegistryCommand::Check { folder, mend } => check(ui, &kept::open(folder, here)?, *mend),
            RegistryCommand::Mirror(mirror) => mirror.run(here, ui),
            RegistryCommand::Serve(serve) => serve.run(here, ui),
            RegistryCommand::Token(tokens) => tokens.run(here, ui),
            RegistryCommand::SignIn(sign_in) => sign_in.run(here, ui),
            RegistryCommand::SignOut(sign_out) => sign_out.run(here, ui),
        }
    }
}

fn check(ui: &Ui, registry: &Arc<dyn Keep>, mend: bool) -> Result<Exit, Failure> {
    if mend {
        let names = registry.mend_names()?;
        ui.say(format!("made the list of {} anew", count(names, "name")));
        let cleared = registry.clear_uploads()?;
        let cleared = [(cleared.uploads, "old upload"), (cleared.remains, "temporary file")];
        for (number, what) in cleared.into_iter().filter(|(number, _)| *number > 0) {
            ui.say(format!("took out {}", count(number, what)));
        }
    }
    let remains = registry.remains()?;
    let (pending, left_behind) =
        (registry.pending()?, remains.iter().map(|remains| remains.bytes).sum::<u64>());
    let audit = audit(registry, &|name| ui.tell(1, format!("read {name}")))?;
    let row = |flaw: &Flaw| {
        let package = flaw.package.as_ref().map_or("of no package".to_owned(), ToString::to_string);
        let version = flaw.version.clone().unwrap_or_default();
        vec![format!(" {}", styled(style::BAD, &package)), version, clean(&flaw.what)]
    };
    if !audit.flaws.is_empty() {
        ui.answer(table(ui, audit.flaws.iter().map(row)));
    }
    let read = format!(
        "{}, {}, {} ({})",
        count(audit.packages, "package"),
        count(audit.releases, "release"),
        count(audit.files, "file"),
        size(audit.bytes)
    );
    ui.answer(match audit.flaws.len() {
        0 => format!("all is as it should be: {read}"),
        some => format!("{} in {read}", count(some, "flaw")),
    });
    if audit.unnamed > 0 {
        ui.answer(format!("{} of no release", count(audit.unnamed, "file")));
    }
    if !pending.is_empty() {
        let bytes = size(pending.iter().map(|pending| pending.bytes).sum());
        ui.answer(format!(
            "{} without a release yet ({bytes}); each goes after two days",
            count(pending.len(), "upload")
        ));
    }
    if !remains.is_empty() {
        let what =
            format!("{} left behind by processes that were killed", count(remains.len(), "temporary file"));
        ui.answer(format!("{what} ({}); `--mend` takes them out", size(left_behind)));
    }
    ui.report(
        "registry check",
        || json!({ "packages": audit.packages, "releases": audit.releases, "files": audit.files, "bytes": audit.bytes,
            "unnamed": audit.unnamed, "uploads": pending.len(), "left-behind": left_behind, "flaws": audit.flaws }),
    );
    Ok(if audit.flaws.is_empty() { Exit::Done } else { Exit::Differs })
}

fn load_files(
    ui: &Ui,
    registry: &dyn Keep,
    here: &Path,
    files: &[PathBuf],
    dry_run: bool,
) -> Result<Exit, Failure> {
    let mut loaded = Loaded::default();
    for file in files {
        loaded += load(registry, &here.join(file), now(), dry_run)?;
    }
    let already =
        if loaded.already > 0 { format!(", {} there already", loaded.already) } else { String::new() };
    let archives = if loaded.archives > 0 {
        format!(", with {}", count(loaded.archives, "archive"))
    } else {
        String::new()
    };
    let verb = if dry_run { "would load" } else { "loaded" };
    ui.say(format!("{verb} {} into {}{archives}{already}", count(loaded.added, "event"), registry.name()));
    let result = || {
        json!({ "added": loaded.added, "already": loaded.already, "archives": loaded.archives,
        "dry-run": dry_run })
    };
    ui.report("registry load", result);
    Ok(Exit::Done)
}
