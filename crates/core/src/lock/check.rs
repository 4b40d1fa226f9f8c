//! Checks a lock against what it is made from: the manifests, and the card of each of its releases.
//!
//! The digest of a lock can be worked out by anybody, so it says nothing of who wrote the lock. What may stand in it follows from the
//! manifests (which projects, targets and sources there are, and what is reached from them) and from the cards, which have digests.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::{Lock, LockedFile, LockedPackage, LockedProject, NeedGraph, by_spot, registries_of};
use crate::card::{CardNeed, Entry};
use crate::charter::CharterBounds;
use crate::facet::Facets;
use crate::file_selection::SelectsFiles;
use crate::manifest::{DeclaredSource, GitPoint, Need, RegistryDeclaration};
use crate::name::PackageName;
use crate::resolve::Listing;
use crate::source::Source;
use crate::workspace::{DirectSources, Workspace};

/// Something in a lock that is not what it is made from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mismatch {
    /// Which line it is in.
    pub line: Line,
    /// What is wrong with it, one sentence without a full stop.
    pub what: String,
}

/// A line of a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Line {
    /// The one that says where registries are.
    Registries,
    /// A charter's.
    Charter(PackageName),
    /// A project's.
    Project(PackageName),
    /// A package's.
    Package(PackageName),
}

/// A lock with all that is looked up to hold it against something.
pub struct Held<'l> {
    lock: &'l Lock,
    workspace: &'l Workspace,
    wires: NeedGraph<'l>,
    /// What is in folders.
    listings: BTreeMap<PackageName, Listing>,
    /// What charters allow.
    bounds: Arc<[CharterBounds]>,
}

impl<'l> Held<'l> {
    /// A lock that claims to be made from a workspace.
    pub fn new(lock: &'l Lock, workspace: &'l Workspace) -> Self {
        let (wires, listings, bounds) =
            (NeedGraph::of(lock), workspace.listings(), workspace.charter_bounds());
        Self { lock, workspace, wires, listings, bounds }
    }

    /// What of the lock can't follow from the manifests, for any content of registries.
    pub fn against_manifests(&self) -> Option<Mismatch> {
        let of_registries = || {
            let expected = registries_of(self.workspace, &self.lock.packages, &self.lock.charters);
            let what = "the manifests declare other registries".to_owned();
            (self.lock.registries != expected).then_some(Mismatch { line: Line::Registries, what })
        };
        let of_packages = || {
            self.lock.packages.iter().find_map(|package| {
                let what = self.wrong_source(package).or_else(|| self.in_folder(package));
                let what = what.or_else(|| self.outside_of_charters(package))?;
                Some(Mismatch { line: Line::Package(package.name.clone()), what })
            })
        };
        self.wrong_charter()
            .or_else(|| self.wrong_project())
            .or_else(of_registries)
            .or_else(of_packages)
            .or_else(|| self.unreached())
    }

    /// A charter that the manifests don't take on like this, or one that they take on and that isn't there.
    fn wrong_charter(&self) -> Option<Mismatch> {
        let mismatch =
            |name: &PackageName, what: String| Mismatch { line: Line::Charter(name.clone()), what };
        let wrong = self.lock.charters.iter().find_map(|charter| {
            let name = &charter.name;
            let Some(declared) = self.workspace.declared_charter(name) else {
                return Some(mismatch(name, format!("the manifest doesn't take on the charter {name}")));
            };
            if !declared.accepts(&charter.version) {
                return Some(mismatch(
                    name,
                    format!("{} isn't in the range {}", charter.release(), declared.range),
                ));
            }
            let mut possible = candidates(self.workspace, name).into_iter();
            let is_possible = possible.any(|registry| registry.name == charter.source);
            (!is_possible).then(|| mismatch(name, format!("{name} can't come from {}", charter.source)))
        });
        wrong.or_else(|| {
            let mut declared = self.workspace.charters.iter();
            let lacking = declared.find(|declared| self.lock.charter(&declared.name).is_none())?;
            Some(mismatch(&lacking.name, format!("the charter {} isn't in it", lacking.name)))
        })
    }

    /// Why charters don't allow a release of a package.
    fn outside_of_charters(&self, package: &LockedPackage) -> Option<String> {
        let is_bound = !package.stood_in && package.source.path().is_none();
        let outside = |bounds: &CharterBounds| {
            let range =
                bounds.ranges.get(&package.name).filter(|_| !bounds.except.contains(&package.name))?;
            let is_outside = !range.set(true).contains(package.version.point());
            is_outside.then(|| {
                format!(
                    "the charter {} allows {} {range}, not {}",
                    bounds.release, package.name, package.version
                )
            })
        };
        self.bounds.iter().filter(|_| is_bound).find_map(outside)
    }

