//! Options of `registry follow`.

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::follow::{self, Request};

use crate::exit_status::Exit;
use crate::render::follow as render;
use crate::run::Run;

/// Look for new releases where cards say that they appear, and add them
///
/// A card says it with `follow`: tags of a git repository, links of a page or feed, or another registry. For each new release a card is
/// made from the last one: its archives are fetched and checked, and what changed in licence and files is shown. Without --apply nothing
/// is added. Exits with status 1 if a package couldn't be looked at, or a release needs a person.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry follow ../registry\n  bibliotax registry follow ../registry soil-curve --apply\n  bibliotax registry follow ../registry --cards new.jsonl"
)]
pub struct Follow {
    /// The registry: a declared name, a folder, or `s3://BUCKET/PREFIX`
    registry: String,
    /// Only these packages [default: all whose cards say `follow`]
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Add the releases that need no person
    #[arg(long)]
    apply: bool,
    /// Also add releases with another licence, where their text says which
    #[arg(long, requires = "apply")]
    accept_licenses: bool,
    /// Write the cards that weren't added to this file, for `bibliotax registry load`
    #[arg(long, value_name = "FILE")]
    cards: Option<PathBuf>,
}

impl Follow {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            place: self.registry.clone(),
            packages: self.packages.clone(),
            applies: self.apply,
            accepts_licenses: self.accept_licenses,
            cards: self.cards.clone(),
        };
        let report = run.working(|context| follow::follow(&request, context))?;
        render::show(run.ui, &report, &request, run.environment.now);
        Ok(if report.is_smooth() { Exit::Done } else { Exit::Differs })
    }
}
