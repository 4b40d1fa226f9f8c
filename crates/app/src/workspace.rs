//! A workspace on disk, or a project on its own: manifests and lock, found from any folder inside it.

pub mod edits;
mod folder_patterns;
mod lock_file;
mod manifest_file;
mod manifests;
mod projects;
mod root;

use std::borrow::Cow;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use bibliotax_core::charter::LockedCharter;
use bibliotax_core::facet::Target;
use bibliotax_core::lock::{self, Lock, LockedPackage};
use bibliotax_core::manifest::{self, RegistryDeclaration};
use bibliotax_core::name::{PackageName, Purpose, TargetName};
use bibliotax_core::progress::ProgressListener;
use bibliotax_core::workspace::{Project, Workspace};
use bibliotax_disk::lock::Held;
use bibliotax_disk::remains::{clear, left_in};
use bibliotax_disk::temporary::TEMPORARY;
use bibliotax_disk::write::write_whole;
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::connections::Connections;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::sources::direct_sources::Freshness;
use bibliotax_store::shelf::Shelf;

use crate::environment::Environment;
use crate::failure::Failure;

use self::edits::Edits;
pub use self::edits::ManifestEdits;
pub use self::lock_file::{LockFile, MAX_SIZE as MAX_LOCK_SIZE};
pub use self::manifest_file::{CardFile, ManifestFile, OpenTexts, file_name};
pub use self::manifests::{Manifests, folder_of};
pub use self::projects::{ProjectWords, called};
pub use self::root::{Membership, Outer, outer_workspace, projects_below};

/// A workspace, or a project on its own: its manifests and its lock, as they were read.
pub struct WorkspaceFolder {
    /// The folder of the workspace, which has the lock and the shelf.
    pub root: PathBuf,
    /// The manifests' texts.
    pub manifests: Manifests,
    /// What the manifests declare together.
    pub declared: Workspace,
    /// The lock.
    pub lock: LockFile,
    /// The registries that are opened.
    connections: Connections,
    /// Keeps other processes away while something is written.
    held: Option<Held>,
}

impl WorkspaceFolder {
    /// The workspace that a folder is in.
    pub fn find(from: &Path) -> Result<Self, Failure> {
        Self::read(Manifests::find(from)?)
    }

    /// The workspace that these are the manifests of.
    pub fn read(manifests: Manifests) -> Result<Self, Failure> {
        let workspace = Self::of(manifests)?;
        let lock = LockFile::read(&workspace.root)?;
        let mut workspace = Self { lock, ..workspace };
        // Resolving reports what contradicts locked charters: other releases may not.
        let _ = workspace.declared.bind(workspace.charters_that_stay(&workspace.declared));
        Ok(workspace)
    }

    /// The workspace that a folder is in, where it doesn't matter what is locked.
    pub fn without_lock(from: &Path) -> Result<Self, Failure> {
        Self::of(Manifests::find(from)?)
    }

    fn of(mut manifests: Manifests) -> Result<Self, Failure> {
        let declared = manifests.read()?;
        let (root, connections) = (manifests.root.clone(), Connections::default());
        Ok(Self { root, manifests, declared, lock: LockFile::None, connections, held: None })
    }

    /// The workspace that a folder is in; held, unless nothing is going to be written.
    pub fn open(from: &Path, is_dry_run: bool, listener: &dyn ProgressListener) -> Result<Self, Failure> {
        Self::open_found(Manifests::find(from)?, from, is_dry_run, listener)
    }

    /// The same, whose manifests were found already.
    pub fn open_found(
        found: Manifests,
        from: &Path,
        is_dry_run: bool,
        listener: &dyn ProgressListener,
    ) -> Result<Self, Failure> {
        if is_dry_run { Self::read(found) } else { Self::hold_found(found, from, listener) }
    }

    /// The workspace that a folder is in, kept from other processes, as its files are while it is held.
    pub fn hold(from: &Path, listener: &dyn ProgressListener) -> Result<Self, Failure> {
        Self::hold_found(Manifests::find(from)?, from, listener)
    }

    fn hold_found(
        mut found: Manifests,
        from: &Path,
        listener: &dyn ProgressListener,
    ) -> Result<Self, Failure> {
        loop {
            let root = found.root.clone();
            let held = Shelf::of(&root).hold(listener)?;
            // The process that held it before may have changed the manifests, or moved them into another workspace.
            found = found.find_again(from)?;
            if found.root == root {
                return Ok(Self { held: Some(held), ..Self::read(found)? });
            }
        }
    }

