//! A project's folder: its manifest, lock, shelf and registries, found from anywhere inside it.

mod archives;
mod person;
mod warnings;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, OnceLock, PoisonError};

use bibliotax_core::fault::Fault;
use bibliotax_core::links::Links;
use bibliotax_core::lock::{self, Lock, LockFault, LockedPackage};
use bibliotax_core::manifest::{self, Manifest, ManifestText};
use bibliotax_core::name::PackageName;
use bibliotax_core::notice::Listener;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem, resolve, ways_out};
use bibliotax_disk::DiskError;
use bibliotax_disk::lock::Held;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::write_whole;
use bibliotax_registry::registries::Registries;
use bibliotax_registry::remote::Network;
use bibliotax_store::StoreError;
use bibliotax_store::install::{Fetched, Installed, fetch_all, install};
use bibliotax_store::kit;
use bibliotax_store::shelf::{self, Aim, Made, Plan, Scope, Shelf, Template, link_files};
use bibliotax_store::verify::{Damaged, Depth, Verified, damaged_trees, verify};

use crate::commands::searching::Searching;
use crate::failure::{self, Failure};
use crate::machine::this_machine;
use crate::show::ways;

use self::archives::Archives;
pub use self::person::{network, open_store, registries_folder, token_variable};
pub use self::warnings::warnings_about;

/// Largest lock that is read, in bytes.
const LARGEST_LOCK: usize = 512 << 20;

/// A project as its files say.
pub struct Project {
    pub root: PathBuf,
    pub text: String,
    pub manifest: Manifest,
    pub lock: LockFile,
    /// How problems of this project are searched.
    pub searching: Searching,
    /// The targets whose part of the shelf is worked on; empty for all.
    targets: Vec<String>,
    /// The registries that were opened last, for who fetches from them after they were asked.
    opened: Mutex<Option<Registries>>,
    /// Whether nobody is to be asked over a network.
    is_offline: bool,
    /// Whether links give paths from the root of the disk, whatever the manifest says.
    absolute: bool,
}

/// The lock as it is on disk.
pub enum LockFile {
    /// There is none.
    None,
    /// One that can be trusted.
    Sound { lock: Lock, text: String },
    /// One that can't; what can be read of it, and why it can't be trusted.
    Faulty { text: String, fault: Fault },
}

impl Project {
    /// The project that `from` lies in.
    pub fn find(from: &Path) -> Result<Self, Failure> {
        let project = Self::without_lock(from)?;
        let lock = read_lock(&project.root.join(lock::FILE_NAME))?;
        Ok(Self { lock, ..project })
    }

    /// The project that `from` lies in, for who doesn't care what is locked.
    pub fn without_lock(from: &Path) -> Result<Self, Failure> {
        let root = needed_root(from)?.to_owned();
        let text = read_manifest(&root.join(manifest::FILE_NAME))?;
        let manifest = Manifest::read(&text);
        let manifest = manifest.map_err(|faults| Failure::in_text(manifest::FILE_NAME, &text, faults))?;
        let lock = LockFile::None;
        let (searching, targets, opened) = (Searching::default(), Vec::new(), Mutex::default());
        let (is_offline, absolute) = (false, false);
        Ok(Self { root, text, manifest, lock, searching, targets, opened, is_offline, absolute })
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
        let project = if found.is_as_on_disk()? { found } else { Self::find(from)? };
        Ok((project, held))
    }

    /// The same project, searched as was asked.
    pub fn searching(self, searching: Searching) -> Self {
        Self { searching, ..self }
    }

    /// The same project, whose shelf is worked on for these targets only; for all where none are named.
    pub fn only_for(self, targets: &[String]) -> Result<Self, Failure> {
        targets.iter().try_for_each(|target| check_target(&self.manifest, target))?;
        Ok(Self { targets: targets.to_vec(), ..self })
    }

    /// The same project; where `is_offline`, what the store has is to be enough.
    pub fn offline(self, is_offline: bool) -> Self {
        Self { is_offline, ..self }
    }

    /// The same project; where `absolute`, its links give paths from the root of the disk.
    pub fn absolute(self, absolute: bool) -> Self {
        Self { absolute, ..self }
    }

