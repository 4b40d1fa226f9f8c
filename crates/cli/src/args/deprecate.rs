//! Options of `deprecate`.

use bibliotax_app::failure::Failure;
use bibliotax_app::release_status::{Deprecation, plan_deprecation};

use super::withdraw::carry_out;
use crate::exit_status::Exit;
use crate::run::Run;

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
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Deprecation {
            package: self.package.clone(),
            range: self.range.clone(),
            reason: self.reason.clone(),
            instead: self.instead.clone(),
            registry: self.registry.clone(),
        };
        carry_out(&run.working(|context| plan_deprecation(&request, context))?, self.dry_run, run)
    }
}
