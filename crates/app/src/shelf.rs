//! A workspace's shelf: which part of it is installed, and how it is brought to what a lock says.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::facet::{Facets, Target};
use bibliotax_core::links::{LinkSettings, Links, NoFiles, Root};
use bibliotax_core::lock::{self, Lock, LockedPackage, Scope};
use bibliotax_core::name::{PackageName, Purpose, TargetName};
use bibliotax_core::workspace::Workspace;
use bibliotax_disk::read::read_text;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_store::StoreError;
use bibliotax_store::install::{Fetched, Installed, fetch_all, install};
use bibliotax_store::shelf::{
    self, DesiredState, InputsDigest, PackageCheck, PartFolders, Plan, Shelf, Template, Templates, UpToDate,
    link_files,
};
use bibliotax_store::verify::{Damaged, FileCheck, Verified, damaged_trees, verify};

use crate::archives::Archives;
use crate::context::Context;
use crate::failure::Failure;
use crate::machine::this_machine;
use crate::template_process::TemplateProcess;
use crate::workspace::edits::Edits;
use crate::workspace::{MAX_LOCK_SIZE, ManifestFile, Manifests, WorkspaceFolder};

/// A part of a shelf; empty lists mean all.
#[derive(Debug, Clone, Default)]
pub struct ShelfPart {
    /// What these projects need.
    pub projects: Vec<PackageName>,
    /// What is needed on these targets.
    pub targets: Vec<TargetName>,
    /// What is needed for these purposes only is left out.
    pub without: Vec<Purpose>,
}

impl ShelfPart {
    fn scope<'a>(&'a self, machine: &'a Target) -> Scope<'a> {
        Scope { projects: &self.projects, targets: &self.targets, without: &self.without, machine }
    }
}

/// How a shelf is worked on.
#[derive(Debug, Clone, Default)]
pub struct ShelfOptions {
    /// Which part of it.
    pub part: ShelfPart,
    /// How closely files of the store are compared before they are used.
    pub depth: FileCheck,
    /// How closely what is on the shelf is compared before it stays.
    pub look: PackageCheck,
    /// Whether links use absolute paths, also where the manifest says otherwise.
    pub absolute: bool,
}

/// Work on a workspace's shelf.
pub struct ShelfWork<'w, 'l> {
    workspace: &'w WorkspaceFolder,
    declared: &'w Workspace,
    lock: &'l Lock,
    options: &'w ShelfOptions,
    archives: Archives<'w>,
    context: &'w Context<'w>,
}

impl<'w, 'l> ShelfWork<'w, 'l> {
    /// Work towards a lock that was made from what the manifests on disk declare.
    pub fn new(
        workspace: &'w WorkspaceFolder,
        lock: &'l Lock,
        options: &'w ShelfOptions,
        context: &'w Context<'w>,
    ) -> Self {
        let declared = &workspace.declared;
        let archives = Archives::new(workspace, declared, context.environment, None);
        Self { workspace, declared, lock, options, archives, context }
    }

    /// Work towards a lock that was made from something else, with these registries, which are open already.
    pub fn towards(self, declared: &'w Workspace, opened: &Registries) -> Self {
        let archives = Archives::new(self.workspace, declared, self.context.environment, Some(opened));
        Self { declared, archives, ..self }
    }

    /// Fails unless the templates for links can be rendered for this lock; before anything is written.
    pub fn try_templates(&self) -> Result<(), Failure> {
        let machine = this_machine();
        let slots = self.lock.slots(&self.options.part.scope(&machine)).map_err(StoreError::NotForMachine)?;
        let settings = LinkSettings::of(self.declared);
        let root = Root { shelf: shelf::NAME, absolute: None, settings: &settings };
        let (all, by) = (self.workspace.manifests.templates()?, TemplateProcess::default());
        let links = Links::of(self.lock, &slots, &root, &NoFiles);
        link_files(self.lock, &links, "", &settings, Templates { all: &all, by: &by })?;
        Ok(())
    }

    /// Fetches what the lock needs and the store lacks; nothing of the workspace is touched.
    pub fn fetch(&self) -> Result<Fetched, Failure> {
        let machine = this_machine();
        let slots = self.lock.slots(&self.options.part.scope(&machine)).map_err(StoreError::NotForMachine)?;
        let store = self.context.environment.open_store()?;
        Ok(fetch_all(&slots, &store, &self.archives, self.context.listener)?)
    }