    fn network(&self) -> Network {
        let network = network();
        Network { offline: network.offline || self.is_offline, ..network }
    }

    fn is_as_on_disk(&self) -> Result<bool, Failure> {
        let lock = read_text(&self.root.join(lock::FILE_NAME), LARGEST_LOCK)?;
        let lock_is_same = match (&self.lock, &lock) {
            (LockFile::None, None) => true,
            (LockFile::Sound { text, .. } | LockFile::Faulty { text, .. }, Some(now)) => text == now,
            _ => false,
        };
        Ok(lock_is_same && read_manifest(&self.root.join(manifest::FILE_NAME))? == self.text)
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
    pub fn locked(&self) -> Vec<LockedPackage> {
        match &self.lock {
            LockFile::None => Vec::new(),
            LockFile::Sound { lock, .. } => lock.packages.clone(),
            LockFile::Faulty { text, .. } => lock::salvage(text),
        }
    }

    /// Whether the lock is made from the manifest as it is.
    pub fn is_locked(&self) -> bool {
        matches!(&self.lock, LockFile::Sound { lock, .. } if lock.inputs == lock::inputs(&self.manifest))
    }

    /// The registries that `manifest` declares, seen from this project.
    pub fn registries(&self, manifest: &Manifest) -> Result<Registries, Failure> {
        let registries = Registries::open(manifest, &self.root, &self.locked(), &self.network())?;
        *self.opened.lock().unwrap_or_else(PoisonError::into_inner) = Some(registries.again());
        Ok(registries.patient_for(self.searching.effort()))
    }

    /// The lock that `manifest` leads to, staying with what is locked, with warnings about what was chosen.
    pub fn resolve(
        &self,
        manifest: &Manifest,
        registries: &Registries,
    ) -> Result<(Lock, Vec<String>), Failure> {
        self.resolve_problem(&Problem::new(manifest, &self.locked()), manifest, registries)
    }

    /// The lock that a problem of `manifest` leads to; where there is none, with ways out.
    pub fn resolve_problem(
        &self,
        problem: &Problem,
        manifest: &Manifest,
        registries: &Registries,
    ) -> Result<(Lock, Vec<String>), Failure> {
        if registries.is_empty() && !manifest.needs.is_empty() {
            return Err(no_registry());
        }
        registries.foresee(&needs_of(problem));
        let resolution = match resolve(problem, registries) {
            Ok(resolution) => resolution,
            Err(unresolved) => {
                let conflict = failure::conflict_of(unresolved)?;
                let ways = ways_out(problem, &conflict, registries)?;
                let ways = ways::as_commands(&ways, &self.manifest, manifest);
                return Err(failure::conflict(&conflict, ways, self.searching.full));
            }
        };
        let mut warnings = registries.heeds();
        warnings.extend(warnings::about(problem, manifest, &resolution, &registries.facets()));
        Ok((Lock::new(manifest, &resolution), warnings))
    }

    /// The manifest's text, open for editing.
    pub fn editable(&self) -> Result<ManifestText, Failure> {
        let opened = ManifestText::open(&self.text);
        opened.map_err(|fault| Failure::in_text(manifest::FILE_NAME, &self.text, vec![fault]))
    }

    pub fn write_manifest(&self, text: &str) -> Result<(), Failure> {
        Ok(write_whole(&self.root.join(manifest::FILE_NAME), text.as_bytes())?)
    }

    pub fn write_lock(&self, lock: &Lock) -> Result<(), Failure> {
        Ok(write_whole(&self.root.join(lock::FILE_NAME), lock.to_string().as_bytes())?)
    }

    /// Sees that the templates for links can tell what a lock leads to, before anything is written.
    pub fn try_templates(&self, lock: &Lock) -> Result<(), Failure> {
        let slots = lock.slots(&self.targets, &this_machine()).map_err(StoreError::NotForMachine)?;
        link_files(&Links::of(lock, &slots, shelf::NAME), &Template::all_of(&self.root)?)?;
        Ok(())
    }

    /// Fetches what a lock needs and the store lacks; nothing of the project is touched.
    pub fn fetch(
        &self,
        lock: &Lock,
        manifest: &Manifest,
        listener: &dyn Listener,
    ) -> Result<Fetched, Failure> {
        let slots = lock.slots(&self.targets, &this_machine()).map_err(StoreError::NotForMachine)?;
        Ok(fetch_all(&slots, &open_store()?, &self.archives(manifest), listener)?)
    }

    fn archives<'p>(&'p self, manifest: &'p Manifest) -> Archives<'p> {
        let opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        let opened = opened.as_ref().map(|opened| OnceLock::from(opened.again()));
        Archives { project: self, manifest, opened: opened.unwrap_or_default() }
    }

    /// What has to be done to bring the shelf to what a lock says.
    pub fn plan<'l>(&self, lock: &'l Lock) -> Result<Plan<'l>, Failure> {
        let (shelf, machine, anew) = (self.shelf(), this_machine(), BTreeSet::new());
        let scope = Scope { targets: &self.targets, machine: &machine };
        let (settings, made) = (self.manifest.shelf, Made::from_texts([]));
        let aim = Aim { lock, scope, settings, templates: &[], anew: &anew, made };
        let plan = Plan::new(&aim, &shelf.state(), &shelf.contents(lock)?);
        Ok(plan.map_err(StoreError::NotForMachine)?)
    }

    /// Compares every file of the shelf with what the lock's archives hold.
    pub fn verify(&self, lock: &Lock, depth: Depth, listener: &dyn Listener) -> Result<Verified, Failure> {
        let scope = Scope { targets: &self.targets, machine: &this_machine() };
        Ok(verify(lock, &scope, &self.shelf(), &open_store()?, depth, listener)?)
    }

    /// Puts what a lock needs for these targets into one file.
    pub fn make_kit(
        &self,
        path: &Path,
        lock: &Lock,
        targets: &[String],
        listener: &dyn Listener,
    ) -> Result<kit::Head, Failure> {
        let archives = self.archives(&self.manifest);
        let card = |package: &LockedPackage| {
            archives.registries()?.card_text(&package.name, &package.source, &package.card)
        };
        Ok(kit::make(path, lock, targets, &archives, card, listener)?)
    }

    /// The copies in the store that a lock's packages are put on the shelf from, as far as they are damaged.
    pub fn damaged_in_store(&self, lock: &Lock, depth: Depth) -> Result<Vec<Damaged>, Failure> {
        Ok(damaged_trees(&lock.packages.iter().collect::<Vec<_>>(), &open_store()?, depth)?)
    }

    /// Brings the shelf to what a lock says that was made from a manifest of this text.
    pub fn install(
        &self,
        lock: &Lock,
        manifest: &Manifest,
        text: &str,
        anew: &BTreeSet<PackageName>,
        listener: &dyn Listener,
    ) -> Result<Installed, Failure> {
        let archives = self.archives(manifest);
        let templates = Template::all_of(&self.root)?;
        let made = made_from(text, &lock.to_string(), &templates, self.absolute);
        let (machine, mut settings) = (this_machine(), manifest.shelf);
        settings.absolute |= self.absolute;
        let scope = Scope { targets: &self.targets, machine: &machine };
        let aim = Aim { lock, scope, settings, templates: &templates, anew, made };
        Ok(install(&aim, &self.shelf(), &open_store()?, &archives, listener)?)
    }
}

