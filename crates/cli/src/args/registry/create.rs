//! Options of `registry create`.

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::create::{self, Request};

use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Make an empty registry in a folder that is new or empty, in a bucket, or in a registry of containers
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry create ../registry --name seedhouse\n  bibliotax registry create oci://containers.seedhouse.example/packages"
)]
pub struct Create {
    /// The folder, `s3://BUCKET/PREFIX`, or `oci://HOST/PREFIX`
    #[arg(value_name = "FOLDER")]
    place: String,
    /// The registry's name; without it, the folder's
    #[arg(long)]
    name: Option<String>,
    /// A JSON file with the facets that its cards speak of, as docs/formats.md shows
    #[arg(long, value_name = "FILE")]
    facets: Option<PathBuf>,
    /// Let a registry of containers be asked without encryption
    #[arg(long)]
    plain: bool,
    /// Check whether it could be made and write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Create {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            place: self.place.clone(),
            name: self.name.clone(),
            facets: self.facets.clone(),
            is_plain: self.plain,
        };
        let plan = run.working(|context| create::plan(&request, context))?;
        let name = plan.name.clone();
        let made = if self.dry_run {
            run.working(|context| plan.check(context))?;
            None
        } else {
            Some(run.working(|context| plan.apply(context))?)
        };
        render::registry::show_created(run.ui, &name, &self.place, made.as_ref());
        Ok(Exit::Done)
    }
}
