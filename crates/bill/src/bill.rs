//! What of a lock goes into a product.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::card::Card;
use bibliotax_core::digest::Digest;
use bibliotax_core::license::{FoundText, License, TextProblem, text_problems};
use bibliotax_core::lock::{Lock, LockedFile, LockedPackage, LockedProject, NeedGraph, RUN, Reached, Scope};
use bibliotax_core::name::PackageName;
use bibliotax_core::package_url::PackageUrl;
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use jiff::Timestamp;

/// A bill of materials: the projects that make up a product, and the packages that go into it.
#[derive(Debug, Clone)]
pub struct Bill {
    /// What the product is called: its project, or all of them.
    pub name: String,
    /// The projects, in the lock's order.
    pub projects: Vec<BillProject>,
    /// The packages, by name.
    pub components: Vec<BillComponent>,
    /// What names this bill among all: of the lock, and of what of it was chosen.
    pub identity: Digest,
    /// The time that somebody gave.
    pub time: Option<Timestamp>,
    /// The version of the program that makes it.
    pub tool_version: &'static str,
}

/// A project of a product.
#[derive(Debug, Clone)]
pub struct BillProject {
    /// Its name.
    pub name: PackageName,
    /// Its version, where it has one.
    pub version: Option<Version>,
    /// Its licence.
    pub license: Option<License>,
    /// What it needs: the projects and packages, each with what for.
    pub needs: Vec<BillNeed>,
}

/// A package of a product.
#[derive(Debug, Clone)]
pub struct BillComponent {
    /// The package, as it is locked.
    pub package: LockedPackage,
    /// Where its registry is, as a URL; `None` of other sources and of folders.
    pub registry: Option<String>,
    /// What its card says, where it has one.
    pub card: Option<Card>,
    /// What it needs.
    pub needs: Vec<BillNeed>,
    /// Whether the product needs it to run.
    pub is_needed_to_run: bool,
    /// The files in it, by their paths, where they are asked for.
    pub files: Vec<String>,
    /// The licence texts in it, where they are asked for.
    pub license_texts: Vec<LicenseText>,
}

/// What a text of a package is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum TextKind {
    /// It is the text of a licence.
    License,
    /// It has notices that go with the package.
    Notice,
    /// It names authors.
    Authors,
}

/// A text that goes with a package: of a licence, or with notices and authors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LicenseText {
    /// What it is for.
    pub kind: TextKind,
    /// The file that it is in.
    pub path: String,
    /// The text.
    pub text: String,
    /// The identifiers in SPDX's list of the licences that it is like; none where it is like none.
    pub ids: Vec<String>,
}

/// That something is needed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct BillNeed {
    /// What.
    pub of: BillRef,
    /// What for, beside running.
    pub purpose: Option<String>,
}

/// When in a product's life something is needed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Phase {
    /// To build it.
    Build,
    /// To work on it.
    Development,
    /// To run it.
    Run,
    /// To test it.
    Test,
}

impl BillNeed {
    /// When it is needed: purposes that formats have no word for are those of people who work on the product.
    pub fn phase(&self) -> Phase {
        match self.purpose.as_deref() {
            None => Phase::Run,
            Some("test") => Phase::Test,
            Some("build") => Phase::Build,
            Some(_) => Phase::Development,
        }
    }
}

/// A project or a package of a bill, by its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum BillRef {
    /// A project.
    Project(usize),
    /// A package.
    Component(usize),
}

/// What a bill is made from.
pub struct BillSource<'s> {
    /// The lock.
    pub lock: &'s Lock,
    /// What of it goes into the product.
    pub scope: Scope<'s>,
    /// What projects say of themselves: version and licence.
    pub projects: BTreeMap<PackageName, (Option<Version>, Option<License>)>,
    /// The cards of packages.
    pub cards: BTreeMap<PackageName, Card>,
    /// The time that somebody gives.
    pub time: Option<Timestamp>,
    /// The version of the program.
    pub tool_version: &'static str,
}

