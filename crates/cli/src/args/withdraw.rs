//! Options of `withdraw`.

use bibliotax_app::failure::Failure;
use bibliotax_app::release_status::{Plan, Withdrawal, plan_withdrawal};

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

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
