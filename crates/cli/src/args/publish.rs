//! Options of `publish`.

use bibliotax_app::failure::Failure;
use bibliotax_app::publish::{self, Request};
use serde_json::json;

use super::members::MemberArgs;
use crate::exit_status::Exit;
use crate::render::publish::{self as render, Packed};
use crate::run::Run;

/// Publish this project as a release
///
/// The card comes from the manifest and its `[card]` part; the archive holds the files that are not hidden, or those
/// that `files` under `[card]` asks for. What belongs to version control, what it ignores and what may hold a secret
/// goes along only where it is named itself, without a wildcard. A release is never replaced.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax publish seedhouse --dry-run")]
pub struct Publish {
    /// A registry that the manifest declares, or a registry's folder; not needed where one is declared
    registry: Option<String>,
    #[command(flatten)]
    members: MemberArgs,
    /// List what would go, with sizes, and publish nothing
    #[arg(long)]
    dry_run: bool,
    /// Publish though something stands in for a package in this workspace
    #[arg(long)]
    allow_stand_ins: bool,
}

impl Publish {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = Request {
            registry: self.registry.clone(),
            members: self.members.words(),
            allow_stand_ins: self.allow_stand_ins,
        };
        let plan = run.working(|context| publish::plan(&request, context))?;
        render::show_warnings(run.ui, &plan);
        let mut result = render::to_json(&plan.release);
        if self.dry_run {
            render::show_plan(run.ui, &plan);
        } else {
            render::show_left_out(run.ui, &plan);
            let packed = Packed::of(&plan);
            let published = run.working(|context| plan.apply(context))?;
            render::show_published(run.ui, &packed, &published);
            result["card"]["files"] = json!(published.files);
            result["already"] = published.already.into();
        }
        run.ui.report("publish", || result);
        Ok(Exit::Done)
    }
}
