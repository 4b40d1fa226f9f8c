//! `install`: the shelf, exactly as the lock says.

mod watch;

use std::collections::BTreeSet;
use std::path::Path;
use std::time::Instant;

use bibliotax_core::lock::{self, Lock, Slot};
use bibliotax_core::manifest;
use bibliotax_core::name::Purpose;
use bibliotax_store::install::Installed;
use bibliotax_store::shelf::{Look, Shelf};
use bibliotax_store::verify::Depth;
use serde_json::{Value, json};

use super::settle::{Settled, installed_json, say_installed};
use super::steps::say_open;
use crate::clock::now;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Edits, Only, Project, ShelfPart, standing, warnings_about};
use crate::searching::Searching;
use crate::ui::Ui;

/// A day, in seconds.
const DAY: i64 = 24 * 60 * 60;

/// Bring the shelf to exactly what the lock says
///
/// Where the manifest has moved on, the lock is made first, staying with what is locked. With --sealed (for
/// servers that build and test) the lock must be right already, and nothing is written but the shelf. The bytes
/// of a package in the store are read when it is used and they weren't read for a week; --full reads all.
#[derive(Debug, Clone, Default, clap::Args)]
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
    allow_replaced: bool,
    #[command(flatten)]
    members: Only,
    /// Work on the shelf of this target only; may be given several times
    #[arg(long = "target", value_name = "TARGET")]
    targets: Vec<String>,
    /// Leave out what is needed for this purpose only, such as test; may be given several times
    #[arg(long, value_name = "PURPOSE")]
    without: Vec<Purpose>,
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
    searching: Searching,
}

impl Install {
    /// The command that makes a shelf right before something else is done.
    pub fn before(sealed: bool, allow_replaced: bool, offline: bool) -> Self {
        Self { sealed, allow_replaced, offline, ..Self::default() }
    }

    /// Makes the shelf right; silent where it is.
    pub fn make_right(&self, here: &Path, ui: &Ui) -> Result<(), Failure> {
        let stands = standing(here, self.absolute, Look::Files)?;
        if stands.is_some_and(|(_, stands)| !self.refuses(stands.has_replaced)) {
            return Ok(());
        }
        self.bring(here, ui, Look::Files).map(|_| ())
    }

    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        if !self.packages.is_empty() {
            return Err(takes_no_packages(&self.packages));
        }
        if self.watch {
            return watch::watch(&Self { watch: false, ..self.clone() }, here, ui);
        }
        let begun = Instant::now();
        let look = if self.sealed { Look::Files } else { Look::Folders };
        if !self.dry_run
            && self.is_for_all()
            && !self.full
            && let Some((shelf, stands)) = standing(here, self.absolute, look)?
            && !self.refuses(stands.has_replaced)
        {
            let news = news(&shelf, here)?;
            return Ok(done(ui, Installed { kept: stands.packages, ..Installed::default() }, begun, &news));
        }
        self.bring(here, ui, look)
    }

    /// Whether packages that something stands in for are in the way.
    fn refuses(&self, has_replaced: bool) -> bool {
        has_replaced && self.sealed && !self.allow_replaced
    }

    /// Whether all of the shelf is meant.
    fn is_for_all(&self) -> bool {
        self.targets.is_empty() && self.without.is_empty() && !self.members.is_said()
    }

    /// The part of the shelf that is meant.
    fn part(&self, project: &Project) -> Result<ShelfPart, Failure> {
        let targets = project.targets_named(&self.targets)?;
        project.check_purposes(&self.without)?;
        Ok(ShelfPart { members: self.members.names(project)?, targets, without: self.without.clone() })
    }

    /// Brings a shelf to what the lock says that isn't known to be there.
    fn bring(&self, here: &Path, ui: &Ui, look: Look) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, self.dry_run, &progress)?;
        let part = self.part(&project)?;
        let project = project
            .searching(self.searching.clone())
            .only(part)
            .offline(self.offline)
            .absolute(self.absolute)
            .reading(if self.full { Depth::Bytes } else { Depth::SizeAndTime })
            .looking(look);
        drop(progress);
        let lock = project.sound_lock()?;
        match lock.filter(|_| project.is_locked()) {
            Some(lock) => {
                project.hold_lock(lock)?;
                self.install_held(ui, here, &project, lock, look)
            }
            None if self.sealed => Err(not_sealed(lock.is_some())),
            None => self.resolve_and_install(ui, &project),
        }
    }

    /// Installs a lock that says what it should.
    fn install_held(
        &self,
        ui: &Ui,
        here: &Path,
        project: &Project,
        lock: &Lock,
        look: Look,
    ) -> Result<Exit, Failure> {
        if self.refuses(lock.packages.iter().any(|package| package.replaced)) {
            return Err(replaced(lock));
        }
        if self.dry_run {
            return plan_only(ui, project, lock, &json!([]));
        }
        // Where all of the shelf is right, so is each part of it.
        if !self.is_for_all() && !self.full && standing(here, self.absolute, look)?.is_some() {
            let kept = project.plan(lock)?.staying;
            return Ok(done(ui, Installed { kept, ..Installed::default() }, Instant::now(), &[]));
        }
        install_locked(ui, project, lock)
    }

    fn resolve_and_install(&self, ui: &Ui, project: &Project) -> Result<Exit, Failure> {
        let workspace = &project.workspace;
        let (lock, warnings) = project.resolve(workspace, &project.registries(workspace)?)?;
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(project, workspace, lock);
        settled.show(ui);
        if self.dry_run {
            return plan_only(ui, project, &settled.lock, &settled.changes());
        }
        settled.conclude(ui, "install", false, &Edits::new(), || json!({ "warnings": warnings }))?;
        Ok(Exit::Done)
    }
}

