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
    /// The registry to copy: a URL or a folder
    from: String,
    /// Where the copy is: a folder, or `s3://BUCKET/PREFIX`
    to: String,
    /// Copy only this package, or all whose names begin with the text before `*`
    #[arg(long = "only", value_name = "PATTERN", value_delimiter = ',')]
    packages: Vec<String>,
    /// Allow plain HTTP
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
