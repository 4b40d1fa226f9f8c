//! Options of `install`.

use bibliotax_app::change::Applied;
use bibliotax_app::failure::Failure;
use bibliotax_app::install::watch::Watch;
use bibliotax_app::install::{self, LockedPlan, Plan, Request, ResolvedPlan, UpToDate};
use bibliotax_app::workspace::Manifests;
use bibliotax_core::manifest;

use super::projects::{LeaveOutArgs, ProjectFilterArgs, TargetFilterArgs};
use super::search::SearchArgs;
use crate::exit_status::Exit;
use crate::json;
use crate::json::change::Changes;
use crate::render::{changes, install as render, warnings};
use crate::run::Run;
use crate::ui::{style, styled};

/// Install exactly what the lock lists
///
/// If manifests changed, the lock is updated first and keeps its versions where it can. `--sealed` is for continuous integration:
/// the lock must be up to date, and nothing but the shelf is written. Checksums of packages in the store are verified if they
/// weren't within a week; `--full` verifies all.
#[derive(Debug, Clone, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax install\n  bibliotax install --sealed\n  bibliotax install --sealed --full"
)]
pub struct Install {
    /// Packages, which this command doesn't take: the error says what to run
    #[arg(hide = true, value_name = "PACKAGE")]
    packages: Vec<String>,
    /// Fail if the lock is out of date or contains stand-ins; write only the shelf
    #[arg(long)]
    sealed: bool,
    /// With --sealed: allow stand-ins
    #[arg(long, requires = "sealed")]
    allow_stand_ins: bool,
    #[command(flatten)]
    projects: ProjectFilterArgs,
    #[command(flatten)]
    targets: TargetFilterArgs,
    #[command(flatten)]
    leave_out: LeaveOutArgs,
    /// Verify the checksum of every installed file
    #[arg(long, conflicts_with = "watch")]
    full: bool,
    /// Keep running, and install again whenever a manifest, the lock or a template changes
    #[arg(long, conflicts_with = "dry_run")]
    watch: bool,
    /// Use absolute paths in the links
    #[arg(long)]
    absolute: bool,
    /// Show the changes without making them
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
        let (run, request) = (&self.search.run(run), self.request());
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
            projects: self.projects.words(),
            targets: self.targets.targets.clone(),
            without: self.leave_out.purposes.clone(),
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
    changes::show_all(run.ui, &report);
    if is_dry_run {
        let shelf = run.working(|context| plan.shelf_changes(context))?;
        render::show_plan(run.ui, &shelf, Some(&report));
        return Ok(());
    }
    let applied = run.working(|context| plan.apply(context))?;
    changes::show_applied(run.ui, Some(&applied));
    run.ui.report(|| json::install::Install::done(Changes::of(&report, Some(&applied))));
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
    Failure::new("need.words", "`install` installs what the lock lists, and takes no packages")
        .advice(format!("to declare, resolve and install them: `bibliotax need {}`", words.join(" ")))
}