/// What was meant by packages behind `install`.
fn takes_no_packages(packages: &[String]) -> Failure {
    let words: Vec<String> = packages
        .iter()
        .map(|word| if word.contains(' ') { format!("\"{word}\"") } else { word.clone() })
        .collect();
    Failure::new("need.words", "`install` brings the shelf to what the lock says, and takes no packages")
        .mend(format!("to declare, resolve and install them: `bibliotax need {}`", words.join(" ")))
}

fn install_locked(ui: &Ui, project: &Project, lock: &Lock) -> Result<Exit, Failure> {
    let begun = Instant::now();
    let progress = Progress::new(ui);
    let installed = project.install(lock, &project.workspace, &Edits::new(), &BTreeSet::new(), &progress)?;
    drop(progress);
    let warnings =
        if installed.built > 0 && !project.is_offline() { warnings(project, lock) } else { Vec::new() };
    let exit = done(ui, installed, begun, &warnings);
    if installed.built > 0 {
        say_open(ui, project, lock)?;
    }
    Ok(exit)
}

fn done(ui: &Ui, installed: Installed, begun: Instant, warnings: &[String]) -> Exit {
    warnings.iter().for_each(|warning| ui.warn(warning));
    say_installed(ui, installed, begun);
    let result = || json!({ "changes": [], "dry-run": false, "warnings": warnings, "shelf": installed_json(installed) });
    ui.report("install", result);
    Exit::Done
}

/// What is known of locked releases that people should know, once a day at most; nobody is asked for it.
fn news(shelf: &Shelf, here: &Path) -> Result<Vec<String>, Failure> {
    let now = now().as_second();
    if shelf.last_told().is_some_and(|last| (last..last + DAY).contains(&now)) {
        return Ok(Vec::new());
    }
    let project = Project::find(here)?;
    let Some(lock) = project.sound_lock()? else { return Ok(Vec::new()) };
    let news = project.known_warnings(lock);
    shelf.note_told(now);
    Ok(news)
}

/// Warnings about what is locked, as far as the registries can be asked: a lock installs without them.
fn warnings(project: &Project, lock: &Lock) -> Vec<String> {
    let registries = project.registries(&project.workspace);
    let packages: Vec<_> = lock.packages.iter().collect();
    registries.map(|registries| warnings_about(&packages, &registries)).unwrap_or_default()
}

fn plan_only(ui: &Ui, project: &Project, lock: &Lock, changes: &Value) -> Result<Exit, Failure> {
    let plan = project.plan(lock)?;
    for slot in &plan.build {
        let target = slot.target.map(|target| format!(" for {target}")).unwrap_or_default();
        ui.say(format!(
            "  would put {} {} on the shelf{target}",
            slot.package.name,
            slot.package.told_version()
        ));
    }
    for name in &plan.remove {
        ui.say(format!("  would take {name} off the shelf"));
    }
    ui.say("nothing was written");
    let one = |slot: &Slot<'_>| json!({ "package": slot.package.name, "version": slot.package.version, "target": slot.target });
    let build: Vec<Value> = plan.build.iter().map(one).collect();
    ui.report(
        "install",
        || json!({ "changes": changes, "dry-run": true, "build": build, "remove": plan.remove }),
    );
    Ok(Exit::Done)
}

/// That something stands in for packages where everything is to be as it was published.
fn replaced(lock: &Lock) -> Failure {
    let packages = lock.packages.iter().filter(|package| package.replaced);
    let told: Vec<String> =
        packages.map(|package| format!("{} by {}", package.name, package.source)).collect();
    Failure::new("lock.replaced", format!("packages are replaced: {}", told.join(", ")))
        .mend("take them out of `[replace]` in the workspace's manifest, or say `--allow-replaced`")
}

fn not_sealed(has_lock: bool) -> Failure {
    let mend = "run `bibliotax install` where the manifest is edited, and commit the lock";
    if has_lock {
        let message =
            format!("{} was changed since {} was made from it", manifest::FILE_NAME, lock::FILE_NAME);
        return Failure::new("lock.stale", message).mend(mend);
    }
    Failure::new("lock.missing", format!("there is no {}, and --sealed writes none", lock::FILE_NAME))
        .mend(mend)
}
