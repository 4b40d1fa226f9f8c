//! Which package needs which in a lock.
//!
//! [`Graph`] is the part of a lock that is asked about: projects, packages, and the needs between them. `outline` puts it in
//! lines.

mod outline;
mod paths;
#[cfg(test)]
mod tests;

use std::collections::{BTreeMap, HashMap, VecDeque};

use crate::charter::LockedCharter;
use crate::lock::{Lock, LockedPackage, LockedProject, NeedGraph, Scope};
use crate::name::{PackageName, Purpose};
use crate::range::Range;

pub use self::outline::{Line, outline};
pub use self::paths::{NeedPath, NeedPaths, paths_to};

/// Part of a lock as a graph; projects stand first, then packages by name.
#[derive(Debug, Clone)]
pub struct Graph<'l> {
    /// Projects and packages.
    pub nodes: Vec<Node<'l>>,
    /// Which package needs which.
    pub edges: Vec<Edge<'l>>,
    /// The charters, and which packages they bind.
    pub charters: Vec<GraphCharter<'l>>,
}

/// A charter with the packages of a graph that it has a range for.
#[derive(Debug, Clone)]
pub struct GraphCharter<'l> {
    /// The charter.
    pub charter: &'l LockedCharter,
    /// The packages, by the numbers of their nodes, each with the range.
    pub binds: Vec<(usize, &'l Range)>,
}

/// A project or a package.
#[derive(Debug, Clone)]
pub enum Node<'l> {
    /// A project whose needs are locked.
    Project(&'l LockedProject),
    /// A package.
    Package(&'l LockedPackage),
}

/// A need of one node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edge<'l> {
    /// The number of the node that needs.
    pub from: usize,
    /// The number of the node that is needed.
    pub to: usize,
    /// What for, beside running: of projects only.
    pub purpose: Option<&'l Purpose>,
}

/// What of a lock is shown.
#[derive(Debug, Clone, Copy)]
pub struct View<'v> {
    /// The projects, targets and purposes.
    pub scope: Scope<'v>,
    /// Only the paths to this package.
    pub to: Option<&'v PackageName>,
    /// Only so many steps from a project.
    pub depth: Option<usize>,
}

impl<'l> Node<'l> {
    /// Its name.
    pub fn name(&self) -> &'l PackageName {
        match self {
            Self::Project(project) => &project.name,
            Self::Package(package) => &package.name,
        }
    }

    /// The package, where it is one.
    pub fn package(&self) -> Option<&'l LockedPackage> {
        if let Self::Package(package) = self { Some(package) } else { None }
    }

    /// Its name and, of a package, its version and what stands in for it.
    pub fn label(&self) -> String {
        match self {
            Self::Project(project) => project.name.to_string(),
            Self::Package(package) => format!("{} {}", package.name, package.shown_version()),
        }
    }
}

impl<'l> Graph<'l> {
    /// What a view shows of a lock.
    pub fn of(lock: &'l Lock, view: &View<'_>) -> Self {
        let (wires, scope) = (NeedGraph::of(lock), &view.scope);
        let projects = scope.projects_of(lock);
        let mut nodes: Vec<Node<'l>> = projects.iter().map(|project| Node::Project(project)).collect();
        // A project that others need is a node once, where it is shown.
        let folders: HashMap<&str, usize> =
            projects.iter().enumerate().map(|(number, project)| (project.path.as_str(), number)).collect();
        let mut places: BTreeMap<usize, usize> = BTreeMap::new();
        for at in wires.reached_in(scope, &projects).into_keys() {
            let package = &lock.packages[at];
            let project = package.source.path().and_then(|path| folders.get(path));
            places.insert(at, project.copied().unwrap_or(nodes.len()));
            if project.is_none() {
                nodes.push(Node::Package(package));
            }
        }
        let mut edges = Vec::new();
        for (from, project) in projects.iter().enumerate() {
            for need in project.needs.iter().filter(|need| scope.has_need(project, need)) {
                let to = wires.answering(&need.name).and_then(|at| places.get(&at));
                edges.extend(to.map(|to| Edge { from, to: *to, purpose: need.purpose.as_ref() }));
            }
        }
        for (at, from) in places.iter().filter(|(_, from)| **from >= projects.len()) {
            let needed = wires.needs(*at).iter().filter_map(|needed| places.get(needed));
            edges.extend(needed.map(|to| Edge { from: *from, to: *to, purpose: None }));
        }
        let charters = Vec::new();
        Self { nodes, edges, charters }.narrowed(view).bound_by(&lock.charters)
    }

