//! What `need`, `drop`, `resolve`, `install` and `update` share: from a manifest to its lock to the shelf.

use std::collections::BTreeSet;
use std::time::Instant;

use bibliotax_core::compare::compare;
use bibliotax_core::lock::Lock;
use bibliotax_core::workspace::Workspace;
use bibliotax_present::changes;
use bibliotax_store::install::Installed;
use serde_json::{Value, json};

use super::steps::say_open;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Edits, LockFile, Project};
use crate::show::{count, show_changes, size};
use crate::ui::{Ui, style, styled};

/// What is said of two locks with the same releases.
pub const NEEDED_OTHERWISE: &str = "no release changes, only where packages are needed, or what for";

/// A lock that is worked out and not yet written.
pub struct Settled<'p> {
    project: &'p Project,
    workspace: &'p Workspace,
    pub lock: Lock,
}

impl<'p> Settled<'p> {
    pub fn new(project: &'p Project, workspace: &'p Workspace, lock: Lock) -> Self {
        Self { project, workspace, lock }
    }

    /// The lock before, if there was one to compare with.
    fn old(&self) -> Option<&Lock> {
        match &self.project.lock {
            LockFile::Sound { lock, .. } => Some(lock),
            LockFile::None | LockFile::Faulty { .. } => None,
        }
    }

    /// Whether the lock on disk is this one.
    pub fn is_written(&self) -> bool {
        self.old() == Some(&self.lock)
    }

    /// Whether packages come, go or move.
    pub fn has_changes(&self) -> bool {
        !compare(self.old(), &self.lock).is_empty()
    }

    /// Shows how the lock changes.
    pub fn show(&self, ui: &Ui) {
        let changes = compare(self.old(), &self.lock);
        show_changes(ui, &changes, &self.lock);
        let is_otherwise = self.old().is_some_and(|old| old.packages != self.lock.packages);
        if changes.is_empty() && is_otherwise {
            let head = styled(style::STRONG, "lock");
            ui.say(format!("{head}: {NEEDED_OTHERWISE}"));
        }
    }

    /// The changes as data.
    pub fn changes(&self) -> Value {
        changes::as_json(&compare(self.old(), &self.lock), &self.lock)
    }

    /// Carries it out, unless that is only tried, and reports it as the result of a command, with more that is an object.
    pub fn conclude(
        &self,
        ui: &Ui,
        command: &str,
        dry_run: bool,
        edits: &Edits,
        more: impl FnOnce() -> Value,
    ) -> Result<(), Failure> {
        let installed = if dry_run { None } else { Some(self.carry_out(ui, edits)?) };
        if dry_run {
            ui.say("nothing was written");
        }
        ui.report(command, || {
            let mut result = json!({ "changes": self.changes(), "dry-run": dry_run });
            if let (Some(result), Value::Object(more)) = (result.as_object_mut(), more()) {
                result.extend(more);
            }
            if let Some(installed) = installed {
                result["shelf"] = installed_json(installed);
            }
            result
        });
        Ok(())
    }

    /// Fetches what is missing, then writes the manifests that have other texts and the lock, then brings
    /// the shelf to it: what can fail most comes before anything is written.
    fn carry_out(&self, ui: &Ui, edits: &Edits) -> Result<Installed, Failure> {
        let begun = Instant::now();
        let progress = Progress::new(ui);
        self.project.try_templates(&self.lock)?;
        let fetched = self.project.fetch(&self.lock, self.workspace, &progress)?;
        self.project.write_manifests(edits)?;
        self.write_lock()?;
        let installed =
            self.project.install(&self.lock, self.workspace, edits, &BTreeSet::new(), &progress)?;
        drop(progress);
        let installed = Installed { fetched, ..installed };
        say_installed(ui, installed, begun);
        if installed.built > 0 {
            say_open(ui, self.project, &self.lock)?;
        }
        Ok(installed)
    }

    pub fn write_lock(&self) -> Result<(), Failure> {
        if self.is_written() { Ok(()) } else { self.project.write_lock(&self.lock) }
    }
}

/// Says in a line what came onto the shelf.
pub fn say_installed(ui: &Ui, installed: Installed, begun: Instant) {
    let head = styled(style::STRONG, "shelf");
    if installed.built == 0 && installed.removed == 0 {
        if ui.is_aside() {
            return;
        }
        let there = match installed.kept {
            0 => "it is empty, as the lock says".to_owned(),
            1 => "the one package is there".to_owned(),
            many => format!("all {many} packages are there"),
        };
        ui.say(format!("{head}: nothing to do, {there}"));
        return;
    }
    let mut parts = Vec::new();
    if installed.built > 0 {
        parts.push(format!("{} put there", count(installed.built, "package")));
    }
    if installed.removed > 0 {
        parts.push(format!("{} taken off", installed.removed));
    }
    if installed.kept > 0 {
        parts.push(format!("{} already there", installed.kept));
    }
    if installed.fetched.archives > 0 {
        parts.push(format!("{} fetched", size(installed.fetched.bytes)));
    }
    ui.say(format!("{head}: {} ({:.2} s)", parts.join(", "), begun.elapsed().as_secs_f64()));
}

/// What came onto the shelf, as data.
pub fn installed_json(installed: Installed) -> Value {
    json!({ "built": installed.built, "removed": installed.removed, "kept": installed.kept, "touched": installed.touched,
        "fetched": installed.fetched.archives, "fetched-bytes": installed.fetched.bytes })
}
