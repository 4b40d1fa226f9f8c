//! `update`: moves what was asked as far as it goes, and as little else as possible.

use std::path::Path;

use bibliotax_core::compare::compare;
use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Conflict, Problem, Resolution, Update as Updated, update, update_among};
use bibliotax_core::workspace::{Member, Workspace};
use bibliotax_present::conflict as proof;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::elsewhere::Freshness;
use serde_json::json;

use super::explain::locked_name;
use super::passed_over;
use super::settle::Settled;
use crate::codes::Exit;
use crate::failure::{self, Failure};
use crate::progress::Progress;
use crate::project::{Edits, Only, Project, Texts, file_name, needs_of};
use crate::searching::Searching;
use crate::ui::{Ui, style, styled};

/// Move packages to newer releases, and as little else as possible
///
/// The packages named, or all, move as far as the ranges allow. Of the others as few as possible move, each only to
/// the nearest release that will do, and it is said why they had to.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax update rain-ledger\n  bibliotax update --beyond --dry-run")]
pub struct Update {
    /// Packages in the lock; without any, all that members reach
    #[arg(value_name = "PACKAGE")]
    packages: Vec<String>,
    #[command(flatten)]
    members: Only,
    /// Move beyond the ranges as well, and write what that takes into the manifest
    #[arg(long)]
    beyond: bool,
    /// Show what would change and write nothing
    #[arg(long)]
    dry_run: bool,
    #[command(flatten)]
    searching: Searching,
}

/// What is asked to move.
struct Asked {
    /// The packages; `None` for all.
    packages: Option<Vec<PackageName>>,
    /// Whether they were named, and not just are all that some members reach.
    is_named: bool,
    /// The members whose needs may change; none for all.
    members: Vec<PackageName>,
}

impl Asked {
    /// The packages that were named.
    fn named(&self) -> &[PackageName] {
        self.packages.as_deref().filter(|_| self.is_named).unwrap_or_default()
    }

    /// Whether a need's range may change.
    fn has(&self, member: &Member, need: &Need) -> bool {
        self.packages.as_ref().is_none_or(|packages| packages.contains(&need.package))
            && (self.members.is_empty() || self.members.contains(&member.project.name))
    }

    /// What has to be looked for anew.
    fn freshness(&self) -> Freshness {
        let some = |packages: &Vec<PackageName>| Freshness::Anew(packages.iter().cloned().collect());
        self.packages.as_ref().map_or(Freshness::AllAnew, some)
    }
}

impl Update {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, self.dry_run, &progress)?;
        let project = project.searching(self.searching.clone());
        let lock = project.needed_lock()?;
        let asked = self.asked(&project, lock)?;
        let loosened = self.loosened(&project, &asked)?;
        let registries = project.registries_for(&loosened, asked.freshness())?;
        let mut updated = self.moved(&loosened, lock, &asked, &registries)?;
        let edits = self.rewritten(&project, &updated.resolution, &asked)?;
        let workspace = project.edited(&edits)?;
        say_rewritten(ui, &project.workspace, &workspace);
        let new = project.lock_of(&workspace, &mut updated.resolution, &registries)?;
        registries.heeds().iter().for_each(|heed| ui.warn(heed));
        let settled = Settled::new(&project, &workspace, new);
        settled.show(ui);
        if !settled.has_changes() {
            ui.say("nothing moves; `bibliotax newer` tells what is newer, and what keeps it out");
        }
        say_forced(ui, lock, &settled.lock, asked.named(), &updated.forced);
        for chosen in asked.named().iter().filter_map(|name| settled.lock.package(name)) {
            passed_over::say(ui, &Problem::new(&workspace, &[]), &registries, chosen);
        }
        let forced = || updated.forced.iter().map(proof::as_json).collect::<Vec<_>>();
        settled.conclude(ui, "update", self.dry_run, &edits, || json!({ "forced": forced() }))?;
        Ok(Exit::Done)
    }

    fn asked(&self, project: &Project, lock: &Lock) -> Result<Asked, Failure> {
        let named = self.packages.iter().map(|word| locked_name(lock, word));
        let named: Vec<PackageName> = named.collect::<Result<_, _>>()?;
        let (is_named, members) = (!named.is_empty(), self.members.names(project)?);
        let packages = match (is_named, members.is_empty()) {
            (true, _) => Some(named),
            (false, true) => None,
            (false, false) => Some(reached(lock, &members)),
        };
        Ok(Asked { packages, is_named, members })
    }

    fn moved(
        &self,
        workspace: &Workspace,
        lock: &Lock,
        asked: &Asked,
        registries: &Registries,
    ) -> Result<Updated, Failure> {
        let problem = Problem::new(workspace, &lock.packages);
        registries.foresee(&needs_of(&problem));
        let updated = match &asked.packages {
            Some(reached) if !asked.is_named => update_among(&problem, reached, registries),
            _ => update(&problem, asked.named(), registries),
        };
        updated.or_else(|unresolved| {
            let conflict = failure::conflict_of(unresolved)?;
            Err(failure::conflict(&conflict, Vec::new(), self.searching.long))
        })
    }

    /// The workspace that the update is worked out with: beyond the ranges, any version will do.
    fn loosened(&self, project: &Project, asked: &Asked) -> Result<Workspace, Failure> {
        let mut texts = Texts::of(project);
        for (member, need) in self.open_needs(project, asked) {
            set_range(&mut texts, member, need, &Range::any())?;
        }
        project.edited(&texts.edits())
    }

    /// The needs whose ranges may change.
    fn open_needs<'p>(&self, project: &'p Project, asked: &Asked) -> Vec<(&'p Member, &'p Need)> {
        let needs = project.workspace.needs().filter(|_| self.beyond);
        needs.filter(|(member, need)| asked.has(member, need) && need.has_releases()).collect()
    }

    /// The manifests with ranges that accept what was chosen; those that do are left alone.
    fn rewritten(&self, project: &Project, resolution: &Resolution, asked: &Asked) -> Result<Edits, Failure> {
        let mut texts = Texts::of(project);
        for (member, need) in self.open_needs(project, asked) {
            let chosen = resolution.package(&need.package).map(|chosen| &chosen.release.entry.version);
            let set = need.range.set(need.prereleases);
            if let Some(version) = chosen.filter(|version| !set.contains(version.point())) {
                let exact = need.range.only().is_some();
                let range = if exact { Range::exactly(version) } else { Range::from_version(version) };
                set_range(&mut texts, member, need, &range)?;
            }
        }
        Ok(texts.edits())
    }
}

