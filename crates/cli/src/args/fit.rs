//! Options of `fit`.

use bibliotax_app::failure::Failure;
use bibliotax_app::fit::{self, Request};

use super::members::MemberArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Tell which packages work on which targets
///
/// For the locked packages or, before they are needed, for packages that are named: the newest release of each, and
/// the newest that fits everywhere. A library without targets is held against its own promise. With --level or
/// --target other levels are tried out; no file changes. Ends with status 1 where something doesn't fit.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax fit\n  bibliotax fit soil-curve\n  bibliotax fit --level orchard-runtime=4\n  bibliotax fit --target hand-unit:orchard-runtime=4\n  bibliotax fit --used-by ../hand-unit --used-by ../gate-kiosk"
)]
pub struct Fit {
    /// Packages to look at instead of the locked ones
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Try every target at this level, or with this value
    #[arg(long = "level", value_name = "FACET=VALUE")]
    levels: Vec<String>,
    /// Try one target, declared or not, at this level, or with this value
    #[arg(long = "target", value_name = "TARGET:FACET=VALUE")]
    targets: Vec<String>,
    #[command(flatten)]
    members: MemberArgs,
    /// Of a library: hold its levels against the targets of this project, too, which uses it; may be given several times
    #[arg(long = "used-by", value_name = "FOLDER")]
    used_by: Vec<String>,
}

impl Fit {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            packages: self.packages.clone(),
            levels: self.levels.clone(),
            targets: self.targets.clone(),
            members: self.members.words(),
            used_by: self.used_by.clone(),
        };
        let report = run.working(|context| fit::report(&request, context))?;
        render::fit::show(run.ui, &report);
        Ok(if report.misfits() == 0 { Exit::Done } else { Exit::Differs })
    }
}
