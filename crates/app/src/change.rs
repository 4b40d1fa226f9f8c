//! A change of manifests and lock, worked out before anything is written: what `need`, `drop`, `resolve`, `update`, `install` and
//! `check` share.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use bibliotax_core::compare::{Change, CharterChange, compare, compare_charters};
use bibliotax_core::lock::{self, Lock};
use bibliotax_core::manifest::ManifestText;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::ProgressEvent;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::workspace::Workspace;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_store::install::Installed;
use bibliotax_store::shelf::Plan;

use crate::accept::{LicenseFile, Unaccepted, license_file, unaccepted};
use crate::context::Context;
use crate::failure::Failure;
use crate::links::{LinkedFile, MissingFiles};
use crate::lock_check;
use crate::resolving::{Resolved, Resolver};
use crate::search_options::SearchOptions;
use crate::shelf::{ShelfOptions, ShelfWork};
use crate::steps::{OpenStep, open_steps};
use crate::workspace::edits::{self, EditedManifest, Edits};
use crate::workspace::{LockFile, WorkspaceFolder, file_name};

/// What a change is about.
pub struct Wanted {
    /// The texts that manifests are to have.
    pub edits: Edits,
    /// What the manifests declare with them.
    pub declared: Workspace,
    /// The lock that this leads to.
    pub lock: Lock,
    /// What people should know of it.
    pub warnings: Vec<String>,
}

impl Wanted {
    /// The change to what was resolved.
    pub fn new(edits: Edits, declared: Workspace, resolved: Resolved) -> Self {
        Self { edits, declared, lock: resolved.lock, warnings: resolved.warnings }
    }
}

/// A change of manifests and lock, worked out and not yet written.
pub struct PlannedChange {
    workspace: WorkspaceFolder,
    wanted: Wanted,
    registries: Registries,
}

/// What changes.
pub struct ChangeReport<'p> {
    /// The charters that come, go or move.
    pub charters: Vec<CharterChange<'p>>,
    /// The packages that come, go or move.
    pub changes: Vec<Change<'p>>,
    /// The new lock.
    pub lock: &'p Lock,
    /// The manifests that have another text.
    pub edited: Vec<EditedManifest>,
    /// Whether only targets or purposes of packages change.
    pub only_reasons: bool,
    /// What people should know of it.
    pub warnings: &'p [String],
    /// The licences that come with it and that nobody accepted yet.
    pub unaccepted: Vec<Unaccepted>,
}

/// What was done.
pub struct Applied {
    /// What came onto the shelf.
    pub installed: Installed,
    /// How long it took.
    pub took: Duration,
    /// The steps that people must still do by hand, where something was built.
    pub open_steps: Vec<OpenStep>,
    /// The files for build tools that weren't there before.
    pub build_files: Vec<LinkedFile>,
}

impl PlannedChange {
    /// The change of a workspace to this, with the registries that it was worked out with.
    pub fn new(workspace: WorkspaceFolder, wanted: Wanted, registries: &Registries) -> Self {
        Self { workspace, wanted, registries: registries.again() }
    }

    /// The workspace as it is.
    pub fn workspace(&self) -> &WorkspaceFolder {
        &self.workspace
    }

    /// What the manifests are going to declare.
    pub fn declared(&self) -> &Workspace {
        &self.wanted.declared
    }

    /// The new lock.
    pub fn lock(&self) -> &Lock {
        &self.wanted.lock
    }

    /// The lock before, if there was one to compare with.
    pub fn old_lock(&self) -> Option<&Lock> {
        match &self.workspace.lock {
            LockFile::Sound { lock, .. } => Some(lock),
            LockFile::None | LockFile::Faulty { .. } => None,
        }
    }

    /// Whether the lock on disk is the new one already.
    pub fn is_locked(&self) -> bool {
        self.old_lock() == Some(self.lock())
    }

