//! Options of `need`.

mod source;

use bibliotax_app::failure::Failure;
use bibliotax_app::need::{self, Request};
use serde_json::json;

use self::source::SourceArgs;
use super::members::MemberArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render;
use crate::render::changes;
use crate::run::Run;

/// Declare packages, resolve and install them
///
/// Each PACKAGE may be followed by a RANGE such as 2.4, "2.4 .. 3", ">= 2.4, != 2.5.0" or "any". Without one,
/// the newest release that goes with the rest is taken and written from there up to the next major version.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax need rain-ledger\n  bibliotax need soil-curve 1.7 moss-map \"2 .. 4\"\n  bibliotax need probe-sim --for test\n  bibliotax need dew-point --in all --shared\n  bibliotax need fernhollow/valve-core --path ../valve-core\n  bibliotax need leaf-palette --git https://git.example/leaf-palette.git\n  bibliotax need soil-curve --archive https://files.example/soil-curve-1.1.zip"
)]
pub struct Need {
    /// Packages, each with a range behind it if wanted
    #[arg(required = true, value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
    #[command(flatten)]
    members: MemberArgs,
    /// Write the range once, for the whole workspace: projects share it
    #[arg(long)]
    shared: bool,
    #[command(flatten)]
    source: SourceArgs,
    /// Take exactly this version: write it with `=`
    #[arg(long)]
    exactly: bool,
    /// What the packages are needed for beside running, such as test or docs
    #[arg(long = "for", value_name = "PURPOSE")]
    purpose: Option<String>,
    /// Take the packages from this registry, where several hold the name
    #[arg(long, value_name = "NAME")]
    from: Option<String>,
    /// Let pre-releases count like any other version
    #[arg(long)]
    prereleases: bool,
    /// Do without this package that the packages need; may be given several times
    #[arg(long, value_name = "NAME")]
    without: Vec<String>,
    /// Take the packages to this target only; may be given several times
    #[arg(long = "target", value_name = "TARGET")]
    targets: Vec<String>,
    /// Take these components of the packages, beside those that come by default
    #[arg(long, value_name = "NAME,…", value_delimiter = ',')]
    components: Vec<String>,
    /// Take the packages without the components that come by default
    #[arg(long)]
    bare: bool,
    /// Take this part of the packages as well, such as docs or sources; may be given several times
    #[arg(long = "part", value_name = "PART")]
    parts: Vec<String>,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Need {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let request = self.request();
        let plan = run.working(|context| need::plan(&request, context))?;
        render::need::show(run.ui, &plan);
        let applied = run.apply(&plan.change, self.dry_run)?;
        changes::show_applied(run.ui, applied.as_ref());
        let report = plan.change.report();
        changes::report(run.ui, "need", &report, applied.as_ref(), || json!({ "warnings": report.warnings }));
        Ok(Exit::Done)
    }

    fn request(&self) -> Request {
        Request {
            words: self.words.clone(),
            members: self.members.words(),
            is_shared: self.shared,
            source: self.source.words(),
            is_exact: self.exactly,
            purpose: self.purpose.clone(),
            from: self.from.clone(),
            prereleases: self.prereleases,
            without: self.without.clone(),
            targets: self.targets.clone(),
            components: self.components.clone(),
            is_bare: self.bare,
            parts: self.parts.clone(),
            options: self.search.options(),
            is_dry_run: self.dry_run,
        }
    }
}
