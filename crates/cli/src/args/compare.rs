//! Options of `compare`.

use bibliotax_app::compare::{self, HEAD};
use bibliotax_app::failure::Failure;

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Tell what differs between two locks
///
/// Each of them is a file, or a revision of git (`HEAD`, `main`, a commit) that has the project's lock. Without any, the lock as
/// it is now is compared with that of HEAD. `nothing` is a lock without any package.
///
/// It ends with status 0 whether they differ or not. With --quiet it prints nothing and ends with status 1 where they differ.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax compare\n  bibliotax compare main --markdown\n  bibliotax compare v1.0 v2.0"
)]
pub struct Compare {
    /// The lock before: a file, a revision, or `nothing`
    #[arg(default_value = HEAD)]
    old: String,
    /// The lock after; without it, the one that is there
    new: Option<String>,
    /// Write it as Markdown, for a review
    #[arg(long)]
    markdown: bool,
}

impl Compare {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let report = run.working(|context| compare::report(&self.old, self.new.as_deref(), context))?;
        Ok(render::compare::show(run.ui, &report, self.markdown))
    }
}
