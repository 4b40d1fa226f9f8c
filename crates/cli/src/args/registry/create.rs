//! Options of `registry create`.

use std::path::PathBuf;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::create::{self, Request};

use super::super::standard::InputFile;
use crate::exit_status::Exit;
use crate::render;
use crate::run::Run;

/// Create an empty registry in a folder, a bucket or a container registry
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry create ../registry --name seedhouse\n  bibliotax registry create oci://containers.seedhouse.example/packages"
)]
pub struct Create {
    /// Where: a new or empty folder, `s3://BUCKET/PREFIX`, or `oci://HOST/PREFIX`
    #[arg(value_name = "REGISTRY")]
    place: String,
    /// The registry's name [default: the folder's]
    #[arg(long)]
    name: Option<String>,
    /// A JSON file that defines facets, as in docs/formats.md; `-` for standard input
    #[arg(long, value_name = "FILE")]
    facets: Option<PathBuf>,
    /// Allow plain HTTP
    #[arg(long)]
    plain: bool,
    /// Check that it can be created without writing anything
    #[arg(long)]
    dry_run: bool,
}

impl Create {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let facets = self.facets.as_deref().map(InputFile::of).transpose()?;
        let request = Request {
            place: self.place.clone(),
            name: self.name.clone(),
            facets: facets.as_ref().map(|file| file.path().to_owned()),
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
