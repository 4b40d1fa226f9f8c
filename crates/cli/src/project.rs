//! A workspace, or a project on its own: its manifests, lock, shelf and registries, found from anywhere inside it.

mod archives;
mod folders;
mod held;
mod hints;
mod lockfile;
mod manifests;
mod members;
mod person;
mod texts;
mod warnings;
pub mod ways;

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Target;
use bibliotax_core::links::{Links, Root};
use bibliotax_core::lock::{self, Lock, LockedPackage, Scope};
use bibliotax_core::manifest::{self, ManifestText, RegistryDeclaration};
use bibliotax_core::name::{PackageName, Purpose, TargetName};
use bibliotax_core::notice::Listener;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem, Resolution, open_capability, resolve, ways_out};
use bibliotax_core::workspace::Workspace;
use bibliotax_disk::lock::Held;
use bibliotax_disk::read::read_text;
use bibliotax_disk::remains::{clear, left_in};
use bibliotax_disk::temporary::TEMPORARY;
use bibliotax_disk::write::write_whole;
use bibliotax_registry::catalogue::connections::Connections;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::sources::elsewhere::Freshness;
use bibliotax_store::StoreError;
use bibliotax_store::install::{Fetched, Installed, fetch_all, install};
use bibliotax_store::kit::{self, Load};
use bibliotax_store::shelf::{self, Aim, Look, Made, Plan, Shelf, Stands, Template, Templates, link_files};
use bibliotax_store::verify::{Damaged, Depth, Verified, damaged_trees, verify};

use crate::failure::{self, Failure};
use crate::machine::this_machine;
use crate::rendering::RenderApart;
use crate::searching::Searching;
use crate::switches;

use self::archives::Archives;
pub use self::held::note_kit;
pub use self::lockfile::{LARGEST as LARGEST_LOCK, LockFile};
pub use self::manifests::{
    Manifests, Outer, Standing, file_name, folder_of, outer_workspace, projects_below,
};
pub use self::members::{In, Only, called};
pub use self::person::{network, open_store, registries_folder};
pub use self::texts::Texts;
pub use self::warnings::{about_release, ask_for_locked, warnings_about};

/// A workspace, or a project on its own, as its files say.
pub struct Project {
    /// The folder of the workspace, which has the lock and the shelf.
    pub root: PathBuf,
    pub manifests: Manifests,
    /// What the manifests say together.
    pub workspace: Workspace,
    pub lock: LockFile,
    /// How problems of this project are searched.
    pub searching: Searching,
    /// The part of the shelf that is worked on.
    part: ShelfPart,
    /// The registries that were opened last, for who fetches from them after they were asked.
    opened: Mutex<Option<Registries>>,
    /// The registries that are opened.
    connections: Connections,
    /// Whether nobody is to be asked over a network.
    is_offline: bool,
    /// Whether links give paths from the root of the disk, whatever the manifest says.
    absolute: bool,
    depth: Depth,
    look: Look,
    /// Whether other processes are kept from it, because something is written.
    is_held: bool,
}

/// A part of a shelf; empty lists mean all.
#[derive(Debug, Clone, Default)]
pub struct ShelfPart {
    pub members: Vec<PackageName>,
    pub targets: Vec<TargetName>,
    /// What is needed for these purposes only is left out.
    pub without: Vec<Purpose>,
}

impl ShelfPart {
    fn scope<'a>(&'a self, machine: &'a Target) -> Scope<'a> {
        Scope { members: &self.members, targets: &self.targets, without: &self.without, machine }
    }
}

/// Texts that manifests are to have, by their folders from the workspace's.
pub type Edits = BTreeMap<String, String>;

impl Project {
    /// The project that `from` lies in.
    pub fn find(from: &Path) -> Result<Self, Failure> {
        let project = Self::without_lock(from)?;
        let lock = LockFile::read(&project.root)?;
        Ok(Self { lock, ..project })
    }

    /// The project that `from` lies in, for who doesn't care what is locked.
    pub fn without_lock(from: &Path) -> Result<Self, Failure> {
        let mut manifests = Manifests::find(from)?;
        let workspace = manifests.read()?;
        let (root, lock) = (manifests.root.clone(), LockFile::None);
        let (searching, part, opened) = (Searching::default(), ShelfPart::default(), Mutex::default());
        let (is_offline, absolute, is_held, depth) = (false, false, false, Depth::SizeAndTime);
        Ok(Self {
            root,
            manifests,
            workspace,
            lock,
            searching,
            part,
            opened,
            connections: Connections::default(),
            is_offline,
            absolute,
            depth,
            look: Look::default(),
            is_held,
        })
    }