/// How many packages are on the shelf of the project that `from` lies in, if it needs nothing; known from the texts that it
/// was made from and a look at each package's folder, without reading what any of them says.
pub fn standing(from: &Path, absolute: bool) -> Result<Option<usize>, Failure> {
    let Some(root) = root_of(from) else { return Ok(None) };
    let text = |name| read_text(&root.join(name), LARGEST_LOCK);
    let (Ok(Some(manifest)), Ok(Some(lock))) = (text(manifest::FILE_NAME), text(lock::FILE_NAME)) else {
        return Ok(None);
    };
    let made = made_from(&manifest, &lock, &Template::all_of(root)?, absolute);
    Ok(Shelf::of(root).stands(made)?)
}

/// All that a whole shelf is made from.
fn made_from(manifest: &str, lock: &str, templates: &[Template], absolute: bool) -> Made {
    let machine = [env!("CARGO_PKG_VERSION"), std::env::consts::OS, std::env::consts::ARCH];
    let templates = templates.iter().flat_map(|template| [template.name.as_str(), &template.text]);
    let paths = if absolute { "absolute" } else { "" };
    let texts = [manifest, lock, paths].into_iter().chain(machine).chain(templates);
    Made::from_texts(texts.map(str::as_bytes))
}

fn root_of(from: &Path) -> Option<&Path> {
    from.ancestors().find(|folder| folder.join(manifest::FILE_NAME).is_file())
}

