//! Options of `registry mirror`.

use std::time::Instant;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::mirror::{Request, mirror};

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Copy a registry into a folder, or bring a copy up to date
///
/// Only what the copy lacks is fetched, and each file is checked. One that was cut off is taken up by running it again. Locks
/// made from the one install from the other.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry mirror https://packages.seedhouse.example ../mirror\n  bibliotax registry mirror ../registry ../mirror --package \"fernhollow/*\""
)]
pub struct Mirror {
    /// The registry: its URL or its folder
    from: String,
    /// The folder of the copy, or `s3://BUCKET/PREFIX`; new, or one that was made so before
    to: String,
    /// Copy only this package, or those whose names begin so before a `*`; may be given several times
    #[arg(long = "package", value_name = "PATTERN")]
    packages: Vec<String>,
    /// Let the registry be asked without encryption
    #[arg(long)]
    plain: bool,
}

impl Mirror {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let begun = Instant::now();
        let request = Request {
            from: self.from.clone(),
            to: self.to.clone(),
            packages: self.packages.clone(),
            is_plain: self.plain,
        };
        let looked_at = |name: &str| run.ui.tell(1, format!("looked at {name}"));
        let (mirrored, registry) = run.working(|context| mirror(&request, context, &looked_at))?;
        render::registry::show_mirrored(run.ui, &mirrored, &registry, begun.elapsed());
        Ok(Exit::Done)
    }
}
