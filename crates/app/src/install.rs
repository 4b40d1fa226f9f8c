//! `install`: builds the shelf exactly as the lock says.

pub mod watch;

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use bibliotax_core::lock::{self, Lock, LockedPackage, Slot};
use bibliotax_core::manifest;
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::version::Version;
use bibliotax_store::install::Installed;
use bibliotax_store::shelf::{self, PackageCheck, Plan as ShelfPlan, Shelf};
use bibliotax_store::verify::FileCheck;

use crate::change::{Applied, PlannedChange, plan_edits};
use crate::context::Context;
use crate::failure::Failure;
use crate::links::MissingFiles;
use crate::lock_check::LockCheck;
use crate::resolving::{Resolver, known_warnings, warnings_about};
use crate::sealed;
use crate::search_options::SearchOptions;
use crate::shelf::{ShelfOptions, ShelfPart, ShelfWork, up_to_date};
use crate::steps::open_steps;
use crate::workspace::edits::Edits;
use crate::workspace::{Manifests, ProjectWords, WorkspaceFolder};

/// A day, in seconds.
const DAY: i64 = 24 * 60 * 60;

/// What is installed, and how.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Whether the lock has to be right already, with no package replaced.
    pub is_sealed: bool,
    /// Whether packages may be replaced though it is sealed.
    pub allow_stand_ins: bool,
    /// Only what these projects need; none for all.
    pub projects: ProjectWords,
    /// Only what is needed on these targets.
    pub targets: Vec<String>,
    /// What is needed for these purposes only is left out.
    pub without: Vec<Purpose>,
    /// Whether every byte is read, of what is on the shelf already, too.
    pub is_full: bool,
    /// Whether links give paths from the root of the disk.
    pub absolute: bool,
    /// How the lock is made where that is to be done first.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// An install, worked out and not yet done.
pub enum Plan {
    /// The shelf is right already.
    UpToDate(UpToDate),
    /// The lock is right.
    Locked(Box<LockedPlan>),
    /// The lock has to be made first.
    Resolved(Box<ResolvedPlan>),
}

/// A shelf that is right already.
pub struct UpToDate {
    /// How many packages are on it.
    pub kept: usize,
    /// Where all of it was checked: the shelf, and the manifests that it was made from.
    whole: Option<(Shelf, Manifests)>,
}

/// An install of a lock that is right.
pub struct LockedPlan {
    workspace: WorkspaceFolder,
    options: ShelfOptions,
}

/// An install of a lock that has to be made first.
pub struct ResolvedPlan {
    /// What changes.
    pub change: PlannedChange,
    options: ShelfOptions,
}

/// What is going to be done on a shelf.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShelfChanges {
    /// The packages that are built.
    pub build: Vec<Built>,
    /// What is taken off it.
    pub remove: Vec<String>,
}

/// A package that is going to be built on a shelf.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Built {
    /// The package.
    pub package: PackageName,
    /// Its version.
    pub version: Version,
    /// The version as people read it, with what stands in for it.
    pub shown_version: String,
    /// The target that it is for.
    pub target: Option<String>,
}

/// An install that was done, with warnings about what is locked.
pub struct Done {
    /// What was done.
    pub applied: Applied,
    /// What people should know of what is locked.
    pub warnings: Vec<String>,
}

impl Request {
    /// The install of a whole shelf before something is done with it.
    pub fn before(is_sealed: bool, allow_stand_ins: bool) -> Self {
        Self { is_sealed, allow_stand_ins, ..Self::default() }
    }

    /// Whether packages that something stands in for are in the way.
    fn refuses(&self, has_stand_ins: bool) -> bool {
        has_stand_ins && self.is_sealed && !self.allow_stand_ins
    }

    /// Whether more has to be known of what is on the shelf than that it is right.
    fn looks_closer(&self, right: &shelf::UpToDate) -> bool {
        self.refuses(right.has_stand_ins) || self.is_sealed && right.has_rules
    }

    /// Whether all of the shelf is meant.
    fn is_for_all(&self) -> bool {
        self.targets.is_empty() && self.without.is_empty() && self.projects.is_empty()
    }