/// What a problem asks for, and what was chosen for it before.
fn needs_of(problem: &Problem) -> Vec<(PackageName, Range)> {
    let direct = problem.needs.iter().map(|need| (need.package.clone(), need.range.clone()));
    let locked = problem.locked.iter().map(|(name, version)| (name.clone(), Range::exactly(version)));
    direct.chain(locked).collect()
}

/// What a manifest says that was edited and not yet written.
pub fn read_edited(text: &str) -> Result<Manifest, Failure> {
    Manifest::read(text).map_err(|faults| Failure::in_text("the edited manifest", text, faults))
}

fn read_manifest(path: &Path) -> Result<String, Failure> {
    let unreadable = |error: DiskError| match error.source.kind() {
        std::io::ErrorKind::InvalidData => {
            let message = format!("{} is no manifest: {}", manifest::FILE_NAME, error.source);
            Failure::new("manifest.unreadable", message)
                .mend("a manifest is a short text; see `bibliotax init`")
        }
        _ => error.into(),
    };
    Ok(read_text(path, manifest::LARGEST).map_err(unreadable)?.unwrap_or_default())
}

fn read_lock(path: &Path) -> Result<LockFile, Failure> {
    let Some(text) = read_text(path, LARGEST_LOCK)? else { return Ok(LockFile::None) };
    match Lock::read(&text) {
        Ok(lock) => Ok(LockFile::Sound { lock, text }),
        Err(LockFault { fault, replaceable: true }) => Ok(LockFile::Faulty { text, fault }),
        Err(LockFault { fault, replaceable: false }) => {
            Err(Failure::in_text(lock::FILE_NAME, &text, vec![fault]))
        }
    }
}

fn not_locked() -> Failure {
    Failure::new("lock.missing", format!("there is no {} yet", lock::FILE_NAME))
        .mend("`bibliotax install` makes it, and the shelf with it")
}

/// The folder of the project that `from` lies in, for who can't do without.
pub fn needed_root(from: &Path) -> Result<&Path, Failure> {
    root_of(from).ok_or_else(|| no_manifest(from))
}

fn no_manifest(from: &Path) -> Failure {
    let name = manifest::FILE_NAME;
    let failure = Failure::new("manifest.missing", format!("there is no {name} here or in a folder above"));
    let saved_as_text = from.ancestors().find(|folder| folder.join(format!("{name}.txt")).is_file());
    if saved_as_text.is_some() {
        return failure
            .mend(format!("there is a {name}.txt: an editor added the ending; rename it to {name}"));
    }
    let mut below: Vec<String> = std::fs::read_dir(from)
        .into_iter()
        .flatten()
        .flatten()
        .filter(|entry| entry.path().join(name).is_file())
        .map(|entry| entry.file_name().to_string_lossy().into_owned())
        .collect();
    below.sort();
    match below.as_slice() {
        [] => failure.mend("`bibliotax init` begins a project here"),
        [one] => failure.mend(format!("there is one in `{one}`: go there, or say `--directory {one}`")),
        [first, ..] => failure.mend(format!(
            "there are some below, in {}: go there, or say `--directory {first}`",
            below.join(", ")
        )),
    }
}

pub fn no_registry() -> Failure {
    Failure::new("registry.none", "the manifest declares no registry to look packages up in")
        .mend("write one under `[registries]`: `seedhouse = \"../registry\"`")
}

/// Whether a manifest declares a target.
pub fn check_target(manifest: &Manifest, target: &str) -> Result<(), Failure> {
    let declared: Vec<&str> = manifest.targets.iter().map(|target| target.name.as_str()).collect();
    if declared.contains(&target) {
        return Ok(());
    }
    let failure = Failure::new("install.target", format!("the manifest declares no target `{target}`"));
    Err(failure.suggest(target, &declared, "it declares none at all; leave out `--target`"))
}
