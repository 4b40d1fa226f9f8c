//! `check`: what is wrong or worth a look in a workspace, though all of it can be read.

use std::path::Path;

use bibliotax_core::manifest::{self, Need};
use bibliotax_core::name::PackageName;
use bibliotax_core::workspace::{Drift, Member};
use serde_json::{Value, json};

use super::settle::Settled;
use crate::codes::{Exit, exit_of};
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{LockFile, Project, Texts, file_name};
use crate::searching::Searching;
use crate::show::{count, table};
use crate::ui::{Ui, style, styled};

/// Tell what is wrong or worth a look
///
/// Whether the lock is made from the manifests as they are, which packages members declare with different ranges, and what
/// stands in for packages. Ends with status 1 if anything is found.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax check\n  bibliotax check --unify")]
pub struct Check {
    /// Let members share one range of each package that they declare with different ones
    #[arg(long)]
    unify: bool,
    /// With --unify: show what would be written and write nothing
    #[arg(long, requires = "unify")]
    dry_run: bool,
    #[command(flatten)]
    searching: Searching,
}

/// Something that is wrong or worth a look.
struct Finding {
    code: &'static str,
    message: String,
    /// Rows of a table that say more.
    rows: Vec<Vec<String>>,
    mend: String,
    data: Value,
}

impl Check {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::open(here, !self.unify || self.dry_run, &progress)?;
        let project = project.searching(self.searching.clone());
        drop(progress);
        if let LockFile::Sound { lock, .. } = &project.lock
            && project.is_locked()
        {
            project.hold_lock(lock)?;
        }
        let warnings = match &project.lock {
            LockFile::Sound { lock, .. } => project.known_warnings(lock),
            LockFile::None | LockFile::Faulty { .. } => Vec::new(),
        };
        warnings.iter().for_each(|warning| ui.warn(warning));
        let drifts = project.workspace.drifts();
        let mut findings: Vec<Finding> = about_lock(&project).into_iter().collect();
        findings.extend(about_replaced(&project));
        findings.extend(drifts.iter().map(|drift| about_drift(drift, self.unify)));
        findings.iter().for_each(|finding| finding.show(ui));
        let unified = if self.unify { self.unify(ui, &project, &drifts)? } else { 0 };
        if findings.is_empty() {
            let members = count(project.workspace.members.len(), "member");
            ui.say(format!(
                "nothing to find fault with: {members}, {}",
                count(project.locked().len(), "package")
            ));
        }
        let left = findings.len() - unified;
        let data: Vec<&Value> = findings.iter().map(|finding| &finding.data).collect();
        ui.report(
            "check",
            || json!({ "findings": data, "unified": unified, "warnings": warnings, "dry-run": self.dry_run }),
        );
        Ok(if left == 0 { Exit::Done } else { exit_of("check.findings") })
    }

    /// Lets members share ranges; for how many packages.
    fn unify(&self, ui: &Ui, project: &Project, drifts: &[Drift<'_>]) -> Result<usize, Failure> {
        let mut texts = Texts::of(project);
        let possible: Vec<&Drift<'_>> = drifts.iter().filter(|drift| drift.common.is_some()).collect();
        for drift in &possible {
            let Some(range) = &drift.common else { continue };
            texts.open("")?.set_shared(&drift.package, range);
            for (member, need) in &drift.needs {
                texts.open(&member.folder)?.set_need_shared(need.purpose.as_ref(), &need.package);
            }
        }
        let edits = texts.edits();
        let workspace = project.edited(&edits)?;
        for drift in &possible {
            let range = drift.common.as_ref().map(ToString::to_string).unwrap_or_default();
            let head = styled(style::STRONG, manifest::FILE_NAME);
            let name = drift.package.as_str();
            // As it can be pasted: a name with a scope stands in quotes.
            let key = if name.contains('/') { format!("\"{name}\"") } else { name.to_owned() };
            ui.say(format!("{head}: [shared] {key} = \"{range}\""));
        }
        if edits.is_empty() || self.dry_run {
            ui.say("nothing was written");
            return Ok(0);
        }
        let (lock, warnings) = project.resolve(&workspace, &project.registries(&workspace)?)?;
        warnings.iter().for_each(|warning| ui.warn(warning));
        let settled = Settled::new(project, &workspace, lock);
        settled.show(ui);
        project.write_manifests(&edits)?;
        settled.write_lock()?;
        Ok(possible.len())
    }
}

