//! Options of `deprecate`.

use bibliotax_app::failure::Failure;
use bibliotax_app::release_status::{Deprecation, plan_deprecation};

use super::withdraw::carry_out;
use crate::exit_status::Exit;
use crate::run::Run;

/// Deprecate releases: they work, but something else is better
///
/// Deprecated releases are chosen only if nothing else matches, with a warning that shows the reason.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax deprecate leaf-palette \".. 2\" --reason \"hard to tell apart\" --instead petal-font\n  bibliotax deprecate leaf-palette \"1.4 .. 2\" --undo"
)]
pub struct Deprecate {
    /// The package
    package: String,
    /// The range of deprecated versions
    range: String,
    /// The reason, shown to users
    #[arg(long, value_name = "TEXT", required_unless_present = "undo")]
    reason: Option<String>,
    /// The package to use instead
    #[arg(long, value_name = "PACKAGE")]
    instead: Option<String>,
    /// Remove the deprecation
    #[arg(long, conflicts_with_all = ["reason", "instead"])]
    undo: bool,
    /// The registry [default: the only one declared]
    #[arg(long, value_name = "REGISTRY")]
    registry: Option<String>,
    /// Show what would change without changing it
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