impl Bill {
    /// The bill of what is chosen of a lock.
    pub fn new(source: BillSource<'_>) -> Self {
        let BillSource { lock, ref scope, ref projects, mut cards, time, tool_version } = source;
        let graph = NeedGraph::of(lock);
        let chosen = scope.projects_of(lock);
        let reached = graph.reached_in(scope, &chosen);
        let places = Places::of(lock, &chosen, &reached);
        let bill_project = |project: &&LockedProject| {
            let (version, license) = projects.get(&project.name).cloned().unwrap_or_default();
            BillProject {
                name: project.name.clone(),
                version,
                license,
                needs: places.needs_of_project(&graph, project, scope),
            }
        };
        let component = |(at, purposes): (&usize, &BTreeSet<&str>)| {
            let mut package = lock.packages[*at].clone();
            let is_taken = |file: &LockedFile| {
                file.targets.is_empty() || file.targets.iter().any(|one| scope.has_target(one.as_str()))
            };
            package.files.retain(is_taken);
            BillComponent {
                registry: registry_url(lock, &package.source),
                card: cards.remove(&package.name),
                needs: places.needs_of_package(&graph, *at),
                is_needed_to_run: purposes.contains(RUN),
                files: Vec::new(),
                license_texts: Vec::new(),
                package,
            }
        };
        let bill_projects: Vec<BillProject> = chosen.iter().map(bill_project).collect();
        let packages = reached.iter().filter(|(at, _)| places.components.contains_key(at));
        let names: Vec<&str> = chosen.iter().map(|project| project.name.as_str()).collect();
        Self {
            name: names.join(", "),
            components: packages.map(component).collect(),
            projects: bill_projects,
            identity: identity(lock, scope),
            time,
            tool_version,
        }
    }

    /// The time for a format that wants one: the given one, else that of the newest card, which is the same on every day.
    pub fn needed_time(&self) -> Timestamp {
        let newest = || self.components.iter().filter_map(|one| one.card.as_ref()).map(|card| card.published);
        self.time.or_else(|| newest().max()).unwrap_or(Timestamp::UNIX_EPOCH)
    }

    /// A UUID (RFC 9562, version 8) that only this bill has, for one kind of document.
    pub fn uuid(&self, kind: &str) -> String {
        let digest = Digest::of(format!("{} {kind}", self.identity).as_bytes()).to_string();
        // The version and the variant stand at fixed places.
        let variant = ["8", "9", "a", "b"][usize::from(digest.as_bytes()[16] % 4)];
        format!(
            "{}-{}-8{}-{variant}{}-{}",
            &digest[..8],
            &digest[8..12],
            &digest[13..16],
            &digest[17..20],
            &digest[20..32]
        )
    }

    /// The projects that reach a package, by its number.
    pub fn projects_with(&self, component: usize) -> Vec<&BillProject> {
        let reaches = |project: &&BillProject| {
            let (mut seen, mut open) = (BTreeSet::new(), project.needs.iter().collect::<Vec<&BillNeed>>());
            while let Some(need) = open.pop() {
                if !seen.insert(need.of) {
                    continue;
                }
                open.extend(self.needs(need.of));
            }
            seen.contains(&BillRef::Component(component))
        };
        self.projects.iter().filter(reaches).collect()
    }

    /// Its projects, then its packages.
    pub fn all(&self) -> impl Iterator<Item = BillRef> {
        let projects = (0..self.projects.len()).map(BillRef::Project);
        projects.chain((0..self.components.len()).map(BillRef::Component))
    }

    /// What something in it needs.
    pub fn needs(&self, of: BillRef) -> &[BillNeed] {
        match of {
            BillRef::Project(number) => &self.projects[number].needs,
            BillRef::Component(number) => &self.components[number].needs,
        }
    }

    /// The licence that something in it declares.
    pub fn license(&self, of: BillRef) -> Option<&License> {
        match of {
            BillRef::Project(number) => self.projects[number].license.as_ref(),
            BillRef::Component(number) => self.components[number].package.license.as_ref(),
        }
    }

    /// The name of something in it, with its version: unique in the bill.
    pub fn label(&self, of: BillRef) -> String {
        match of {
            BillRef::Project(number) => format!("project:{}", self.projects[number].name),
            BillRef::Component(number) => self.components[number].label(),
        }
    }
}

impl BillComponent {
    /// The archive, where it is the only one: then its digest is that of the whole.
    pub fn only_archive(&self) -> Option<&LockedFile> {
        match self.archives().as_slice() {
            [only] => Some(only),
            _ => None,
        }
    }

    /// The archives, where there are several: then each is something of its own inside.
    pub fn inner_archives(&self) -> Vec<&LockedFile> {
        match self.archives() {
            archives if archives.len() == 1 => Vec::new(),
            archives => archives,
        }
    }

