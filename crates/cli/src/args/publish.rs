//! Options of `publish`.

use bibliotax_app::failure::Failure;
use bibliotax_app::publish::{self, Follower, Request};

use super::projects::ProjectArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::render::publish::{self as render, Packed};
use crate::run::Run;

/// Publish this project as a release
///
/// The card is made from the manifest and its `[card]` table. The archive contains all files that aren't hidden, or those that
/// `files` under `[card]` lists. Files that version control ignores, and files that may contain secrets, are published only if
/// `files` names them without a wildcard. A release can never be replaced.
///
/// A project with a `[charter]` table is published as a charter, without files. `--used-by` tries it before anybody has it.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax publish seedhouse --dry-run\n  bibliotax publish --dry-run --used-by ../gate-kiosk ../hand-unit"
)]
pub struct Publish {
    /// The registry: a declared name or a place [default: the only one declared]
    registry: Option<String>,
    #[command(flatten)]
    projects: ProjectArgs,
    /// List the files and sizes without publishing
    #[arg(long)]
    dry_run: bool,
    /// Resolve each of these workspaces with this charter, and show what would change [with --dry-run]
    #[arg(long, value_name = "FOLDER", num_args = 1.., requires = "dry_run")]
    used_by: Vec<String>,
    /// Publish although the workspace uses stand-ins
    #[arg(long)]
    allow_stand_ins: bool,
}

impl Publish {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            registry: self.registry.clone(),
            projects: self.projects.words(),
            allow_stand_ins: self.allow_stand_ins,
            used_by: self.used_by.clone(),
        };
        let plan = run.working(|context| publish::plan(&request, context))?;
        render::show_warnings(run.ui, &plan);
        let mut result = json::publish::Publish::planned(&plan);
        let is_in_trouble = plan.followers.iter().any(Follower::is_in_trouble);
        if self.dry_run {
            render::show_plan(run.ui, &plan);
        } else {
            render::show_left_out(run.ui, &plan);
            let packed = Packed::of(&plan);
            let published = run.working(|context| plan.apply(context))?;
            render::show_published(run.ui, &packed, &published);
            result = result.done(&published);
        }
        run.ui.report(|| result);
        Ok(if is_in_trouble { Exit::of_code("check.findings") } else { Exit::Done })
    }
}
