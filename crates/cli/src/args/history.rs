//! Options of `history`.

use bibliotax_app::failure::Failure;
use bibliotax_app::history::{self, Request};

use crate::exit_status::Exit;
use crate::render::history as render;
use crate::run::Run;

/// Show when packages came into the lock, moved and left
///
/// Reads the lock of each commit, the newest first. A change is shown once, with the commit that made it; of a merge, only what none of
/// its branches had.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax history\n  bibliotax history dew-point\n  bibliotax history --from v1.0 --most 5"
)]
pub struct History {
    /// Only these packages [default: all]
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Begin at this revision of git
    #[arg(long, value_name = "REVISION", default_value = "HEAD")]
    from: String,
    /// Show at most this many commits; 0 shows all
    #[arg(long, value_name = "NUMBER", default_value_t = 20)]
    most: usize,
}

impl History {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request =
            Request { packages: self.packages.clone(), revision: self.from.clone(), most: self.most };
        let report = run.working(|context| history::report(&request, context))?;
        render::show(run.ui, &report, &request, run.environment.now);
        Ok(Exit::Done)
    }
}