/// Changes the range of a need where it is said: with the need, its family or, for all, in the root.
fn set_range(texts: &mut Texts<'_>, member: &Member, need: &Need, range: &Range) -> Result<(), Failure> {
    let of_member = need.family.as_ref().is_none_or(|family| member.manifest.families.contains_key(family));
    let text = texts.open(if need.is_shared || !of_member { "" } else { &member.folder })?;
    match &need.family {
        _ if need.is_shared => text.set_shared(&need.package, range),
        Some(family) => text.set_family(family, range),
        None => text.set_need(need.purpose.as_ref(), &need.package, range),
    }
    Ok(())
}

/// The packages that some members reach and that lie in no folder.
fn reached(lock: &Lock, members: &[PackageName]) -> Vec<PackageName> {
    let packages = lock.packages_of(members).into_iter();
    packages.filter(|package| package.source.path().is_none()).map(|package| package.name.clone()).collect()
}

fn say_rewritten(ui: &Ui, old: &Workspace, new: &Workspace) {
    let head = styled(style::STRONG, "manifest");
    let own = |need: &Need| need.family.is_none() && !need.is_shared;
    let needs = old.needs().zip(new.needs()).filter(|(_, (_, new))| own(new));
    let is_alone = new.members.len() == 1;
    let needs = needs.map(|((_, old), (member, new))| {
        let of = if is_alone { String::new() } else { format!("{} ", file_name(&member.folder)) };
        (format!("{of}{}", new.package), &old.range, &new.range)
    });
    let families = old.families.iter().zip(&new.families);
    let families = families.map(|((_, old), (name, new))| (format!("[families] {name}"), old, new));
    let shared = old.shared.iter().zip(&new.shared);
    let shared = shared.map(|((_, old), (name, new))| (format!("[shared] {name}"), old, new));
    for (name, old, new) in needs.chain(families).chain(shared).filter(|(_, old, new)| old != new) {
        ui.say(format!("{head}: {name} = \"{new}\" instead of \"{old}\""));
    }
}

/// Says of every package that moved without being asked why it could not stay.
fn say_forced(ui: &Ui, old: &Lock, new: &Lock, asked: &[PackageName], forced: &[Conflict]) {
    for change in compare(Some(old), new) {
        let name = &change.package().name;
        let why = forced.iter().find(|conflict| conflict.held.contains(name) && !asked.contains(name));
        if let Some(why) = why.filter(|_| change.old.is_some() && change.new.is_some()) {
            ui.say(format!("  {name} had to move:"));
            why.without_question().for_each(|sentence| ui.say(format!("    {}", sentence.text)));
        }
    }
}
