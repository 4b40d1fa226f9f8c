//! A problem for the resolver: needs, targets, preferences, rules.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use super::Resolution;
use crate::charter::CharterBounds;
use crate::facet::Target;
use crate::name::{ComponentName, Family, PackageName, PartName, Purpose};
use crate::range::Range;
use crate::rules::Rules;
use crate::version::Version;

/// The needs of a project and what was chosen for them before.
#[derive(Debug, Clone)]
pub struct Problem {
    /// Who needs something, as sentences name them; never empty.
    pub projects: Vec<ProblemProject>,
    /// Its direct needs, those that matter most first.
    pub needs: Vec<ProblemNeed>,
    /// The releases to stay with where that is possible.
    pub locked: BTreeMap<PackageName, Version>,
    /// Which releases are better where several will do.
    pub prefer: Prefer,
    /// Locked packages that the rules exclude and that have to leave for something the rules allow.
    pub leaving: BTreeSet<PackageName>,
    /// Whether those have to leave what advisories are only warned of, too.
    pub leaves_advisories: bool,
    /// Releases that must stay, unless their package leaves.
    pub held: BTreeMap<PackageName, Version>,
    /// Whether a locked package that can't stay moves to the nearest release instead of the best.
    pub gentle: bool,
    /// The ranges that the project keeps families in.
    pub families: BTreeMap<Family, Range>,
    /// The provider of a capability to take where that is possible.
    pub preferred: BTreeMap<PackageName, PackageName>,
    /// What releases have to fit: the project's targets, and its promise.
    pub places: Vec<Target>,
    /// What the team allows.
    pub rules: Arc<Rules>,
    /// What charters allow.
    pub charters: Arc<[CharterBounds]>,
    /// The providers that were taken for capabilities before.
    pub providers: BTreeMap<PackageName, PackageName>,
}

/// Which releases are better where several will do; deprecated ones are worse than all others either way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Prefer {
    /// The newer, the better.
    #[default]
    Newest,
    /// The older, the better: to see whether the lower ends of ranges hold.
    Oldest,
}

/// A project that needs something.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProblemProject {
    /// The project.
    pub name: PackageName,
    /// The numbers of the places that its needs have to fit; `None` for all.
    pub places: Option<Vec<usize>>,
}

/// A direct need.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProblemNeed {
    /// The number of the project whose need it is.
    pub by: usize,
    /// The package.
    pub package: PackageName,
    /// The versions that will do.
    pub range: Range,
    /// Whether pre-releases count like any other version.
    pub prereleases: bool,
    /// Whether this is a question ("could it be …?") and not a need that somebody declared.
    pub asked: bool,
    /// What the package needs and the project does without.
    pub without: Vec<PackageName>,
    /// The family whose range it has.
    pub family: Option<Family>,
    /// The targets that it is for; `None` for all. Of a question, none where it is about all targets on which others need it.
    pub targets: Option<Vec<String>>,
    /// The components that are wanted.
    pub components: Vec<ComponentName>,
    /// Whether the components that come by default are not wanted.
    pub bare: bool,
    /// The parts that are asked for beside those that come along.
    pub parts: Vec<PartName>,
    /// What it is for, beside running.
    pub purpose: Option<Purpose>,
}

impl ProblemNeed {
    /// A need that says no more than package and range.
    pub fn new(package: PackageName, range: Range) -> Self {
        Self {
            by: 0,
            package,
            range,
            prereleases: false,
            asked: false,
            without: Vec::new(),
            family: None,
            targets: None,
            components: Vec::new(),
            bare: false,
            parts: Vec::new(),
            purpose: None,
        }
    }
}

impl Problem {
    /// The problem of a project that needs nothing yet.
    pub fn of(project: PackageName) -> Self {
        Self {
            projects: vec![ProblemProject { name: project, places: None }],
            needs: Vec::new(),
            locked: BTreeMap::new(),
            prefer: Prefer::Newest,
            leaving: BTreeSet::new(),
            leaves_advisories: false,
            held: BTreeMap::new(),
            gentle: false,
            families: BTreeMap::new(),
            preferred: BTreeMap::new(),
            places: Vec::new(),
            rules: Arc::default(),
            charters: Arc::default(),
            providers: BTreeMap::new(),
        }
    }

    /// Whether a need has to fit the place of this number.
    pub fn is_at(&self, need: &ProblemNeed, number: usize) -> bool {
        if need.asked {
            return need.targets.is_none();
        }
        let place = &self.places[number];
        let is_named = || need.targets.as_ref().is_none_or(|targets| targets.contains(&place.name));
        let of_project = self.projects.get(need.by).and_then(|project| project.places.as_ref());
        of_project.is_none_or(|places| places.contains(&number)) && (place.is_promise || is_named())
    }

    /// Who has a need, as sentences name it.
    pub fn needing(&self, need: &ProblemNeed) -> &PackageName {
        &self.projects[need.by].name
    }

    /// What a package needs and the project does without: what every declared need of it says so of.
    pub fn left_out(&self, package: &PackageName) -> Vec<PackageName> {
        let mut declared = self.needs.iter().filter(|need| need.package == *package && !need.asked);
        let Some(first) = declared.next() else { return Vec::new() };
        let rest: Vec<&ProblemNeed> = declared.collect();
        let in_all = |name: &&PackageName| rest.iter().all(|need| need.without.contains(name));
        first.without.iter().filter(in_all).cloned().collect()
    }

    /// The locked release of a package, which may stay even if it was withdrawn since, or the rules exclude it.
    pub fn kept(&self, package: &PackageName) -> Option<&Version> {
        self.locked.get(package).filter(|_| !self.leaving.contains(package))
    }

    /// The parts of a package that are asked for beside those that come along.
    pub fn asked_parts(&self, package: &PackageName) -> Vec<PartName> {
        // Most needs ask for none, and looking is cheaper than comparing names.
        let asking = self.needs.iter().filter(|need| !need.parts.is_empty() && need.package == *package);
        asking.flat_map(|need| need.parts.iter().cloned()).collect()
    }

    /// The same problem once a resolution is locked.
    #[must_use]
    pub fn locking(&self, resolution: &Resolution) -> Self {
        let (mut locked, mut providers) = (BTreeMap::new(), BTreeMap::new());
        for package in &resolution.packages {
            let entry = &package.release.entry;
            locked.insert(entry.name.clone(), entry.version.clone());
            providers.extend(package.provides.iter().map(|name| (name.clone(), entry.name.clone())));
        }
        Self { locked, providers, ..self.clone() }
    }

    /// The same problem without what is declared of `package`.
    #[must_use]
    pub fn without(mut self, package: &PackageName) -> Self {
        self.needs.retain(|need| need.package != *package);
        self
    }

    /// The same problem with the question whether `package`, which is needed anyway, could be in `range` where it is needed.
    #[must_use]
    pub fn asking_where_needed(&self, package: &PackageName, range: &Range) -> Self {
        let mut problem = self.asking(package, range);
        problem.needs[0].targets = Some(Vec::new());
        problem
    }

    /// The same problem with the question whether `package` could be in `range`, wherever that is, put first.
    #[must_use]
    pub fn asking(&self, package: &PackageName, range: &Range) -> Self {
        let mut problem = self.clone();
        // Bare: a question is about a release, not about what else might be wanted of it.
        let asked = ProblemNeed::new(package.clone(), range.clone());
        problem.needs.insert(0, ProblemNeed { asked: true, bare: true, ..asked });
        problem
    }
}
