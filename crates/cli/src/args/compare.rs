//! Options of `compare`.

use std::path::Path;

use bibliotax_app::compare::{self, HEAD};
use bibliotax_app::failure::Failure;

use super::standard::InputFile;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Compare two locks
///
/// Each lock is a file, or a git revision (`HEAD`, `main`, a commit) that contains the lock. By default, the current lock is
/// compared with that of HEAD. `nothing` means an empty lock.
///
/// `--format markdown` writes the result for a review. The exit status is 0 whether the locks differ or not; with --quiet, nothing
/// is printed and the exit status is 1 if they differ.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax compare\n  bibliotax compare main --format markdown\n  bibliotax compare v1.0 v2.0"
)]
pub struct Compare {
    /// The old lock: a file, `-` for standard input, a git revision, or `nothing`
    #[arg(default_value = HEAD)]
    old: String,
    /// The new lock [default: the current one]
    new: Option<String>,
}

impl Compare {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let old = InputFile::of(Path::new(&self.old))?;
        let new = self.new.as_ref().map(|new| InputFile::of(Path::new(new))).transpose()?;
        let word = |input: &InputFile| input.path().display().to_string();
        let new = new.as_ref().map(word);
        let report = run.working(|context| compare::report(&word(&old), new.as_deref(), context))?;
        Ok(render::compare::show(run.ui, &report))
    }
}