    /// Whether other processes are kept from it, because something is written.
    pub fn is_held(&self) -> bool {
        self.held.is_some()
    }

    /// Its shelf.
    pub fn shelf(&self) -> Shelf {
        Shelf::of(&self.root)
    }

    /// Where the manifest in a folder of it is on the disk.
    pub fn manifest_path(&self, folder: &str) -> PathBuf {
        self.root.join(file_name(folder))
    }

    /// Whether it has only one project.
    pub fn is_alone(&self) -> bool {
        self.declared.projects.len() == 1
    }

    /// The lock, unless there is none; a lock that can't be trusted is a failure.
    pub fn sound_lock(&self) -> Result<Option<&Lock>, Failure> {
        match &self.lock {
            LockFile::None => Ok(None),
            LockFile::Sound { lock, .. } => Ok(Some(lock)),
            LockFile::Faulty { text, fault } => {
                Err(Failure::in_text(lock::FILE_NAME, text, vec![fault.clone()]))
            }
        }
    }

    /// The lock, or a failure.
    pub fn needed_lock(&self) -> Result<&Lock, Failure> {
        self.sound_lock()?.ok_or_else(|| {
            Failure::new("lock.missing", format!("there is no {} yet", lock::FILE_NAME))
                .advice("`bibliotax install` creates it and installs the packages")
        })
    }

