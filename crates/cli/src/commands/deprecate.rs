//! `deprecate`: releases still work, but something else is better.

use std::path::Path;

use bibliotax_registry::model::standing::Change;

use super::supply;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::ui::Ui;

/// Say that releases still work, but something else is better
///
/// They are chosen only where no other will do, with a warning that gives the reason.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax deprecate leaf-palette \".. 2\" --reason \"hard to tell apart\" --instead petal-font\n  bibliotax deprecate leaf-palette \"1.4 .. 2\" --take-back"
)]
pub struct Deprecate {
    /// The package
    package: String,
    /// The versions
    range: String,
    /// Why, for the people who use it
    #[arg(long, value_name = "TEXT", required_unless_present = "take_back")]
    reason: Option<String>,
    /// The package to use
    #[arg(long, value_name = "PACKAGE")]
    instead: Option<String>,
    /// Take a deprecation back
    #[arg(long, conflicts_with_all = ["reason", "instead"])]
    take_back: bool,
    /// The registry: one that the manifest declares, or its folder; not needed where one is declared
    #[arg(long, value_name = "NAME")]
    registry: Option<String>,
    /// Show what would be done and do nothing
    #[arg(long)]
    dry_run: bool,
}

impl Deprecate {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = supply::project(self.registry.as_deref(), here)?;
        let registry = supply::registry(self.registry.as_deref(), project.as_ref(), here)?;
        let (name, range) = (Failure::read_word(&self.package)?, Failure::read_word(&self.range)?);
        let instead = self.instead.as_ref().map(|name| Failure::read_word(name)).transpose()?;
        let change = match &self.reason {
            Some(reason) => Change::Deprecate { range, reason: reason.clone(), instead },
            None => Change::Undeprecate { range },
        };
        supply::change(ui, &registry, &name, &change, self.dry_run)
    }
}