    fn wrong_project(&self) -> Option<Mismatch> {
        let expected: Vec<LockedProject> = self
            .workspace
            .projects
            .iter()
            .map(|project| LockedProject::new(self.workspace, project))
            .collect();
        let mismatch =
            |name: &PackageName, what: String| Mismatch { line: Line::Project(name.clone()), what };
        if let Some(project) = self.lock.projects.iter().find(|project| !expected.contains(project)) {
            return Some(mismatch(&project.name, format!("the manifest of {} differs", project.name)));
        }
        if let Some(project) = expected.iter().find(|project| !self.lock.projects.contains(project)) {
            return Some(mismatch(&project.name, format!("{} isn't in it", project.name)));
        }
        self.workspace.needs().find_map(|(project, need)| {
            let what = self.wrong_answer(need)?;
            Some(mismatch(project.name(), what))
        })
    }

    /// Why what answers a need of a manifest doesn't do.
    fn wrong_answer(&self, need: &Need) -> Option<String> {
        if need.targets.as_ref().is_some_and(Vec::is_empty) {
            return None;
        }
        let Some(at) = self.wires.answering(&need.package) else {
            return Some(format!("nothing in it answers the need on {}", need.package));
        };
        let package = &self.lock.packages[at];
        let is_held = package.name == need.package && package.source.registry().is_some();
        let accepts = need.range.set(need.prereleases).contains(package.version.point());
        (is_held && !accepts)
            .then(|| format!("{} {} isn't in the range {}", package.name, package.version, need.range))
    }

    /// Why a package can't come from where the lock says.
    fn wrong_source(&self, package: &LockedPackage) -> Option<String> {
        let no = || Some(format!("{} can't come from {}", package.name, package.source));
        let (is_possible, is_stand_in) = if let Some(listing) = self.listings.get(&package.name) {
            (package.source == listing.source, listing.is_stand_in)
        } else if let Some(declared) = self.workspace.elsewhere.get(&package.name) {
            (is_as_declared(package, declared), declared.is_stand_in)
        } else {
            let registry = package.source.registry();
            let possible = candidates(self.workspace, &package.name);
            (registry.is_some_and(|name| possible.iter().any(|declared| declared.name == *name)), false)
        };
        if !is_possible {
            return no();
        }
        if package.stood_in != is_stand_in {
            return Some(format!("the manifests and the lock differ about a stand-in for {}", package.name));
        }
        let has_card = package.source.registry().is_some();
        let is_elsewhere = |file: &LockedFile| file.url.is_some();
        if package.card.is_some() != has_card || !has_card && package.files.iter().any(is_elsewhere) {
            return Some(format!("{} has a card or a file that its source can't have", package.name));
        }
        None
    }

    /// What of a package that is in a folder isn't what that says.
    fn in_folder(&self, package: &LockedPackage) -> Option<String> {
        let listing = self.listings.get(&package.name)?;
        match listing.history.release(&package.version) {
            Some(release) => self.against_entry(package, &release.entry, None),
            None => Some(format!("{} has another version there than {}", package.name, package.version)),
        }
    }

    /// A package that no project needs on a target that it is said to be for.
    fn unreached(&self) -> Option<Mismatch> {
        let projects: Vec<&LockedProject> = self.lock.projects.iter().collect();
        let mut reached: BTreeSet<(usize, Option<&str>)> = BTreeSet::new();
        for (spot, projects) in by_spot(&projects) {
            let on_spot = self.wires.reached_on(spot, &projects, &[]);
            reached.extend(on_spot.into_keys().map(|at| (at, spot)));
        }
        self.lock.packages.iter().enumerate().find_map(|(at, package)| {
            let spot = package.spots().find(|spot| !reached.contains(&(at, *spot)))?;
            let on = spot.map(|target| format!(" on {target}")).unwrap_or_default();
            let what = format!("nothing needs {}{on}", package.name);
            Some(Mismatch { line: Line::Package(package.name.clone()), what })
        })
    }

    /// What of a package isn't what its card says; which file a target takes is only looked at where all facets are known.
    pub fn against_entry(
        &self,
        package: &LockedPackage,
        entry: &Entry,
        facets: Option<&Facets>,
    ) -> Option<String> {
        let name = &package.name;
        let said = |what: &str| Some(format!("{name} {} differs from its card: {what}", package.version));
        if *name != entry.name || package.version.as_str() != entry.version.as_str() {
            return said("another name or version");
        }
        if package.card.is_some_and(|card| card != entry.card) {
            return said("another digest");
        }
        if package.license != entry.license {
            return said("another licence");
        }
        if package.exposes != entry.exposes {
            return said("other exposed paths");
        }
        if package.components.iter().any(|component| !entry.components.contains_key(component)) {
            return said("no such component");
        }
        if package.steps.iter().any(|step| !entry.steps.contains(&step.step)) {
            return said("other steps");
        }
        if package.provides.iter().any(|capability| entry.provided(capability).is_none()) {
            return said("no such capability");
        }
        let is_of_registry = package.source.registry().is_some();
        if is_of_registry && package.files.iter().any(|file| !entry.files.iter().any(|of| file.is_of(of))) {
            return said("other archives");
        }
        if is_of_registry
            && let Some(file) = facets.and_then(|facets| self.wrong_variant(package, entry, facets))
        {
            return Some(format!(
                "{name} {} has another file of the part {} for a target",
                package.version, file.part
            ));
        }
        self.wrong_need(package, entry)
    }

