//! Options of `withdraw`.

use bibliotax_app::failure::Failure;
use bibliotax_app::release_status::{Plan, Withdrawal, plan_withdrawal};

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Withdraw a release, so that nobody newly resolves to it
///
/// The release stays available: locks that contain it still install, with a warning that shows the reason.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax withdraw dew-point 1.4.1 --reason \"tells dew where there is none\"\n  bibliotax withdraw dew-point 1.4.1 --undo"
)]
pub struct Withdraw {
    /// The package
    package: String,
    /// The version
    version: String,
    /// The reason, shown to users
    #[arg(long, value_name = "TEXT", required_unless_present = "undo")]
    reason: Option<String>,
    /// Remove the withdrawal
    #[arg(long, conflicts_with = "reason")]
    undo: bool,
    /// The registry [default: the only one declared]
    #[arg(long, value_name = "REGISTRY")]
    registry: Option<String>,
    /// Show what would change without changing it
    #[arg(long)]
    dry_run: bool,
}

impl Withdraw {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Withdrawal {
            package: self.package.clone(),
            version: self.version.clone(),
            reason: self.reason.clone(),
            registry: self.registry.clone(),
        };
        carry_out(&run.working(|context| plan_withdrawal(&request, context))?, self.dry_run, run)
    }
}

/// Changes how releases stand, unless it is only tried, and shows it.
pub fn carry_out(plan: &Plan, is_dry_run: bool, run: &Run<'_>) -> Result<Exit, Failure> {
    let already = if is_dry_run { None } else { Some(run.working(|context| plan.apply(context))?) };
    render::publish::show_status(run.ui, plan, already);
    Ok(Exit::Done)
}