    /// What has to be done to bring the shelf to what the lock says.
    pub fn plan(&self) -> Result<Plan<'l>, Failure> {
        let (shelf, machine, rebuilt) = (self.workspace.shelf(), this_machine(), BTreeSet::new());
        let ShelfOptions { part, depth, look, .. } = self.options;
        let (settings, made, lock) = (self.declared.shelf, InputsDigest::from_texts([]), self.lock);
        let (scope, templates) = (part.scope(&machine), Templates::NONE);
        let aim = DesiredState {
            lock,
            scope,
            settings,
            templates,
            rebuilt: &rebuilt,
            tolerant: &tolerant_targets(self.declared),
            parts: &BTreeMap::new(),
            links: &LinkSettings::default(),
            has_rules: self.declared.rules.can_refuse(),
            depth: *depth,
            look: *look,
            made,
        };
        let state = shelf.state()?;
        let plan = Plan::new(&aim, &state, &shelf.contents(lock, &state, *look)?);
        Ok(plan.map_err(StoreError::from)?)
    }

    /// Brings the shelf to what the lock says, with these texts of manifests in place of those before. These packages are built
    /// again, even if it is there.
    pub fn install(&self, edits: &Edits, rebuilt: &BTreeSet<PackageName>) -> Result<Installed, Failure> {
        let manifests = self.workspace.manifests.edited(edits)?;
        let templates = manifests.templates()?;
        let ShelfOptions { part, depth, look, absolute } = self.options;
        let made = made_from(&manifests, &self.lock.to_string(), &templates, *absolute);
        let (machine, mut settings) = (this_machine(), self.declared.shelf);
        settings.absolute |= *absolute;
        let templates = Templates { all: &templates, by: &TemplateProcess::default() };
        let aim = DesiredState {
            lock: self.lock,
            scope: part.scope(&machine),
            settings,
            templates,
            rebuilt,
            tolerant: &tolerant_targets(self.declared),
            parts: &part_folders(self.declared, self.lock, &machine),
            links: &LinkSettings::of(self.declared),
            has_rules: self.declared.rules.can_refuse(),
            depth: *depth,
            look: *look,
            made,
        };
        let (shelf, store) = (self.workspace.shelf(), self.context.environment.open_store()?);
        Ok(install(&aim, &shelf, &store, &self.archives, self.context.listener)?)
    }

    /// Compares every file of the shelf with what the lock's archives hold.
    pub fn verify(&self, depth: FileCheck) -> Result<Verified, Failure> {
        let (machine, store) = (this_machine(), self.context.environment.open_store()?);
        let scope = self.options.part.scope(&machine);
        Ok(verify(self.lock, &scope, &self.workspace.shelf(), &store, depth, self.context.listener)?)
    }

    /// The copies in the store that packages are put on the shelf from, as far as they are damaged.
    pub fn damaged_in_store(
        &self,
        packages: &[&LockedPackage],
        depth: FileCheck,
    ) -> Result<Vec<Damaged>, Failure> {
        let store = self.context.environment.open_store()?;
        Ok(damaged_trees(packages, &store, &self.workspace.shelf(), depth)?)
    }
}

/// The targets whose systems can have every name of a file, in each project that has them.
fn tolerant_targets(declared: &Workspace) -> BTreeSet<String> {
    let all = || declared.projects.iter().flat_map(|project| &project.targets);
    let strict: BTreeSet<&String> =
        all().filter(|target| !target.has_any_names()).map(|target| &target.name).collect();
    all().map(|target| &target.name).filter(|name| !strict.contains(name)).cloned().collect()
}

/// Where the parts of packages are that are used in their folders, for each target and for this machine.
fn part_folders(declared: &Workspace, lock: &Lock, machine: &Target) -> PartFolders {
    let facets = Facets::default().with(&declared.facets);
    let targets: Vec<&Target> = declared.projects.iter().flat_map(|project| &project.targets).collect();
    let mut folders = PartFolders::new();
    for folder in lock.packages.iter().filter_map(|package| package.source.path()) {
        let Some(project) = declared.in_folder(folder).filter(|project| project.has_parts()) else {
            continue;
        };
        let of = |target: &Target| project.part_folders(target, &facets);
        for target in &targets {
            folders.insert((folder.to_owned(), target.name.clone()), of(target));
        }
        for none in ["", Target::THIS_MACHINE] {
            folders.insert((folder.to_owned(), none.to_owned()), of(machine));
        }
    }
    folders
}

/// The shelf of a workspace, with what is on it, if nothing has to be done. Known from the texts that it was made from and
/// such a look at each package, without parsing any of the texts.
pub fn up_to_date(
    manifests: &Manifests,
    absolute: bool,
    look: PackageCheck,
) -> Result<Option<(Shelf, UpToDate)>, Failure> {
    let lock = read_text(&manifests.root.join(lock::FILE_NAME), MAX_LOCK_SIZE);
    let Ok(Some(lock)) = lock else { return Ok(None) };
    let made = made_from(manifests, &lock, &manifests.templates()?, absolute);
    let shelf = Shelf::of(&manifests.root);
    Ok(shelf.up_to_date(made, look)?.map(|up_to_date| (shelf, up_to_date)))
}

/// All that a whole shelf is made from.
fn made_from(manifests: &Manifests, lock: &str, templates: &[Template], absolute: bool) -> InputsDigest {
    let machine = [env!("CARGO_PKG_VERSION"), std::env::consts::OS, std::env::consts::ARCH];
    let Manifests { files, root, .. } = manifests;
    let cards = files.iter().flat_map(|file| &file.cards);
    let cards = cards.flat_map(|card| [card.path.as_str(), &card.text]);
    let manifests = files.iter().flat_map(|file| [file.folder.as_str(), &file.text]).chain(cards);
    let templates = templates.iter().flat_map(|template| {
        let Template { folder, name, text } = template;
        [folder.as_str(), name, text]
    });
    // Some files of links hold paths from the root of the disk, and are others where the workspace is moved.
    let names_root = |file: &ManifestFile| file.text.contains("meson") || file.text.contains("absolute");
    let holds_root = absolute || files.iter().any(names_root);
    let root = holds_root.then(|| std::path::absolute(root).ok()).flatten().unwrap_or_default();
    let root = root.to_string_lossy().into_owned();
    let mut texts: Vec<&str> = [lock].into_iter().chain(machine).chain(manifests).chain(templates).collect();
    texts.push(&root);
    InputsDigest::from_texts(texts.into_iter().map(str::as_bytes))
}
