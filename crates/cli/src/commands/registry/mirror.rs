//! `registry mirror`: a copy of a registry, brought up to date by what changed.

use std::path::Path;
use std::time::Instant;

use bibliotax_core::manifest::{Allowed, NamePattern, RegistryDeclaration};
use bibliotax_core::name::{RegistryName, nearest_package_name};
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::publish::mirror::mirror;
use serde_json::json;

use crate::codes::Exit;
use crate::failure::Failure;
use crate::kept;
use crate::project::network;
use crate::show::{count, size};
use crate::ui::Ui;

/// Copy a registry into a folder, or bring a copy up to date
///
/// Only what the copy lacks is fetched, and each file is checked. One that was cut off is taken up by running it again. Locks
/// made from the one install from the other.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry mirror https://packages.seedhouse.example ../mirror\n  bibliotax registry mirror ../registry ../mirror --package \"fernhollow/*\""
)]
pub struct Mirror {
    /// The registry: its URL or its folder
    from: String,
    /// The folder of the copy, or `s3://BUCKET/PREFIX`; new, or one that was made so before
    to: String,
    /// Copy only this package, or those whose names begin so before a `*`; may be given several times
    #[arg(long = "package", value_name = "PATTERN")]
    packages: Vec<String>,
    /// Let the registry be asked without encryption
    #[arg(long)]
    plain: bool,
}

/// What a registry is called that no manifest names: as its host is.
pub fn name_of(url: &str) -> Result<RegistryName, Failure> {
    let host = url.split("://").nth(1).unwrap_or("registry").split(['/', ':']).next().unwrap_or_default();
    let name = nearest_package_name(host).map(|name| name.to_string().replace('/', "-"));
    Failure::read_word(name.as_deref().unwrap_or("registry"))
}

impl Mirror {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let begun = Instant::now();
        let from = self.source(here)?;
        let to = kept::open_or_create(&self.to, here, from.name(), from.facets())?;
        let patterns: Vec<NamePattern> = self.packages.iter().map(NamePattern::new).collect();
        let mirrored = mirror(&from, &*to, &patterns, &|name| ui.tell(1, format!("looked at {name}")))?;
        ui.say(match mirrored.events {
            0 => format!("nothing is new in {} ({})", from.name(), count(mirrored.packages, "package")),
            some => format!(
                "brought {} and {} ({}) of {} ({:.2} s)",
                count(some, "event"),
                count(mirrored.files, "file"),
                size(mirrored.bytes),
                from.name(),
                begun.elapsed().as_secs_f64()
            ),
        });
        ui.report("registry mirror", || {
            json!({ "packages": mirrored.packages, "events": mirrored.events, "files": mirrored.files,
                "bytes": mirrored.bytes })
        });
        Ok(Exit::Done)
    }

    fn source(&self, here: &Path) -> Result<Registry, Failure> {
        let declaration = RegistryDeclaration {
            name: name_of(&self.from)?,
            url: self.from.clone(),
            mirrors: Vec::new(),
            allowed: Allowed { plain: self.plain, ..Allowed::default() },
            owns: Vec::new(),
            span: 0..0,
        };
        Ok(Registry::open(&declaration, here, &network())?)
    }
}
