//! Options of `find`.

use bibliotax_app::failure::Failure;
use bibliotax_app::find::{self, Request};

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Find packages by words
///
/// Looks in names, tags and summaries of every registry that the manifest declares, and forgives slips. What fits the project's
/// targets comes first, with what many packages use and what is fresh. Without words it shows what is used most.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax find rain ledger\n  bibliotax find frost --page 2")]
pub struct Find {
    /// The words
    #[arg(value_name = "WORD")]
    words: Vec<String>,
    /// Which page of what is found, from 1 to 10
    #[arg(long, value_name = "NUMBER", default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..=10))]
    page: u8,
}

impl Find {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request { words: self.words.clone(), page: self.page };
        let mut report = run.working(|context| find::report(&request, context))?;
        if let Some(failure) = report.failure.take() {
            render::warnings(run.ui, &report.warnings);
            return Err(failure);
        }
        render::find::show(run.ui, &report, self.page);
        run.ui.report("find", || render::find::to_json(&report));
        Ok(Exit::Done)
    }
}