    /// The packages that resolving should stay with, also from a lock that can't be trusted.
    pub fn locked(&self) -> Cow<'_, [LockedPackage]> {
        match &self.lock {
            LockFile::None => Cow::default(),
            LockFile::Sound { lock, .. } => Cow::from(&lock.packages),
            LockFile::Faulty { text, .. } => Cow::from(lock::salvage(text)),
        }
    }

    /// One of [`Self::locked`].
    pub fn locked_package(&self, name: &PackageName) -> Option<Cow<'_, LockedPackage>> {
        match self.locked() {
            Cow::Borrowed(all) => all.iter().find(|one| one.name == *name).map(Cow::Borrowed),
            Cow::Owned(all) => all.into_iter().find(|one| one.name == *name).map(Cow::Owned),
        }
    }

    /// The charters that resolving should stay with, also from a lock that can't be trusted.
    pub fn locked_charters(&self) -> Cow<'_, [LockedCharter]> {
        match &self.lock {
            LockFile::None => Cow::default(),
            LockFile::Sound { lock, .. } => Cow::from(&lock.charters),
            LockFile::Faulty { text, .. } => Cow::from(lock::salvage_charters(text)),
        }
    }

    /// The locked charters that a workspace still takes on, at a version that will do.
    fn charters_that_stay(&self, declared: &Workspace) -> Vec<LockedCharter> {
        let locked = self.locked_charters();
        let stays = |locked: &&LockedCharter| {
            declared.declared_charter(&locked.name).is_some_and(|charter| charter.accepts(&locked.version))
        };
        locked.iter().filter(stays).cloned().collect()
    }

    /// What is declared, bound by these charters; a failure at the place in the manifests that doesn't go together with them.
    pub fn bound_by(
        &self,
        mut declared: Workspace,
        charters: Vec<LockedCharter>,
    ) -> Result<Workspace, Failure> {
        match declared.bind(charters) {
            Ok(()) => Ok(declared),
            Err(misfits) => Err(self.manifests.misfit(&misfits)),
        }
    }

    /// Whether the lock is made from the manifests as they are.
    pub fn is_locked(&self) -> bool {
        matches!(&self.lock, LockFile::Sound { lock, .. } if lock.made_from == lock::inputs(&self.declared))
    }

    /// No project, only registries to look packages up in; their folders are seen from this one.
    pub fn of_registries(folder: &Path, registries: Vec<RegistryDeclaration>) -> Self {
        Self {
            root: folder.to_owned(),
            manifests: Manifests::none(folder),
            declared: Workspace::of_registries(registries),
            lock: LockFile::None,
            connections: Connections::default(),
            held: None,
        }
    }

    /// Whether it is no project, only registries.
    pub fn is_only_registries(&self) -> bool {
        self.declared.projects.is_empty()
    }

    /// Opens the registries that are declared, with packages as fresh as that which come from no registry.
    pub fn open_registries(
        &self,
        declared: &Workspace,
        freshness: Freshness,
        network: &Network,
    ) -> Result<Registries, RegistryError> {
        Registries::open(declared, &self.root, &self.locked(), freshness, network, &self.connections)
    }

    /// Opens one registry that is declared.
    pub fn open_registry(
        &self,
        declaration: &RegistryDeclaration,
        environment: &Environment,
    ) -> Result<Registry, RegistryError> {
        self.connections.open(declaration, &self.root, &environment.network())
    }

    /// What the manifests declare with these texts, which aren't written yet.
    pub fn edited(&self, edits: &Edits) -> Result<Workspace, Failure> {
        if edits.is_empty() {
            return Ok(self.declared.clone());
        }
        let mut edited = self.manifests.edited(edits)?.read()?;
        let _ = edited.bind(self.charters_that_stay(&edited));
        Ok(edited)
    }

    /// Writes these texts of manifests.
    pub fn write_manifests(&self, edits: &Edits) -> Result<(), Failure> {
        for ((folder, path), text) in &edits.cards {
            let path = self.root.join(edits::card_name(folder, path));
            bibliotax_disk::write::make_folder(bibliotax_disk::write::folder_of(&path))?;
            write_whole(&path, text.as_bytes())?;
        }
        for (folder, text) in &edits.manifests {
            write_whole(&self.root.join(folder).join(manifest::FILE_NAME), text.as_bytes())?;
        }
        Ok(())
    }

    /// Writes a lock.
    pub fn write_lock(&self, lock: &Lock) -> Result<(), Failure> {
        write_whole(&self.root.join(lock::FILE_NAME), lock.to_string().as_bytes())?;
        // What runs that were killed left beside it.
        Ok(clear(&left_in(&self.root, |name| name.starts_with(TEMPORARY)))?)
    }

    /// The declared targets that these words name.
    pub fn targets_named(&self, words: &[String]) -> Result<Vec<TargetName>, Failure> {
        words.iter().map(|word| declared_target(&self.declared.targets, word)).collect()
    }

    /// What releases have to fit of these projects, on these targets; of all where none are named. Each once.
    pub fn places(&self, projects: &ProjectWords, targets: &[String]) -> Result<Vec<Target>, Failure> {
        let (projects, targets) = (projects.names(self)?, self.targets_named(targets)?);
        let is_meant = |project: &&Project| projects.is_empty() || projects.contains(project.name());
        let of_projects = self.declared.projects.iter().filter(is_meant);
        let own = of_projects.clone().flat_map(|project| project.targets.iter().cloned());
        let promises = of_projects.filter_map(|project| project.manifest.promise());
        let mut places =
            if projects.is_empty() { self.declared.places() } else { own.chain(promises).collect() };
        places
            .retain(|place| targets.is_empty() || targets.iter().any(|target| target.as_str() == place.name));
        places.dedup();
        Ok(places)
    }

    /// Fails unless something is needed for each of these purposes.
    pub fn check_purposes(&self, purposes: &[Purpose]) -> Result<(), Failure> {
        let known: BTreeSet<&str> =
            self.declared.needs().filter_map(|(_, need)| Some(need.purpose.as_ref()?.as_str())).collect();
        let Some(unknown) = purposes.iter().find(|purpose| !known.contains(purpose.as_str())) else {
            return Ok(());
        };
        let known: Vec<&str> = known.into_iter().collect();
        let failure =
            Failure::new("install.purpose", format!("nothing is needed for the purpose `{unknown}`"));
        Err(failure.suggest(
            unknown.as_str(),
            &known,
            "the manifest has no `[needs-for]`; remove `--leave-out`",
        ))
    }
}

/// The target of this name, which has to be among those that are declared.
pub fn declared_target(targets: &[Target], target: &str) -> Result<TargetName, Failure> {
    let declared: Vec<&str> = targets.iter().map(|target| target.name.as_str()).collect();
    if let Some(name) = target.parse().ok().filter(|_| declared.contains(&target)) {
        return Ok(name);
    }
    let failure = Failure::new("install.target", format!("the manifest declares no target `{target}`"));
    Err(failure.suggest(target, &declared, "it declares no targets; remove `--target`"))
}
