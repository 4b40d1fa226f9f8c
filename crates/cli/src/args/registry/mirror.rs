//! Options of `registry mirror`.

use std::time::Instant;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::mirror::{Request, mirror};

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Copy a registry, or update a copy
///
/// Only missing files are downloaded, and each is verified. An interrupted run continues when it is started again. Locks made with
/// the original install from the copy.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry mirror https://packages.seedhouse.example ../mirror\n  bibliotax registry mirror ../registry ../mirror --only \"fernhollow/*\""
)]
pub struct Mirror {
    /// The registry to copy: a declared name, a folder or a URL
    #[arg(value_name = "REGISTRY")]
    from: String,
    /// The copy: a folder, or `s3://BUCKET/PREFIX`
    #[arg(value_name = "COPY")]
    to: String,
    /// Copy only this package, or all whose names begin with the text before `*`
    #[arg(long = "only", value_name = "PATTERN", value_delimiter = ',')]
    packages: Vec<String>,
    /// Keep the archives that cards point at, too
    #[arg(long)]
    files: bool,
    /// Allow plain HTTP
    #[arg(long)]
    plain: bool,
    /// Show what the copy lacks without copying
    #[arg(long)]
    dry_run: bool,
}

impl Mirror {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let begun = Instant::now();
        let request = Request {
            from: self.from.clone(),
            to: self.to.clone(),
            packages: self.packages.clone(),
            keeps_upstream: self.files,
            is_plain: self.plain,
        };
        let (mirrored, registry) = run.working(|context| mirror(&request, self.dry_run, context))?;
        render::registry::show_mirrored(run.ui, &mirrored, &registry, begun.elapsed(), self.dry_run);
        Ok(Exit::Done)
    }
}
