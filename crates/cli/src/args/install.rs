//! Options of `install`.

use bibliotax_app::change::Applied;
use bibliotax_app::failure::Failure;
use bibliotax_app::install::watch::Watch;
use bibliotax_app::install::{self, LockedPlan, Plan, Request, ResolvedPlan, UpToDate};
use bibliotax_app::workspace::Manifests;
use bibliotax_core::manifest;
use bibliotax_core::name::Purpose;
use serde_json::json;

use super::members::MemberFilterArgs;
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::render::{changes, install as render, warnings};
use crate::run::Run;
use crate::ui::{style, styled};

/// Bring the shelf to exactly what the lock says
///
/// Where the manifest has moved on, the lock is made first, staying with what is locked. With --sealed (for
/// servers that build and test) the lock must be right already, and nothing is written but the shelf. The bytes
/// of a package in the store are read when it is used and they weren't read for a week; --full reads all.
#[derive(Debug, Clone, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax install\n  bibliotax install --sealed\n  bibliotax install --sealed --full"
)]
pub struct Install {
    /// Packages, which this command doesn't take; they are told where they belong
    #[arg(hide = true, value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Fail unless the lock is right already, and no package is replaced; write nothing but the shelf
    #[arg(long)]
    sealed: bool,
    /// With --sealed: install what stands in for packages, too
    #[arg(long, requires = "sealed")]
    allow_stand_ins: bool,
    #[command(flatten)]
    members: MemberFilterArgs,
    /// Work on the shelf of this target only; may be given several times
    #[arg(long = "target", value_name = "TARGET")]
    targets: Vec<String>,
    /// Leave out what is needed for this purpose only, such as test; may be given several times
    #[arg(long, value_name = "PURPOSE")]
    leave_out: Vec<Purpose>,
    /// Ask nobody over a network: what the store has is to be enough, and what it lacks is listed
    #[arg(long)]
    offline: bool,
    /// Read every byte, of what is on the shelf already, too
    #[arg(long, conflicts_with = "watch")]
    full: bool,
    /// Go on: make it right again whenever manifest, lock or templates are saved
    #[arg(long, conflicts_with = "dry_run")]
    watch: bool,
    /// Give paths in the links from the root of the disk, not from the project's folder
    #[arg(long)]
    absolute: bool,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    search: SearchArgs,
}

impl Install {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        if !self.packages.is_empty() {
            return Err(takes_no_packages(&self.packages));
        }
        let (run, request) = (&run.offline_if(self.offline), self.request());
        if self.watch {
            return watch(&request, run);
        }
        let plan = run.working(|context| install::plan(&request, context))?;
        carry_out(&plan, self.dry_run, run)?;
        Ok(Exit::Done)
    }

    fn request(&self) -> Request {
        Request {
            is_sealed: self.sealed,
            allow_stand_ins: self.allow_stand_ins,
            members: self.members.words(),
            targets: self.targets.clone(),
            without: self.leave_out.clone(),
            is_full: self.full,
            absolute: self.absolute,
            options: self.search.options(),
            is_dry_run: self.dry_run,
        }
    }
}

/// Does what an install was planned to do, and shows it; only shows it for a dry run.
pub fn carry_out(plan: &Plan, is_dry_run: bool, run: &Run<'_>) -> Result<(), Failure> {
    match plan {
        Plan::UpToDate(up_to_date) => show_up_to_date(up_to_date, run),
        Plan::Locked(plan) => install_locked(plan, is_dry_run, run),
        Plan::Resolved(plan) => install_resolved(plan, is_dry_run, run),
    }
}

fn show_up_to_date(up_to_date: &UpToDate, run: &Run<'_>) -> Result<(), Failure> {
    let news = run.working(|context| up_to_date.news(context))?;
    render::show_locked(run.ui, &Applied::nothing(up_to_date.kept), &news);
    Ok(())
}

fn install_locked(plan: &LockedPlan, is_dry_run: bool, run: &Run<'_>) -> Result<(), Failure> {
    if is_dry_run {
        let shelf = run.working(|context| plan.shelf_changes(context))?;
        render::show_plan(run.ui, &shelf, None);
        return Ok(());
    }
    let done = run.working(|context| plan.apply(context))?;
    render::show_locked(run.ui, &done.applied, &done.warnings);
    Ok(())
}

fn install_resolved(plan: &ResolvedPlan, is_dry_run: bool, run: &Run<'_>) -> Result<(), Failure> {
    let report = plan.change.report();
    warnings(run.ui, report.warnings);
    changes::show(run.ui, &report);
    if is_dry_run {
        let shelf = run.working(|context| plan.shelf_changes(context))?;
        render::show_plan(run.ui, &shelf, Some(&report));
        return Ok(());
    }
    let applied = run.working(|context| plan.apply(context))?;
    changes::show_applied(run.ui, Some(&applied));
    changes::report(run.ui, "install", &report, Some(&applied), || json!({ "warnings": report.warnings }));
    Ok(())
}

/// Brings the shelf to the lock whenever something changes, until somebody ends it. What fails is shown, and the shelf stays as
/// it was.
fn watch(request: &Request, run: &Run<'_>) -> Result<Exit, Failure> {
    let mut watch = Watch::begin(run.folder())?;
    loop {
        watch.follow(run.folder());
        if let Err(failure) = install_if_needed(request, run) {
            run.ui.fail(&failure);
        }
        run.ui.aside().say(styled(style::FAINT, format!("watching {}; Ctrl-C ends it", manifest::FILE_NAME)));
        if !watch.wait() {
            return Ok(Exit::Done);
        }
    }
}

fn install_if_needed(request: &Request, run: &Run<'_>) -> Result<(), Failure> {
    let manifests = Manifests::find(run.folder())?;
    match run.working(|context| install::plan_if_needed(request, &manifests, context))? {
        Some(plan) => carry_out(&plan, false, run),
        None => Ok(()),
    }
}

/// What was meant by packages behind `install`.
fn takes_no_packages(packages: &[String]) -> Failure {
    let words: Vec<String> = packages
        .iter()
        .map(|word| if word.contains(' ') { format!("\"{word}\"") } else { word.clone() })
        .collect();
    Failure::new("need.words", "`install` brings the shelf to what the lock says, and takes no packages")
        .advice(format!("to declare, resolve and install them: `bibliotax need {}`", words.join(" ")))
}
