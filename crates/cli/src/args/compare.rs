//! Options of `compare`.

use std::path::Path;

use bibliotax_app::compare::{self, HEAD, Request};
use bibliotax_app::failure::Failure;

use super::offline::OfflineArgs;
use super::standard::InputFile;
use crate::exit_status::Exit;
use crate::global::Format;
use crate::render;
use crate::run::Run;

/// Compare two locks
///
/// Each lock is a file, a kit, or a git revision (`HEAD`, `main`, a commit) that contains the lock. By default, the current lock is
/// compared with that of HEAD. `nothing` means an empty lock.
///
/// `--format markdown` writes the result for a review, with --review what matters most comes first in any form. The exit status is 0
/// whether the locks differ or not; with --quiet, nothing is printed and the exit status is 1 if they differ.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax compare\n  bibliotax compare main --format markdown\n  bibliotax compare v1.0 v2.0 --why\n  bibliotax compare main --diff dew-point"
)]
pub struct Compare {
    /// The old lock: a file, `-` for standard input, a kit, a git revision, or `nothing`
    #[arg(default_value = HEAD)]
    old: String,
    /// The new lock [default: the current one]
    new: Option<String>,
    /// Show what matters most first, and ask registries for advisories and release notes
    #[arg(long)]
    review: bool,
    /// Show the direct dependencies that each change comes from
    #[arg(long)]
    why: bool,
    /// Also list the files of packages that differ; what the store lacks is fetched
    #[arg(long)]
    files: bool,
    /// Show how the texts of this package differ
    #[arg(long, value_name = "PACKAGE")]
    diff: Vec<String>,
    #[command(flatten)]
    network: OfflineArgs,
}

impl Compare {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let old = InputFile::of(Path::new(&self.old))?;
        let new = self.new.as_ref().map(|new| InputFile::of(Path::new(new))).transpose()?;
        let word = |input: &InputFile| input.path().display().to_string();
        let new = new.as_ref().map(word);
        let run = &run.offline_if(self.network.offline);
        let request = Request {
            old: word(&old),
            new,
            asks: self.review || run.ui.format() == Format::Markdown,
            lists_files: self.files,
            texts_of: self.diff.clone(),
        };
        let report = run.working(|context| compare::report(&request, context))?;
        let shown = render::compare::Shown { review: self.review, causes: self.why };
        Ok(render::compare::show(run.ui, &report, shown))
    }
}