    /// The project that `from` lies in, for a command that writes: held, unless nothing is written after all.
    pub fn open(
        from: &Path,
        dry_run: bool,
        listener: &dyn Listener,
    ) -> Result<(Self, Option<Held>), Failure> {
        if dry_run {
            return Ok((Self::find(from)?, None));
        }
        Self::hold(from, listener).map(|(project, held)| (project, Some(held)))
    }

    /// The project that `from` lies in, kept from other processes, as its files are while it is held.
    pub fn hold(from: &Path, listener: &dyn Listener) -> Result<(Self, Held), Failure> {
        let found = Self::find(from)?;
        let held = found.shelf().hold(listener)?;
        // Whoever held it before may have changed it; mostly nobody did, and reading it once is enough.
        let project = if found.is_as_on_disk(from)? { found } else { Self::find(from)? };
        Ok((Self { is_held: true, ..project }, held))
    }

    /// The same project, searched as was asked.
    pub fn searching(self, searching: Searching) -> Self {
        Self { searching, ..self }
    }

    /// The same project, of whose shelf only this part is worked on.
    pub fn only(self, part: ShelfPart) -> Self {
        Self { part, ..self }
    }

    /// The targets of the workspace that these words name.
    pub fn targets_named(&self, words: &[String]) -> Result<Vec<TargetName>, Failure> {
        words.iter().map(|word| declared_target(&self.workspace.targets, word)).collect()
    }

    /// Sees that something is needed for each of these purposes.
    pub fn check_purposes(&self, purposes: &[Purpose]) -> Result<(), Failure> {
        let known: BTreeSet<&str> =
            self.workspace.needs().filter_map(|(_, need)| Some(need.purpose.as_ref()?.as_str())).collect();
        let Some(unknown) = purposes.iter().find(|purpose| !known.contains(purpose.as_str())) else {
            return Ok(());
        };
        let known: Vec<&str> = known.into_iter().collect();
        let failure =
            Failure::new("install.purpose", format!("nothing is needed for the purpose `{unknown}`"));
        Err(failure.suggest(
            unknown.as_str(),
            &known,
            "there are no `[needs-for]` at all; leave out `--without`",
        ))
    }

    /// The same project; where `is_offline`, what the store has is to be enough.
    pub fn offline(self, is_offline: bool) -> Self {
        Self { is_offline, ..self }
    }

    /// The same project; its shelf is made from files of the store that are looked at that closely.
    pub fn reading(self, depth: Depth) -> Self {
        Self { depth, ..self }
    }

    /// The same project; what is on its shelf is looked at that closely before it stays.
    pub fn looking(self, look: Look) -> Self {
        Self { look, ..self }
    }

    /// The same project; where `absolute`, its links give paths from the root of the disk.
    pub fn absolute(self, absolute: bool) -> Self {
        Self { absolute, ..self }
    }

    /// How this project's registries and sources are asked.
    pub fn network(&self) -> Network {
        let network = network();
        let accept_changed = self.searching.accept_changed.clone();
        Network { offline: self.is_offline(), accept_changed, ..network }
    }

    /// A registry that this project's manifests declare.
    pub fn registry(&self, declaration: &RegistryDeclaration) -> Result<Registry, Failure> {
        Ok(self.connections.open(declaration, &self.root, &self.network())?)
    }

    /// Whether nobody is to be asked over a network.
    pub fn is_offline(&self) -> bool {
        self.is_offline || switches::is_on(switches::OFFLINE)
    }

    fn is_as_on_disk(&self, from: &Path) -> Result<bool, Failure> {
        Ok(self.lock.is_as_on_disk(&self.root)? && self.manifests.are_as_on_disk(from)?)
    }

    pub fn shelf(&self) -> Shelf {
        Shelf::of(&self.root)
    }

    /// The lock, unless there is none or it is faulty, which is then a failure.
    pub fn sound_lock(&self) -> Result<Option<&Lock>, Failure> {
        match &self.lock {
            LockFile::None => Ok(None),
            LockFile::Sound { lock, .. } => Ok(Some(lock)),
            LockFile::Faulty { text, fault } => {
                Err(Failure::in_text(lock::FILE_NAME, text, vec![fault.clone()]))
            }
        }
    }

    /// The lock, for who can't do without.
    pub fn needed_lock(&self) -> Result<&Lock, Failure> {
        self.sound_lock()?.ok_or_else(not_locked)
    }

