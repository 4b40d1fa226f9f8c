//! `withdraw`: a release is not to be chosen any more.

use std::path::Path;

use bibliotax_registry::model::standing::Change;

use super::supply;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::ui::Ui;

/// Say that a release is not to be chosen any more
///
/// It stays where it is: a lock that has it still installs, with a warning that gives the reason.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax withdraw dew-point 1.4.1 --reason \"tells dew where there is none\"\n  bibliotax withdraw dew-point 1.4.1 --take-back"
)]
pub struct Withdraw {
    /// The package
    package: String,
    /// The version
    version: String,
    /// Why, for the people who use it
    #[arg(long, value_name = "TEXT", required_unless_present = "take_back")]
    reason: Option<String>,
    /// Take a withdrawal back
    #[arg(long, conflicts_with = "reason")]
    take_back: bool,
    /// The registry: one that the manifest declares, or its folder; not needed where one is declared
    #[arg(long, value_name = "NAME")]
    registry: Option<String>,
    /// Show what would be done and do nothing
    #[arg(long)]
    dry_run: bool,
}

impl Withdraw {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = supply::project(self.registry.as_deref(), here)?;
        let registry = supply::registry(self.registry.as_deref(), project.as_ref(), here)?;
        let (name, version) = (Failure::read_word(&self.package)?, Failure::read_word(&self.version)?);
        let change = match &self.reason {
            Some(reason) => Change::Withdraw { version, reason: reason.clone() },
            None => Change::Restore { version },
        };
        supply::change(ui, &registry, &name, &change, self.dry_run)
    }
}
