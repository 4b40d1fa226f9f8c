//! What `graph` prints.

use bibliotax_core::charter::CharterRelease;
use bibliotax_core::graph::{Graph, GraphCharter as CoreCharter, Node as CoreNode};
use bibliotax_core::name::{PackageName, Purpose, TargetName};
use bibliotax_core::range::Range;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::package::Package;

/// What `graph` prints.
#[derive(Serialize, JsonSchema)]
pub struct DependencyGraph {
    /// The projects.
    pub projects: Vec<Project>,
    /// The packages.
    pub packages: Vec<GraphPackage>,
    /// Which of them needs which.
    pub needs: Vec<Edge>,
    /// The charters, and which packages they bind.
    pub charters: Vec<GraphCharter>,
}

/// A charter with the packages that it has a range for.
#[derive(Serialize, JsonSchema)]
pub struct GraphCharter {
    /// Its release.
    pub charter: CharterRelease,
    /// The packages.
    pub binds: Vec<BoundName>,
}

/// A package that a charter has a range for.
#[derive(Serialize, JsonSchema)]
pub struct BoundName {
    /// The package.
    pub name: PackageName,
    /// The range.
    pub range: Range,
}

impl Document for DependencyGraph {
    const COMMAND: &'static str = "graph";
}

/// A project.
#[derive(Serialize, JsonSchema)]
pub struct Project {
    /// Its name.
    pub name: PackageName,
    /// Its folder, seen from the workspace's.
    pub path: String,
    /// Its targets.
    pub targets: Vec<TargetName>,
    /// How far it is from a project that was asked about.
    pub depth: Option<usize>,
}

/// A package with its distance.
#[derive(Serialize, JsonSchema)]
pub struct GraphPackage {
    #[serde(flatten)]
    pub package: Package,
    /// How far it is from a project: 1 for what a project needs itself.
    pub depth: Option<usize>,
}

/// That a project or package needs a package.
#[derive(Serialize, JsonSchema)]
pub struct Edge {
    /// The project or package that needs something.
    pub from: PackageName,
    /// What it needs.
    pub to: PackageName,
    /// What for; null to run.
    pub purpose: Option<Purpose>,
}

impl From<&Graph<'_>> for DependencyGraph {
    fn from(graph: &Graph<'_>) -> Self {
        let depths = graph.depths();
        let (mut projects, mut packages) = (Vec::new(), Vec::new());
        for (node, depth) in graph.nodes.iter().zip(depths) {
            match node {
                CoreNode::Project(project) => projects.push(Project {
                    name: project.name.clone(),
                    path: project.path.clone(),
                    targets: project.targets.clone(),
                    depth,
                }),
                CoreNode::Package(package) => {
                    packages.push(GraphPackage { package: (*package).into(), depth });
                }
            }
        }
        let name = |number: usize| graph.nodes[number].name().clone();
        let edges = graph.edges.iter().map(|edge| Edge {
            from: name(edge.from),
            to: name(edge.to),
            purpose: edge.purpose.cloned(),
        });
        let charter = |bound: &CoreCharter<'_>| GraphCharter {
            charter: bound.charter.release(),
            binds: bound
                .binds
                .iter()
                .map(|(node, range)| BoundName { name: name(*node), range: (*range).clone() })
                .collect(),
        };
        let charters = graph.charters.iter().map(charter).collect();
        Self { projects, packages, needs: edges.collect(), charters }
    }
}