    /// The packages that resolving should stay with, also from a lock that can't be trusted.
    pub fn locked(&self) -> Cow<'_, [LockedPackage]> {
        match &self.lock {
            LockFile::None => Cow::default(),
            LockFile::Sound { lock, .. } => Cow::from(&lock.packages),
            LockFile::Faulty { text, .. } => Cow::from(lock::salvage(text)),
        }
    }

    /// Whether the lock is made from the manifests as they are.
    pub fn is_locked(&self) -> bool {
        matches!(&self.lock, LockFile::Sound { lock, .. } if lock.inputs == lock::inputs(&self.workspace))
    }

    /// The registries that `workspace` declares, seen from this project.
    pub fn registries(&self, workspace: &Workspace) -> Result<Registries, Failure> {
        self.registries_for(workspace, Freshness::Locked)
    }

    /// The same, with packages looked for anew that come from no registry.
    pub fn registries_for(&self, workspace: &Workspace, freshness: Freshness) -> Result<Registries, Failure> {
        let opened = Registries::open(
            workspace,
            &self.root,
            &self.locked(),
            freshness,
            &self.network(),
            &self.connections,
        );
        let registries = opened.map_err(|error| hints::at_its_place(error, &self.manifests))?;
        *self.opened.lock().unwrap_or_else(PoisonError::into_inner) = Some(registries.again());
        Ok(registries.patient_for(self.searching.effort()))
    }

    /// The lock that `workspace` leads to, staying with what is locked, with warnings about what was chosen.
    pub fn resolve(
        &self,
        workspace: &Workspace,
        registries: &Registries,
    ) -> Result<(Lock, Vec<String>), Failure> {
        self.resolve_problem(&Problem::new(workspace, &self.locked()), workspace, registries)
    }

    /// The lock that a problem of `workspace` leads to, with warnings about what was chosen.
    pub fn resolve_problem(
        &self,
        problem: &Problem,
        workspace: &Workspace,
        registries: &Registries,
    ) -> Result<(Lock, Vec<String>), Failure> {
        let (mut resolution, warnings) = self.choose(problem, workspace, registries)?;
        Ok((self.lock_of(workspace, &mut resolution, registries)?, warnings))
    }

    /// The answer to a problem of `workspace`, with warnings about what was chosen; where there is none, with ways out.
    pub fn choose(
        &self,
        problem: &Problem,
        workspace: &Workspace,
        registries: &Registries,
    ) -> Result<(Resolution, Vec<String>), Failure> {
        if registries.is_empty() && workspace.needs().any(|(_, need)| need.source.is_none()) {
            return Err(no_registry());
        }
        registries.foresee(&needs_of(problem));
        let resolution = match resolve(problem, registries) {
            Ok(resolution) => resolution,
            Err(unresolved) => {
                let conflict = failure::conflict_of(unresolved)?;
                let ways = ways_out(problem, &conflict, registries)?;
                let ways = ways::as_commands(&ways, self, workspace);
                let failure = failure::conflict(&conflict, ways, self.searching.long);
                return Err(failure.because(hints::perhaps_meant(problem, &conflict, registries)?));
            }
        };
        let mut warnings = registries.heeds();
        warnings.extend(warnings::about(problem, workspace, &resolution, &registries.facets()));
        Ok((resolution, warnings))
    }

    /// Whether what was locked of the chosen packages is still what their registries have.
    fn check_chosen(&self, resolution: &Resolution, registries: &Registries) -> Result<(), Failure> {
        // A lock that was edited says nothing of its registries.
        let LockFile::Sound { lock, .. } = &self.lock else { return Ok(()) };
        let before = resolution.packages.iter().filter_map(|chosen| {
            let package = lock.package(&chosen.release.entry.name)?;
            (package.source == chosen.source).then_some(package)
        });
        self.check_locked(before, registries)
    }

    /// Whether locked releases are still what their registries have.
    pub fn check_locked<'l>(
        &self,
        locked: impl Iterator<Item = &'l LockedPackage>,
        registries: &Registries,
    ) -> Result<(), Failure> {
        if registries.are_of_the_past() {
            return Ok(());
        }
        for package in locked.filter(|package| package.source.registry().is_some()) {
            let is_accepted = self.searching.accept_changed.contains(&package.name);
            let listing = if is_accepted { None } else { registries.listing(&package.name)? };
            let listing = listing.filter(|listing| listing.source == package.source);
            if let Some(changed) = listing.and_then(|listing| package.changed_in(&listing.history)) {
                return Err(failure::changed_release(&changed));
            }
        }
        Ok(())
    }

    /// The lock of what was chosen, once it is known which bytes all of it is, and that none of it changed since it was locked.
    pub fn lock_of(
        &self,
        workspace: &Workspace,
        resolution: &mut Resolution,
        registries: &Registries,
    ) -> Result<Lock, Failure> {
        self.check_chosen(resolution, registries)?;
        let problem = Problem::new(workspace, &self.locked());
        if let Some(open) = open_capability(&problem, &workspace.registries, resolution, registries)? {
            return Err(failure::open_capability(&open));
        }
        registries.complete(resolution)?;
        if self.is_held {
            registries.remember();
        }
        Ok(Lock::new(workspace, resolution))
    }

    /// The text of the manifest in a folder, open for editing.
    pub fn editable(&self, folder: &str) -> Result<ManifestText, Failure> {
        let text = self.manifests.in_folder(folder).map_or("", |file| &file.text);
        let opened = ManifestText::open(text);
        opened.map_err(|fault| Failure::in_text(file_name(folder), text, vec![fault]))
    }

    /// The workspace as it is with these texts, which aren't written yet.
    pub fn edited(&self, edits: &Edits) -> Result<Workspace, Failure> {
        self.manifests.edited(edits)?.read()
    }

    pub fn write_manifests(&self, edits: &Edits) -> Result<(), Failure> {
        for (folder, text) in edits {
            write_whole(&self.root.join(folder).join(manifest::FILE_NAME), text.as_bytes())?;
        }
        Ok(())
    }

    pub fn write_lock(&self, lock: &Lock) -> Result<(), Failure> {
        write_whole(&self.root.join(lock::FILE_NAME), lock.to_string().as_bytes())?;
        // What runs that were killed left beside it.
        clear(&left_in(&self.root, |name| name.starts_with(TEMPORARY)))?;
        self.note_lock(lock);
        Ok(())
    }

    /// Sees that the templates for links can tell what a lock leads to, before anything is written.
    pub fn try_templates(&self, lock: &Lock) -> Result<(), Failure> {
        let machine = this_machine();
        let slots = lock.slots(&self.part.scope(&machine)).map_err(StoreError::NotForMachine)?;
        let root = Root { shelf: shelf::NAME, absolute: None };
        let (all, by) = (self.manifests.templates()?, RenderApart::default());
        link_files(lock, &Links::of(lock, &slots, &root), Templates { all: &all, by: &by })?;
        Ok(())
    }

    /// Fetches what a lock needs and the store lacks; nothing of the project is touched.
    pub fn fetch(
        &self,
        lock: &Lock,
        workspace: &Workspace,
        listener: &dyn Listener,
    ) -> Result<Fetched, Failure> {
        let machine = this_machine();
        let slots = lock.slots(&self.part.scope(&machine)).map_err(StoreError::NotForMachine)?;
        Ok(fetch_all(&slots, &open_store()?, &self.archives(workspace), listener)?)
    }

    fn archives<'p>(&'p self, workspace: &'p Workspace) -> Archives<'p> {
        let opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        let opened = opened.as_ref().map(|opened| OnceLock::from(opened.again()));
        Archives { project: self, workspace, opened: opened.unwrap_or_default() }
    }

    /// What has to be done to bring the shelf to what a lock says.
    pub fn plan<'l>(&self, lock: &'l Lock) -> Result<Plan<'l>, Failure> {
        let (shelf, machine, anew) = (self.shelf(), this_machine(), BTreeSet::new());
        let scope = self.part.scope(&machine);
        let (settings, made) = (self.workspace.shelf, Made::from_texts([]));
        let (templates, depth, look) = (Templates::NONE, self.depth, self.look);
        let aim = Aim { lock, scope, settings, templates, anew: &anew, depth, look, made };
        let state = shelf.state()?;
        let plan = Plan::new(&aim, &state, &shelf.contents(lock, &state, look)?);
        Ok(plan.map_err(StoreError::from)?)
    }

    /// Compares every file of the shelf with what the lock's archives hold.
    pub fn verify(&self, lock: &Lock, depth: Depth, listener: &dyn Listener) -> Result<Verified, Failure> {
        let machine = this_machine();
        Ok(verify(lock, &self.part.scope(&machine), &self.shelf(), &open_store()?, depth, listener)?)
    }

    /// Puts what is in the part that is worked on into one file.
    pub fn make_kit(&self, path: &Path, lock: &Lock, listener: &dyn Listener) -> Result<kit::Head, Failure> {
        let archives = self.archives(&self.workspace);
        let card = |package: &LockedPackage, card: &Digest| {
            archives.registries()?.card_text(&package.name, &package.source, card)
        };
        Ok(kit::make(path, lock, &self.load(), &archives, card, listener)?)
    }

    /// What a kit carries of the part that is worked on.
    pub fn load(&self) -> Load<'_> {
        Load { members: &self.part.members, targets: &self.part.targets }
    }

    /// The copies in the store that a lock's packages are put on the shelf from, as far as they are damaged.
    pub fn damaged_in_store(
        &self,
        packages: &[&LockedPackage],
        depth: Depth,
    ) -> Result<Vec<Damaged>, Failure> {
        Ok(damaged_trees(packages, &open_store()?, &self.shelf(), depth)?)
    }

    /// Brings the shelf to what a lock says that was made from a workspace, with these texts of manifests in place of those
    /// before.
    pub fn install(
        &self,
        lock: &Lock,
        workspace: &Workspace,
        edits: &Edits,
        anew: &BTreeSet<PackageName>,
        listener: &dyn Listener,
    ) -> Result<Installed, Failure> {
        let archives = self.archives(workspace);
        let manifests = self.manifests.edited(edits)?;
        let templates = manifests.templates()?;
        let made = made_from(&manifests, &lock.to_string(), &templates, self.absolute);
        let (machine, mut settings) = (this_machine(), workspace.shelf);
        settings.absolute |= self.absolute;
        let scope = self.part.scope(&machine);
        let templates = Templates { all: &templates, by: &RenderApart::default() };
        let (depth, look) = (self.depth, self.look);
        let aim = Aim { lock, scope, settings, templates, anew, depth, look, made };
        Ok(install(&aim, &self.shelf(), &open_store()?, &archives, listener)?)
    }
}

