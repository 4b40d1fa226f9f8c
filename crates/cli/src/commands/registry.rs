//! `registry`: makes a registry in a folder, loads it, serves it and says who may publish to it.

mod mirror;
mod serve;
mod sign_in;
mod token;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::facet::Facet;
use bibliotax_core::history::without_place;
use bibliotax_core::name::{FacetName, RegistryName, nearest_package_name};
use bibliotax_disk::read::read_text;
use bibliotax_registry::audit::{Flaw, audit};
use bibliotax_registry::bucket::SCHEME;
use bibliotax_registry::folder::Folder;
use bibliotax_registry::keep::Keep;
use bibliotax_registry::load::{Loaded, load};
use serde_json::json;

use crate::clock::now;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::kept;
use crate::show::{count, size, table};
use crate::ui::{Ui, clean, style, styled};

/// Largest file of facets that is read, in bytes.
const LARGEST_FACETS: usize = 1 << 20;

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
    /// Make an empty registry in a folder that is new or empty, or in a bucket
    #[command(after_help = "Example:\n  bibliotax registry create ../registry --name seedhouse")]
    Create {
        /// The folder, or `s3://BUCKET/PREFIX`
        folder: String,
        /// The registry's name; without it, the folder's
        #[arg(long)]
        name: Option<String>,
        /// A JSON file with the facets that its cards speak of, as docs/formats.md shows
        #[arg(long, value_name = "FILE")]
        facets: Option<PathBuf>,
        /// Check whether it could be made and write nothing
        #[arg(long)]
        dry_run: bool,
    },
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
        /// Make the list of names anew from the histories first
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
            RegistryCommand::Create { folder, name, facets, dry_run } => {
                let facets = facets.as_ref().map(|file| read_facets(&here.join(file))).transpose()?;
                create(ui, here, folder, name.as_deref(), facets.unwrap_or_default(), *dry_run)
            }
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

fn read_facets(file: &Path) -> Result<BTreeMap<FacetName, Facet>, Failure> {
    let text = read_text(file, LARGEST_FACETS)?.unwrap_or_default();
    let wrong = |what: String| {
        Failure::new("facet.file", format!("{} {what}", file.display()))
            .mend(r#"write it like {"orchard-runtime": {"kind": "ladder", "levels": ["1", "2"]}}"#)
    };
    let facets: BTreeMap<FacetName, Facet> = serde_json::from_str(&text)
        .map_err(|error| wrong(format!("defines no facets: {}", without_place(&error))))?;
    for (name, facet) in &facets {
        facet
            .check()
            .map_err(|problem| wrong(format!("defines `{name}` so that it makes no sense: {problem}")))?;
    }
    Ok(facets)
}

fn create(
    ui: &Ui,
    here: &Path,
    place: &str,
    name: Option<&str>,
    facets: BTreeMap<FacetName, Facet>,
    dry_run: bool,
) -> Result<Exit, Failure> {
    let name = match name {
        Some(name) => name
            .parse::<RegistryName>()
            .map_err(|fault| Failure::in_words("--name", name, fault))?
            .to_string(),
        None => {
            let place = here.join(place);
            nearest_package_name(&place.file_name().unwrap_or_default().to_string_lossy())
                .map_or_else(|| "registry".to_owned(), |name| name.to_string())
        }
    };
    let is_bucket = place.starts_with(SCHEME);
    if dry_run {
        if !is_bucket {
            Folder::can_be_created(&here.join(place))?;
        }
        ui.say("nothing was written");
    } else {
        kept::create(place, here, &name, facets)?;
        if is_bucket {
            ui.say(format!(
                "made the registry {name}; `bibliotax registry serve --bucket {place}` serves it"
            ));
        } else {
            ui.say(format!("made the registry {name}; a manifest names it by its folder:"));
            ui.say(format!("  [registries]\n  {name} = \"{}\"", here.join(place).display()));
        }
    }
    ui.report("registry create", json!({ "name": name, "dry-run": dry_run }));
    Ok(Exit::Done)
}

fn check(ui: &Ui, registry: &Arc<dyn Keep>, mend: bool) -> Result<Exit, Failure> {
    if mend {
        let names = registry.mend_names()?;
        ui.say(format!("made the list of {} anew", count(names, "name")));
    }
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
        ui.answer(format!(
            "{} of no release, left by uploads that were given up",
            count(audit.unnamed, "file")
        ));
    }
    ui.report(
        "registry check",
        json!({ "packages": audit.packages, "releases": audit.releases, "files": audit.files, "bytes": audit.bytes,
            "unnamed": audit.unnamed, "flaws": audit.flaws }),
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
    let result = json!({ "added": loaded.added, "already": loaded.already, "archives": loaded.archives,
        "dry-run": dry_run });
    ui.report("registry load", result);
    Ok(Exit::Done)
}
