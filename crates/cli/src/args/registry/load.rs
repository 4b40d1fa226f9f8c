//! Options of `registry load`.

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::load::{self, Input, Request};

use super::super::standard::InputFile;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Add cards and events from files, with the archives that they name
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry load ../registry cards.jsonl\n  bibliotax registry load ../registry soil-curve.toml --fetch\n  bibliotax registry load ../registry soil-curve.toml --revise \"the licence was wrong\""
)]
pub struct Load {
    /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
    registry: String,
    /// Files with one JSON object per line, or TOML files with one card each; `-` for standard input
    #[arg(required = true, value_name = "FILE")]
    files: Vec<PathBuf>,
    /// Fetch the archives that cards point at, check them, and fill in what cards don't say of them
    #[arg(long)]
    fetch: bool,
    /// Correct the cards of releases that exist, for this reason; their files can't change
    #[arg(long, value_name = "REASON")]
    revise: Option<String>,
    /// Check every line without adding anything
    #[arg(long)]
    dry_run: bool,
}

impl Load {
    /// Loads the files; what standard input has is seen from the folder here.
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let inputs = self.files.iter().map(|file| InputFile::of(file)).collect::<Result<Vec<_>, _>>()?;
        let beside = |input: &InputFile| input.is_standard().then(|| run.folder().to_owned());
        let files: Vec<Input> = inputs
            .iter()
            .map(|input| Input { path: input.path().to_owned(), beside: beside(input) })
            .collect();
        let request = Request { fetches: self.fetch, revise: self.revise.clone(), is_dry_run: self.dry_run };
        let (loaded, registry) =
            run.working(|context| load::load(&self.registry, &files, &request, context))?;
        render::registry::show_loaded(run.ui, &loaded, &registry, self.dry_run);
        Ok(Exit::Done)
    }
}
