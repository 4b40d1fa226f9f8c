//! Options of `resolve`.

use bibliotax_app::failure::Failure;
use bibliotax_app::resolve::{self, Request};
use bibliotax_core::resolve::Prefer;
use bibliotax_present::words::count;
use jiff::Timestamp;

use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::json::change::Changes;
use crate::render::{changes, warnings};
use crate::run::Run;

/// Resolve the dependencies and write the lock
///
/// Locked versions are kept where the manifests allow it; with --prefer or --as-of, all are chosen again. A lock that is damaged by
/// a merge or an edit is repaired from what can be read of it.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax resolve --dry-run\n  bibliotax resolve --prefer oldest\n  bibliotax resolve --as-of 2026-03-01"
)]
pub struct Resolve {
    /// Prefer these releases; `oldest` tests the lower ends of ranges
    #[arg(long, value_name = "WHICH")]
    prefer: Option<Which>,
    /// Ignore releases published later: a date (its end, in UTC) or a time (RFC 3339)
    #[arg(long, value_name = "DATE", value_parser = moment)]
    as_of: Option<Timestamp>,
    /// Show the changes without making them
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum Which {
    Newest,
    Oldest,
}

/// The moment that a date or a time means.
fn moment(text: &str) -> Result<Timestamp, String> {
    let end_of_day = || format!("{text}T23:59:59.999999999Z").parse::<Timestamp>();
    let moment = text.parse::<Timestamp>().or_else(|_| end_of_day());
    moment.map_err(|_| "a date is like 2026-03-01, a time like 2026-03-01T12:00:00Z".to_owned())
}

impl Resolve {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let run = &self.search.run(run);
        let ui = run.ui;
        let request = Request {
            prefer: self.prefer.map(Prefer::from),
            as_of: self.as_of,
            options: self.search.options(),
            is_dry_run: self.dry_run,
        };
        let plan = run.working(|context| resolve::plan(&request, context))?;
        if let Some((message, kept)) = &plan.salvaged {
            ui.warn(format!("{message}; {kept} of its packages could be read"));
        }
        let report = plan.change.report();
        warnings(ui, report.warnings);
        changes::show_all(ui, &report);
        let packages = count(report.lock.packages.len(), "package");
        if self.dry_run {
            ui.say("nothing was written");
        } else if plan.change.is_locked() {
            ui.say(format!("nothing to do: the lock is up to date ({packages})"));
        } else {
            run.working(|context| plan.change.write(context))?;
            ui.say(format!("wrote the lock ({packages}); next: `bibliotax install`"));
        }
        ui.report(|| {
            json::declare::Resolve::of(&plan, Changes { dry_run: self.dry_run, ..Changes::of(&report, None) })
        });
        Ok(Exit::Done)
    }
}

impl From<Which> for Prefer {
    fn from(which: Which) -> Self {
        match which {
            Which::Newest => Self::Newest,
            Which::Oldest => Self::Oldest,
        }
    }
}