    /// A file that a target doesn't take.
    fn wrong_variant<'p>(
        &self,
        package: &'p LockedPackage,
        entry: &Entry,
        facets: &Facets,
    ) -> Option<&'p LockedFile> {
        let is_wrong = |file: &&LockedFile| {
            let targets = self.workspace.targets.iter().filter(|target| package.is_on(&target.name));
            let mut taking = targets.filter(|target| file.is_for(&target.name));
            taking.any(|target| {
                !facets.variant(&entry.files, &file.part, target).is_some_and(|of| file.is_of(of))
            })
        };
        package.files.iter().find(is_wrong)
    }

    /// Why the needs of a package aren't those of its card.
    fn wrong_need(&self, package: &LockedPackage, entry: &Entry) -> Option<String> {
        let (name, version) = (&package.name, &package.version);
        let answering = |need: &CardNeed| self.wires.answering(&need.name).map(|at| &self.lock.packages[at]);
        let all: Vec<(&CardNeed, Option<&LockedPackage>)> =
            entry.all_running_needs().map(|need| (need, answering(need))).collect();
        let is_answered = |needed: &PackageName| {
            all.iter().any(|(need, answer)| {
                answer.is_some_and(|answer| answer.name == *needed && does(need, answer))
            })
        };
        if let Some(needed) = package.needs.iter().find(|needed| !is_answered(needed)) {
            return Some(format!("{name} {version} doesn't need the {needed} that is in it"));
        }
        let is_left_out = |needed: &PackageName| {
            let mut needs = self.workspace.needs().map(|(_, need)| need);
            needs.any(|need| need.package == *name && need.without.contains(needed))
        };
        let is_known = |needed: &PackageName| all.iter().any(|(need, _)| need.name == *needed);
        if let Some(needed) = package.left_out.iter().find(|needed| !is_left_out(needed) || !is_known(needed))
        {
            return Some(format!("no manifest leaves {needed} out of {name}"));
        }
        let of_components = package.components.iter().filter_map(|component| entry.components.get(component));
        let of_components = of_components.flat_map(|component| &component.needs);
        let always = entry.running_needs().chain(of_components).filter(|need| {
            need.purpose.is_none() && need.when.is_empty() && !package.left_out.contains(&need.name)
        });
        let is_there =
            |need: &&CardNeed| answering(need).is_some_and(|answer| package.needs.contains(&answer.name));
        let mut lacking = always.filter(|need| !is_there(need));
        lacking.next().map(|need| format!("{name} {version} needs {}, which the lock leaves out", need.name))
    }
}

/// Whether a package does for a need that it answers: of a capability, its provider says in which version.
fn does(need: &CardNeed, answer: &LockedPackage) -> bool {
    let is_capability = answer.name != need.name;
    is_capability
        || answer.source.registry().is_none()
        || need.range.set(need.prereleases).contains(answer.version.point())
}

/// Whether a package from no registry is what a manifest declares.
fn is_as_declared(package: &LockedPackage, declared: &DirectSources) -> bool {
    match (&package.source, &declared.source) {
        (Source::Git(source), DeclaredSource::Git(git)) => {
            let is_at = match &git.at {
                GitPoint::Tag(name) => source.at.as_deref() == Some(&format!("tag {name}")),
                GitPoint::Branch(name) => source.at.as_deref() == Some(&format!("branch {name}")),
                GitPoint::Commit(commit) => source.at.is_none() && source.commit == *commit,
                GitPoint::Releases(_) => source.at.as_ref().is_some_and(|at| at.starts_with("tag ")),
            };
            let takes_these = |file: &LockedFile| file.selection() == git.selection;
            let is_of = (&source.git, &source.subfolder) == (&git.url, &git.subfolder);
            is_of && is_at && package.files.iter().all(takes_these)
        }
        (Source::Archive(source), DeclaredSource::Archive(archive)) => {
            let is_its = |file: &LockedFile| {
                (file.sha256, &file.strip) == (archive.sha256, &archive.strip)
                    && file.selection() == archive.selection
            };
            source.archive == archive.url && package.files.iter().all(is_its)
        }
        _ => false,
    }
}

/// The registries that a package may come from by what manifests say: the one that its need names, else those that own it, else all.
pub fn candidates<'w>(workspace: &'w Workspace, package: &PackageName) -> Vec<&'w RegistryDeclaration> {
    let mut needs = workspace.needs().filter(|(_, need)| need.package == *package);
    let declared = &workspace.registries;
    if let Some(named) = needs.find_map(|(_, need)| need.registry.as_ref()) {
        return declared.iter().filter(|registry| registry.name == *named).collect();
    }
    let owns = |registry: &&RegistryDeclaration| registry.owns.iter().any(|owned| owned.matches(package));
    let owners: Vec<&RegistryDeclaration> = declared.iter().filter(owns).collect();
    if owners.is_empty() { declared.iter().collect() } else { owners }
}