/// The shelf of the project that `from` lies in with what is on it, if it needs nothing; known from the texts that it
/// was made from and such a look at each package, without reading what any of the texts says.
pub fn standing(from: &Path, absolute: bool, look: Look) -> Result<Option<(Shelf, Stands)>, Failure> {
    // What is wrong with them is told by whoever reads them.
    let Ok(manifests) = Manifests::find(from) else { return Ok(None) };
    let lock = read_text(&manifests.root.join(lock::FILE_NAME), lockfile::LARGEST);
    let Ok(Some(lock)) = lock else { return Ok(None) };
    let made = made_from(&manifests, &lock, &manifests.templates()?, absolute);
    let shelf = Shelf::of(&manifests.root);
    Ok(shelf.stands(made, look)?.map(|stands| (shelf, stands)))
}

/// All that a whole shelf is made from.
fn made_from(manifests: &Manifests, lock: &str, templates: &[Template], absolute: bool) -> Made {
    let machine = [env!("CARGO_PKG_VERSION"), std::env::consts::OS, std::env::consts::ARCH];
    let cards = manifests.files.iter().flat_map(|file| &file.cards);
    let cards = cards.flat_map(|card| [card.path.as_str(), &card.text]);
    let manifests = manifests.files.iter().flat_map(|file| [file.folder.as_str(), &file.text]).chain(cards);
    let templates = templates.iter().flat_map(|template| {
        let Template { folder, name, text } = template;
        [folder.as_str(), name, text]
    });
    let paths = if absolute { "absolute" } else { "" };
    let texts = [lock, paths].into_iter().chain(machine).chain(manifests).chain(templates);
    Made::from_texts(texts.map(str::as_bytes))
}