    /// Only what lies on the paths to a package, and only so deep.
    fn narrowed(self, view: &View<'_>) -> Self {
        let mut keep = vec![true; self.nodes.len()];
        if let Some(package) = view.to {
            let goal = self.nodes.iter().position(|node| node.name() == package);
            keep = self.leading_to(goal);
        }
        if let Some(most) = view.depth {
            let depths = self.depths();
            keep.iter_mut()
                .zip(depths)
                .for_each(|(keep, depth)| *keep &= depth.is_some_and(|depth| depth <= most));
        }
        if keep.iter().all(|keep| *keep) {
            return self;
        }
        let mut places = vec![usize::MAX; keep.len()];
        let mut nodes = Vec::new();
        for (number, node) in self.nodes.into_iter().enumerate().filter(|(number, _)| keep[*number]) {
            places[number] = nodes.len();
            nodes.push(node);
        }
        let edges = self.edges.into_iter().filter(|edge| keep[edge.from] && keep[edge.to]);
        let edges = edges.map(|edge| Edge { from: places[edge.from], to: places[edge.to], ..edge }).collect();
        Self { nodes, edges, charters: self.charters }
    }

    /// The same graph with the charters that bind packages of it.
    fn bound_by(self, charters: &'l [LockedCharter]) -> Self {
        let bound = |charter: &'l LockedCharter| {
            let nodes = self.nodes.iter().enumerate();
            let binds = nodes.filter_map(|(number, node)| {
                Some((number, charter.charter.range_of(&node.package()?.name)?))
            });
            GraphCharter { charter, binds: binds.collect() }
        };
        Self { charters: charters.iter().map(bound).collect(), ..self }
    }

    /// Which nodes lead to another, that one included.
    fn leading_to(&self, goal: Option<usize>) -> Vec<bool> {
        let mut needing: Vec<Vec<usize>> = vec![Vec::new(); self.nodes.len()];
        self.edges.iter().for_each(|edge| needing[edge.to].push(edge.from));
        let mut found = vec![false; self.nodes.len()];
        let mut open: Vec<usize> = goal.into_iter().collect();
        while let Some(node) = open.pop() {
            if !std::mem::replace(&mut found[node], true) {
                open.extend(&needing[node]);
            }
        }
        found
    }

    /// How many steps each node is from the nearest project.
    pub fn depths(&self) -> Vec<Option<usize>> {
        let needed = self.needed();
        let mut depths = vec![None; self.nodes.len()];
        let projects = self.projects();
        projects.clone().for_each(|project| depths[project] = Some(0));
        let mut open: VecDeque<usize> = projects.collect();
        while let Some(node) = open.pop_front() {
            for next in &needed[node] {
                if depths[*next].is_none() {
                    depths[*next] = depths[node].map(|depth: usize| depth + 1);
                    open.push_back(*next);
                }
            }
        }
        depths
    }

    /// The numbers of the projects.
    pub fn projects(&self) -> impl Iterator<Item = usize> + Clone + '_ {
        let is_project = |number: &usize| matches!(self.nodes[*number], Node::Project(_));
        (0..self.nodes.len()).filter(is_project)
    }

    /// The nodes that each node needs, each once.
    pub fn needed(&self) -> Vec<Vec<usize>> {
        let mut needed: Vec<Vec<usize>> = vec![Vec::new(); self.nodes.len()];
        for edge in &self.edges {
            if !needed[edge.from].contains(&edge.to) {
                needed[edge.from].push(edge.to);
            }
        }
        needed
    }

    /// Whether a package is reached only for purposes beside running.
    pub fn is_beside(&self) -> Vec<bool> {
        let needed = self.needed();
        let running = self.edges.iter().filter(|edge| edge.purpose.is_none());
        let is_project = |node: usize| matches!(self.nodes[node], Node::Project(_));
        let mut open: Vec<usize> =
            running.filter(|edge| is_project(edge.from)).map(|edge| edge.to).chain(self.projects()).collect();
        let mut runs = vec![false; self.nodes.len()];
        while let Some(node) = open.pop() {
            if !std::mem::replace(&mut runs[node], true) && !is_project(node) {
                open.extend(&needed[node]);
            }
        }
        runs.into_iter().map(|runs| !runs).collect()
    }
}