    /// What changes.
    pub fn report(&self) -> ChangeReport<'_> {
        let (old, lock) = (self.old_lock(), self.lock());
        let changes = compare(old, lock);
        let differs = old.is_some_and(|old| old.packages != lock.packages);
        ChangeReport {
            only_reasons: changes.is_empty() && differs,
            charters: compare_charters(old, lock),
            changes,
            lock,
            edited: edits::compared(&self.workspace, &self.wanted.edits),
            warnings: &self.wanted.warnings,
            unaccepted: self.unaccepted(),
        }
    }

    /// The licences that come with it and that nobody accepted yet.
    pub fn unaccepted(&self) -> Vec<Unaccepted> {
        let mut waiting = unaccepted(self.lock(), &self.declared().rules, self.registries.now());
        let is_there = |waiting: &Unaccepted| {
            let before = self.old_lock().and_then(|old| old.package(&waiting.package));
            before.is_some_and(|before| before.license == waiting.license)
        };
        waiting.retain(|waiting| !is_there(waiting));
        waiting
    }

    /// Has the manifest say, too, that these licences were accepted.
    pub fn accept(&mut self, accepted: &[Unaccepted]) -> Result<(), Failure> {
        if accepted.is_empty() {
            return Ok(());
        }
        let text = match self.wanted.edits.manifests.get("") {
            Some(text) => text,
            None => self.workspace.manifests.in_folder("").map_or("", |file| &file.text),
        };
        let opened = ManifestText::open(text);
        let mut manifest = opened.map_err(|fault| Failure::in_text(file_name(""), text, vec![fault]))?;
        accepted.iter().for_each(|accepted| accepted.record(&mut manifest));
        self.wanted.edits.manifests.insert(String::new(), manifest.to_string());
        self.wanted.declared = self.workspace.edited(&self.wanted.edits)?;
        Ok(())
    }

    /// The licence text that comes with a package of the new lock, which is fetched for it.
    pub fn license_file(
        &self,
        package: &PackageName,
        context: &Context<'_>,
    ) -> Result<Option<LicenseFile>, Failure> {
        let options = ShelfOptions::default();
        let work = ShelfWork::new(&self.workspace, self.lock(), &options, context);
        work.towards(self.declared(), &self.registries).fetch()?;
        let Some(package) = self.lock().package(package) else { return Ok(None) };
        license_file(package, &context.environment.open_store()?)
    }

    /// What would be done on the shelf.
    pub fn shelf_plan<'p>(
        &'p self,
        options: &ShelfOptions,
        context: &Context<'_>,
    ) -> Result<Plan<'p>, Failure> {
        let work = ShelfWork::new(&self.workspace, self.lock(), options, context);
        work.towards(self.declared(), &self.registries).plan()
    }

    /// Fetches what is missing, then writes the manifests that have other texts and the lock, then brings the shelf to it: what
    /// can fail most comes before anything is written.
    pub fn apply(&self, options: &ShelfOptions, context: &Context<'_>) -> Result<Applied, Failure> {
        let begun = Instant::now();
        let work = ShelfWork::new(&self.workspace, self.lock(), options, context);
        let work = work.towards(self.declared(), &self.registries);
        work.try_templates()?;
        let missing = MissingFiles::of(&self.workspace)?;
        let fetched = work.fetch()?;
        self.write(context)?;
        let installed = work.install(&self.wanted.edits, &BTreeSet::new())?;
        let installed = Installed { fetched, ..installed };
        let took = begun.elapsed();
        let open_steps =
            if installed.built > 0 { open_steps(&self.workspace, self.lock())? } else { Vec::new() };
        Ok(Applied { installed, took, open_steps, build_files: missing.made(&self.workspace)? })
    }

    /// Writes manifests and lock alone.
    pub fn write(&self, context: &Context<'_>) -> Result<(), Failure> {
        let wrote = |file: String| context.listener.on_event(&ProgressEvent::Wrote { file: file.into() });
        self.workspace.write_manifests(&self.wanted.edits)?;
        self.wanted.edits.file_names().into_iter().for_each(wrote);
        if self.is_locked() {
            return Ok(());
        }
        self.workspace.write_lock(self.lock())?;
        wrote(lock::FILE_NAME.to_owned());
        lock_check::remember(&self.workspace, self.lock(), context.environment);
        Ok(())
    }
}

/// Resolves what the manifests declare with these texts, and plans the change to it.
pub fn plan_edits(
    workspace: WorkspaceFolder,
    edits: Edits,
    options: &SearchOptions,
    context: &Context<'_>,
) -> Result<PlannedChange, Failure> {
    let declared = workspace.edited(&edits)?;
    plan_declared(workspace, edits, &declared, options, context)
}

/// Resolves what edited manifests declare, and plans the change to it.
pub fn plan_declared(
    workspace: WorkspaceFolder,
    edits: Edits,
    declared: &Workspace,
    options: &SearchOptions,
    context: &Context<'_>,
) -> Result<PlannedChange, Failure> {
    let resolver = Resolver::open(&workspace, declared, context.environment, options)?;
    let declared = resolver.bound(declared)?;
    let resolved = resolver.resolve(&declared)?;
    let registries = resolver.registries;
    Ok(PlannedChange::new(workspace, Wanted::new(edits, declared, resolved), &registries))
}