/// What a problem asks for, and what was chosen for it before.
pub fn needs_of(problem: &Problem) -> Vec<(PackageName, Range)> {
    let direct = problem.needs.iter().map(|need| (need.package.clone(), need.range.clone()));
    let locked = problem.locked.iter().map(|(name, version)| (name.clone(), Range::exactly(version)));
    direct.chain(locked).collect()
}

fn not_locked() -> Failure {
    Failure::new("lock.missing", format!("there is no {} yet", lock::FILE_NAME))
        .mend("`bibliotax install` makes it, and the shelf with it")
}

pub fn no_registry() -> Failure {
    Failure::new("registry.none", "the manifest declares no registry to look packages up in")
        .mend("write one under `[registries]`: `seedhouse = \"../registry\"`")
}

/// The target of this name, which has to be among those that are declared.
pub fn declared_target(targets: &[Target], target: &str) -> Result<TargetName, Failure> {
    let declared: Vec<&str> = targets.iter().map(|target| target.name.as_str()).collect();
    if let Some(name) = target.parse().ok().filter(|_| declared.contains(&target)) {
        return Ok(name);
    }
    let failure = Failure::new("install.target", format!("the manifest declares no target `{target}`"));
    Err(failure.suggest(target, &declared, "it declares none at all; leave out `--target`"))
}