    /// The upstream software that it is made from.
    pub fn upstream(&self) -> &[PackageUrl] {
        self.card.as_ref().map_or(&[], |card| &card.upstream)
    }

    /// How its licence texts and the licence that it declares don't go together.
    pub fn text_problems(&self) -> Vec<TextProblem> {
        problems_of_texts(self.package.license.as_ref(), &self.license_texts)
    }

    /// `dew-point@1.4.0`.
    pub fn label(&self) -> String {
        format!("{}@{}", self.package.name, self.package.version)
    }

    /// The archives as others can get them, each once. What is packed from a commit here has a digest of its own, which nobody else
    /// would find.
    pub fn archives(&self) -> Vec<&LockedFile> {
        if self.package.source.git().is_some() {
            return Vec::new();
        }
        let mut seen = BTreeSet::new();
        self.package.files.iter().filter(|file| seen.insert(file.sha256)).collect()
    }
}

/// How licence texts and a declared licence don't go together.
pub fn problems_of_texts(declared: Option<&License>, texts: &[LicenseText]) -> Vec<TextProblem> {
    let licenses = texts.iter().filter(|text| text.kind == TextKind::License);
    let texts: Vec<FoundText<'_>> =
        licenses.map(|text| FoundText { path: &text.path, ids: &text.ids }).collect();
    text_problems(declared, &texts)
}

/// A time as all formats take it: UTC, without parts of a second.
pub(crate) fn to_the_second(time: Timestamp) -> String {
    time.strftime("%Y-%m-%dT%H:%M:%SZ").to_string()
}

/// Where what is reached stands in a bill.
struct Places {
    /// The numbers of packages, by their places in the lock.
    components: BTreeMap<usize, usize>,
    /// The numbers of projects that others need from their folders, by their places in the lock.
    projects: BTreeMap<usize, usize>,
}

impl Places {
    fn of(lock: &Lock, projects: &[&LockedProject], reached: &Reached<'_>) -> Self {
        let mut places = Self { components: BTreeMap::new(), projects: BTreeMap::new() };
        for at in reached.keys() {
            let path = lock.packages[*at].source.path();
            let project = path.and_then(|path| projects.iter().position(|project| project.path == path));
            match project {
                Some(project) => places.projects.insert(*at, project),
                None => places.components.insert(*at, places.components.len()),
            };
        }
        places
    }

    fn reference(&self, at: usize) -> Option<BillRef> {
        let component = self.components.get(&at).copied().map(BillRef::Component);
        component.or_else(|| self.projects.get(&at).copied().map(BillRef::Project))
    }

    fn needs_of_project(
        &self,
        graph: &NeedGraph<'_>,
        project: &LockedProject,
        scope: &Scope<'_>,
    ) -> Vec<BillNeed> {
        let needs = project.needs.iter().filter(|need| scope.has_need(project, need)).filter_map(|need| {
            let of = self.reference(graph.answering(&need.name)?)?;
            Some(BillNeed { of, purpose: need.purpose.as_ref().map(ToString::to_string) })
        });
        needs.collect::<BTreeSet<_>>().into_iter().collect()
    }

    fn needs_of_package(&self, graph: &NeedGraph<'_>, at: usize) -> Vec<BillNeed> {
        let needs = graph.needs(at).iter().filter_map(|needed| self.reference(*needed));
        needs.map(|of| BillNeed { of, purpose: None }).collect::<BTreeSet<_>>().into_iter().collect()
    }
}

/// Where a registry is, where that is a URL.
fn registry_url(lock: &Lock, source: &Source) -> Option<String> {
    let place = lock.registries.get(source.registry()?)?.as_ref()?;
    place.contains("://").then(|| place.clone())
}

/// The digest that names what of a lock is chosen.
fn identity(lock: &Lock, scope: &Scope<'_>) -> Digest {
    let names = |names: &mut dyn Iterator<Item = String>| names.collect::<Vec<_>>().join(" ");
    let text = [
        lock.digest().to_string(),
        names(&mut scope.projects.iter().map(ToString::to_string)),
        names(&mut scope.targets.iter().map(ToString::to_string)),
        names(&mut scope.without.iter().map(ToString::to_string)),
    ];
    Digest::of(text.join("\n").as_bytes())
}