    fn shelf_options(
        &self,
        workspace: &WorkspaceFolder,
        look: PackageCheck,
    ) -> Result<ShelfOptions, Failure> {
        let targets = workspace.targets_named(&self.targets)?;
        workspace.check_purposes(&self.without)?;
        let projects = self.projects.names(workspace)?;
        let part = ShelfPart { projects, targets, without: self.without.clone() };
        let depth = if self.is_full { FileCheck::Bytes } else { FileCheck::SizeAndTime };
        Ok(ShelfOptions { part, depth, look, absolute: self.absolute })
    }
}

/// Works out what an install comes to.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let look = if request.is_sealed { PackageCheck::Files } else { PackageCheck::Folders };
    let is_quick = !request.is_dry_run && request.is_for_all() && !request.is_full;
    let manifests = Manifests::find(context.folder)?;
    let right = if is_quick { up_to_date(&manifests, request.absolute, look)? } else { None };
    match right {
        Some((shelf, right)) if !request.looks_closer(&right) => {
            let whole = Some((shelf, manifests));
            Ok(Plan::UpToDate(UpToDate { kept: right.packages, whole }))
        }
        right => {
            let right = right.map(|(_, right)| right.packages);
            plan_after_reading(request, look, manifests, right, context)
        }
    }
}

/// The same where the shelf has to be right before something else is done; `None` where it is.
pub fn plan_if_needed(
    request: &Request,
    manifests: &Manifests,
    context: &Context<'_>,
) -> Result<Option<Plan>, Failure> {
    let right = up_to_date(manifests, request.absolute, PackageCheck::Files)?;
    if right.as_ref().is_some_and(|(_, right)| !request.looks_closer(right)) {
        return Ok(None);
    }
    let right = right.map(|(_, right)| right.packages);
    plan_after_reading(request, PackageCheck::Files, manifests.clone(), right, context).map(Some)
}

/// Plans with the lock read; `right` counts what is on the shelf where all of it is known to be right.
fn plan_after_reading(
    request: &Request,
    look: PackageCheck,
    manifests: Manifests,
    right: Option<usize>,
    context: &Context<'_>,
) -> Result<Plan, Failure> {
    let (from, is_dry_run) = (context.folder, request.is_dry_run);
    let workspace = WorkspaceFolder::open_found(manifests, from, is_dry_run, context.listener)?;
    let options = request.shelf_options(&workspace, look)?;
    let lock = workspace.sound_lock()?;
    match lock.filter(|_| workspace.is_locked()) {
        Some(lock) => {
            LockCheck::new(&workspace, context.environment, &request.options).check(lock)?;
            if request.refuses(lock.packages.iter().any(|package| package.stood_in)) {
                return Err(stand_ins_in_use(lock));
            }
            if request.is_sealed {
                sealed::check_rules(&workspace, lock, request.allow_stand_ins, context.environment)?;
            }
            if let Some(kept) = right {
                return Ok(Plan::UpToDate(UpToDate { kept, whole: None }));
            }
            plan_locked(request, workspace, options, context)
        }
        None if request.is_sealed => Err(not_sealed(lock.is_some())),
        None => {
            let change = plan_edits(workspace, Edits::default(), &request.options, context)?;
            Ok(Plan::Resolved(Box::new(ResolvedPlan { change, options })))
        }
    }
}

fn plan_locked(
    request: &Request,
    workspace: WorkspaceFolder,
    options: ShelfOptions,
    context: &Context<'_>,
) -> Result<Plan, Failure> {
    // Where all of the shelf is right, so is each part of it; what is left out may have to go.
    let is_part = !request.is_for_all() && request.without.is_empty();
    let may_be_right = is_part && !request.is_dry_run && !request.is_full;
    if may_be_right && up_to_date(&workspace.manifests, request.absolute, options.look)?.is_some() {
        let lock = workspace.needed_lock()?;
        let kept = ShelfWork::new(&workspace, lock, &options, context).plan()?.staying;
        return Ok(Plan::UpToDate(UpToDate { kept, whole: None }));
    }
    Ok(Plan::Locked(Box::new(LockedPlan { workspace, options })))
}

impl UpToDate {
    /// What people should know of the locked releases, from what is known; at most once a day, and nobody is asked for it.
    pub fn news(&self, context: &Context<'_>) -> Result<Vec<String>, Failure> {
        let Some((shelf, manifests)) = &self.whole else { return Ok(Vec::new()) };
        let now = context.environment.now.as_second();
        if shelf.last_warned().is_some_and(|last| (last..last + DAY).contains(&now)) {
            return Ok(Vec::new());
        }
        let workspace = WorkspaceFolder::read(manifests.clone())?;
        let Some(lock) = workspace.sound_lock()? else { return Ok(Vec::new()) };
        let news = known_warnings(&workspace, lock, context.environment);
        shelf.note_warned(now);
        Ok(news)
    }
}

