//! Options of `ready`.

use bibliotax_app::failure::Failure;
use bibliotax_app::ready;

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Tell whether this machine is ready for the project
///
/// Each program that the manifest or a locked package asks for is looked for and asked for its version; the
/// machine is held against the targets; registries and store are opened. Ends with status 1 if something is amiss.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax ready\n  bibliotax ready --target hand-unit")]
pub struct Ready {
    /// This machine is meant to be this target: something is amiss if it can't be
    #[arg(long, value_name = "TARGET")]
    target: Option<String>,
}

impl Ready {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let report = run.working(|context| ready::report(self.target.as_deref(), context))?;
        Ok(if render::ready::show(run.ui, &report) == 0 { Exit::Done } else { Exit::Differs })
    }
}