impl Finding {
    fn show(&self, ui: &Ui) {
        ui.answer(format!("{}: {}", styled(style::WARNING, self.code), self.message));
        if !self.rows.is_empty() {
            ui.answer(table(ui, self.rows.iter().cloned()));
        }
        ui.answer(format!("  {}", styled(style::FAINT, &self.mend)));
    }
}

/// That the lock is not what the manifests lead to.
fn about_lock(project: &Project) -> Option<Finding> {
    let (code, message) = match &project.lock {
        LockFile::None => ("lock.missing", "there is no lock yet".to_owned()),
        LockFile::Faulty { fault, .. } => (fault.code, fault.message.clone()),
        LockFile::Sound { .. } if !project.is_locked() => {
            ("lock.stale", "manifests were changed since the lock was made from them".to_owned())
        }
        LockFile::Sound { .. } => return None,
    };
    let data = json!({ "code": code, "message": message });
    // An install stays away from a lock that may have been edited.
    let command = if matches!(project.lock, LockFile::Faulty { .. }) { "resolve" } else { "install" };
    let mend = format!("`bibliotax {command}` makes it right");
    Some(Finding { code, message, rows: Vec::new(), mend, data })
}

/// What stands in for packages.
fn about_replaced(project: &Project) -> Vec<Finding> {
    let locked = project.locked();
    let finding = |name: &PackageName| {
        let package = locked.iter().find(|package| package.name == *name && package.replaced);
        let (message, mend) = match package {
            Some(package) => (
                format!("{} stands in for {name}, at {}", package.source, package.version),
                "what is sealed or published has to do without: take it out of `[replace]` when it is done",
            ),
            None => (
                format!("something would stand in for {name}, which nothing needs"),
                "take it out of `[replace]`",
            ),
        };
        let source = package.map(|package| &package.source);
        let data = json!({ "code": "replaced", "message": message, "package": name, "source": source });
        Finding { code: "replaced", message, rows: Vec::new(), mend: mend.to_owned(), data }
    };
    project.workspace.replaced.keys().map(finding).collect()
}

/// That members declare a package with different ranges, which they are about to agree on if `unifies`.
fn about_drift(drift: &Drift<'_>, unifies: bool) -> Finding {
    let row = |(member, need): &(&Member, &Need)| {
        let part =
            need.purpose.as_ref().map_or("[needs]".to_owned(), |purpose| format!("[needs-for.{purpose}]"));
        let shared = if need.is_shared { ", shared" } else { "" };
        vec![format!("  {}", file_name(&member.folder)), part, format!("\"{}\"{shared}", need.range)]
    };
    let mend = match &drift.common {
        Some(range) if unifies => format!("all accept \"{range}\", which they share:"),
        Some(range) => format!("all accept \"{range}\": `bibliotax check --unify` lets them share that"),
        None => "no version is in all of them: one lock can't have them all".to_owned(),
    };
    let declared = |(member, need): &(&Member, &Need)| {
        json!({ "member": member.project.name, "path": member.path(), "purpose": need.purpose, "range": need.range,
            "shared": need.is_shared })
    };
    let message = format!("{} is declared with different ranges", drift.package);
    let data = json!({ "code": "drift", "message": message, "package": drift.package, "common": drift.common,
        "declared": drift.needs.iter().map(declared).collect::<Vec<_>>() });
    Finding { code: "drift", message, rows: drift.needs.iter().map(row).collect(), mend, data }
}