impl LockedPlan {
    /// What is going to be done on the shelf.
    pub fn shelf_changes(&self, context: &Context<'_>) -> Result<ShelfChanges, Failure> {
        let lock = self.workspace.needed_lock()?;
        let plan = ShelfWork::new(&self.workspace, lock, &self.options, context).plan()?;
        Ok(ShelfChanges::of(&plan))
    }

    /// Brings the shelf to what the lock says.
    pub fn apply(&self, context: &Context<'_>) -> Result<Done, Failure> {
        let begun = Instant::now();
        let lock = self.workspace.needed_lock()?;
        let work = ShelfWork::new(&self.workspace, lock, &self.options, context);
        let missing = MissingFiles::of(&self.workspace)?;
        let installed = work.install(&Edits::default(), &BTreeSet::new())?;
        let is_new = installed.built > 0;
        let warnings =
            if is_new && !context.environment.is_offline { self.warnings(lock, context) } else { Vec::new() };
        let open_steps = if is_new { open_steps(&self.workspace, lock)? } else { Vec::new() };
        let build_files = missing.made(&self.workspace)?;
        Ok(Done { applied: Applied { installed, took: begun.elapsed(), open_steps, build_files }, warnings })
    }

    /// Warnings about what is locked, as far as the registries can be asked: a lock installs without them.
    fn warnings(&self, lock: &Lock, context: &Context<'_>) -> Vec<String> {
        let options = SearchOptions::default();
        let declared = &self.workspace.declared;
        let resolver = Resolver::open(&self.workspace, declared, context.environment, &options);
        let packages: Vec<&LockedPackage> = lock.packages.iter().collect();
        resolver.map(|resolver| warnings_about(&packages, &resolver.registries)).unwrap_or_default()
    }
}

impl ResolvedPlan {
    /// What is going to be done on the shelf.
    pub fn shelf_changes(&self, context: &Context<'_>) -> Result<ShelfChanges, Failure> {
        Ok(ShelfChanges::of(&self.change.shelf_plan(&self.options, context)?))
    }

    /// Fetches, writes the lock, and brings the shelf to it.
    pub fn apply(&self, context: &Context<'_>) -> Result<Applied, Failure> {
        self.change.apply(&self.options, context)
    }
}

impl ShelfChanges {
    fn of(plan: &ShelfPlan<'_>) -> Self {
        let built = |slot: &Slot<'_>| Built {
            package: slot.package.name.clone(),
            version: slot.package.version.clone(),
            shown_version: slot.package.shown_version(),
            target: slot.target.map(ToString::to_string),
        };
        let remove = plan.remove.iter().map(ToString::to_string).collect();
        Self { build: plan.build.iter().map(built).collect(), remove }
    }
}

impl Applied {
    /// A shelf on which nothing had to be done.
    pub fn nothing(kept: usize) -> Self {
        let installed = Installed { kept, ..Installed::default() };
        Self { installed, took: Duration::ZERO, open_steps: Vec::new(), build_files: Vec::new() }
    }
}

/// That something stands in for packages where everything is to be as it was published.
fn stand_ins_in_use(lock: &Lock) -> Failure {
    let packages = lock.packages.iter().filter(|package| package.stood_in);
    let shown: Vec<String> =
        packages.map(|package| format!("{} by {}", package.name, package.source)).collect();
    Failure::new("lock.stood-in", format!("stand-ins are in use: {}", shown.join(", "))).advice(
        "remove them from `[stand-ins]` in the workspace's manifest, or allow them with `--allow-stand-ins`",
    )
}

fn not_sealed(has_lock: bool) -> Failure {
    let advice = "run `bibliotax install` without --sealed, and commit the lock";
    if has_lock {
        let message = format!("{} changed since {} was written", manifest::FILE_NAME, lock::FILE_NAME);
        return Failure::new("lock.stale", message).advice(advice);
    }
    Failure::new("lock.missing", format!("there is no {}, and --sealed doesn't create one", lock::FILE_NAME))
        .advice(advice)
}
