//! Options of `update`.

use bibliotax_app::failure::Failure;
use bibliotax_app::newer;
use bibliotax_app::update::{self, Request};
use bibliotax_app::workspace::WorkspaceFolder;

use super::projects::ProjectFilterArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::json::change::Changes;
use crate::picking::{self, Row};
use crate::render;
use crate::render::changes;
use crate::run::Run;
use crate::ui::clean;

/// Update packages, and as few others as possible
///
/// The named packages, or all, are updated as far as their ranges allow. Other packages change only if they must, to the nearest
/// possible release, and the reason is shown.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax update rain-ledger\n  bibliotax update --beyond --dry-run\n  bibliotax update --comply\n  bibliotax update --advisories"
)]
pub struct Update {
    /// Packages to update [default: all]
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    /// Update beyond the ranges, and change them in the manifest
    #[arg(long)]
    beyond: bool,
    /// Accept that a tag of the named packages names another commit now
    #[arg(long, requires = "packages")]
    accept_moved: bool,
    /// Update just what the rules forbid, to the nearest releases that they allow
    #[arg(long, conflicts_with = "beyond")]
    comply: bool,
    /// Update just what advisories affect, to the nearest releases that they don't affect
    #[arg(long, conflicts_with_all = ["beyond", "comply"])]
    advisories: bool,
    /// On a terminal: mark the packages to update in a list of what each would move to
    #[arg(long, conflicts_with_all = ["packages", "comply", "advisories"])]
    pick: bool,
    /// Show the changes without making them
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Update {
    /// What is said where nothing moves.
    fn nothing(&self) -> &'static str {
        match (self.comply, self.advisories) {
            (true, _) => "nothing to update: the rules allow all that is locked",
            (_, true) => "nothing to update: no advisory affects what is locked, or no release fixes it",
            _ => "nothing to update; see `bibliotax newer` for releases beyond the ranges",
        }
    }

    /// The packages that could move, each with what it would move to.
    fn rows(&self, run: &Run<'_>) -> Result<Vec<Row<String>>, Failure> {
        if !picking::can_ask(run) {
            return Err(Failure::new("usage.missing", "`--pick` needs a terminal")
                .advice("name the packages: `bibliotax newer` lists what could move"));
        }
        let request = newer::Request {
            projects: self.projects.words(),
            options: self.search.options(),
            ..newer::Request::default()
        };
        let workspace = WorkspaceFolder::find(run.folder())?;
        let report = run.working(|context| newer::report(&workspace, &request, context))?;
        let row = |one: &newer::PackageNews<'_>| {
            let news = &one.news;
            let update = render::newer::update_version(news);
            let beyond = news.beyond.as_ref().filter(|_| self.beyond || update.is_some());
            let newest = beyond.map(|(version, _)| format!(", newest {version}")).unwrap_or_default();
            let to = update.or_else(|| Some(beyond?.0.to_string()))?;
            let notes = one
                .notes
                .first()
                .map(|(_, text)| format!("  {}", clean(text.lines().next().unwrap_or_default())));
            let label = format!(
                "{} {} → {to}{newest}{}",
                news.package.name,
                news.package.version,
                notes.unwrap_or_default()
            );
            Some(Row { label, value: news.package.name.to_string() })
        };
        Ok(report.packages.iter().filter_map(row).collect())
    }

    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let packages = if self.pick {
            let rows = self.rows(run)?;
            let is_nothing = rows.is_empty();
            let picked = if is_nothing { Vec::new() } else { picking::marked("Packages to update:", rows)? };
            if picked.is_empty() {
                run.ui.say(if is_nothing { self.nothing() } else { "no package was chosen" });
                return Ok(Exit::Done);
            }
            picked
        } else {
            self.packages.clone()
        };
        let request = Request {
            packages,
            projects: self.projects.words(),
            is_beyond: self.beyond,
            accepts_moved: self.accept_moved,
            complies: self.comply,
            leaves_advisories: self.advisories,
            options: self.search.options(),
            is_dry_run: self.dry_run,
        };
        let plan = run.working(|context| update::plan(&request, context))?;
        render::update::show(run.ui, &plan, self.nothing());
        let applied = run.apply(&plan.change, self.dry_run)?;
        changes::show_applied(run.ui, applied.as_ref());
        run.ui.report(|| {
            json::install::Update::of(&plan, Changes::of(&plan.change.report(), applied.as_ref()))
        });
        Ok(Exit::Done)
    }
}
