//! Options of `need`.

mod licenses;
mod proposal;
mod question;
mod source;

use bibliotax_app::failure::Failure;
use bibliotax_app::find::while_typing::Finder;
use bibliotax_app::need::{self, Request};
use bibliotax_core::name::PackageName;

use self::source::SourceArgs;
use super::projects::ProjectArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::json::change::Changes;
use crate::picking;
use crate::render;
use crate::render::changes;
use crate::run::Run;

/// Declare packages, resolve and install them
///
/// Each PACKAGE can be followed by a RANGE such as 2.4, "2.4 .. 3", ">= 2.4, != 2.5.0" or "any". By default, the newest compatible
/// release is used, and the range accepts versions from it up to the next major version.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax need rain-ledger\n  bibliotax need soil-curve 1.7 moss-map \"2 .. 4\"\n  bibliotax need probe-sim --for test\n  bibliotax need dew-point --in all --shared\n  bibliotax need fernhollow/valve-core --path ../valve-core\n  bibliotax need leaf-palette --git https://git.example/leaf-palette.git\n  bibliotax need soil-curve --archive https://files.example/soil-curve-1.1.zip"
)]
pub struct Need {
    /// Packages, each optionally followed by a range [on a terminal, default: search while you type]
    #[arg(value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
    /// Accept only this version (`= VERSION`)
    #[arg(long, help_heading = "What")]
    exactly: bool,
    /// Accept pre-releases
    #[arg(long, help_heading = "What")]
    prereleases: bool,
    /// Leave out this dependency of the packages
    #[arg(long, value_name = "PACKAGE", value_delimiter = ',', help_heading = "What")]
    without: Vec<String>,
    /// Add this component to the default ones
    #[arg(long = "component", value_name = "NAME", value_delimiter = ',', help_heading = "What")]
    components: Vec<String>,
    /// Leave out the default components
    #[arg(long, help_heading = "What")]
    bare: bool,
    /// Install this optional part, too, such as docs or sources
    #[arg(long = "part", value_name = "PART", value_delimiter = ',', help_heading = "What")]
    parts: Vec<String>,
    #[command(flatten, next_help_heading = "Where from")]
    source: SourceArgs,
    /// Use this registry, if several have the package
    #[arg(long, value_name = "REGISTRY", help_heading = "Where from")]
    from: Option<String>,
    #[command(flatten, next_help_heading = "For what")]
    projects: ProjectArgs,
    /// Write the range once, in `[shared]` of the workspace
    #[arg(long, help_heading = "For what")]
    shared: bool,
    /// Need the packages only for this purpose, such as test or docs
    #[arg(long = "for", value_name = "PURPOSE", help_heading = "For what")]
    purpose: Option<String>,
    /// Need the packages only on this target
    #[arg(long = "target", value_name = "TARGET", value_delimiter = ',', help_heading = "For what")]
    targets: Vec<String>,
    /// Accept the licence of this package for the team, where the rules ask for it
    #[arg(long, value_name = "PACKAGE", value_delimiter = ',', help_heading = "How")]
    accept_license: Vec<PackageName>,
    /// Show the changes without making them
    #[arg(long, help_heading = "How")]
    dry_run: bool,
    #[command(flatten, next_help_heading = "How")]
    search: SearchArgs,
}

impl Need {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let mut request = self.request();
        if request.words.is_empty() && request.source.git.is_none() && request.source.archive.is_none() {
            request.words = self.searched(run)?;
            if request.words.is_empty() {
                run.ui.say("no package was chosen");
                return Ok(Exit::Done);
            }
        }
        let mut plan = run.working(|context| need::plan(&request, context))?;
        render::need::show(run.ui, &plan);
        let archive = request.source.archive.as_deref().unwrap_or_default();
        proposal::confirm(&plan, archive, self.dry_run, run)?;
        licenses::settle(&mut plan.change, &self.accept_license, self.dry_run, run)?;
        render::accept::warn(run.ui, &plan.change.unaccepted());
        let applied = run.apply(&plan.change, self.dry_run)?;
        changes::show_applied(run.ui, applied.as_ref());
        run.ui
            .report(|| json::declare::Need::of(&plan, Changes::of(&plan.change.report(), applied.as_ref())));
        Ok(Exit::Done)
    }

    /// The packages that a person at the terminal searches; a failure where nobody is there.
    fn searched(&self, run: &Run<'_>) -> Result<Vec<String>, Failure> {
        if !picking::can_ask(run) {
            return Err(Failure::new("usage.missing", "`bibliotax need` needs `PACKAGE [RANGE]`")
                .advice("`bibliotax need --help` shows its options"));
        }
        let finder = run.working(|context| Finder::open(&self.projects.words(), context))?;
        Ok(picking::searched(finder)?.iter().map(ToString::to_string).collect())
    }

    fn request(&self) -> Request {
        Request {
            words: self.words.clone(),
            projects: self.projects.words(),
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
