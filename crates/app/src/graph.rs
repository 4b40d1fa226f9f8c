//! `graph`: which package needs which, by the lock.

use bibliotax_core::facet::Target;
use bibliotax_core::graph::{Graph, View};
use bibliotax_core::lock::{Lock, Scope};
use bibliotax_core::name::{PackageName, Purpose, TargetName};

use crate::failure::Failure;
use crate::machine::this_machine;
use crate::resolving::locked_name;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// What of the graph is shown.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Only the ways to this package.
    pub to: Option<String>,
    /// Only so many steps from a project.
    pub depth: Option<usize>,
    /// Only what these projects need.
    pub projects: ProjectWords,
    /// Only what is needed on these targets.
    pub targets: Vec<String>,
    /// What is needed for these purposes only is left out.
    pub without: Vec<Purpose>,
}

/// What of a lock is shown.
pub struct Shown<'w> {
    lock: &'w Lock,
    projects: Vec<PackageName>,
    targets: Vec<TargetName>,
    without: Vec<Purpose>,
    to: Option<PackageName>,
    depth: Option<usize>,
    machine: Target,
}

impl<'w> Shown<'w> {
    /// What a request means in a workspace.
    pub fn of(workspace: &'w WorkspaceFolder, request: &Request) -> Result<Self, Failure> {
        let lock = workspace.needed_lock()?;
        let targets = workspace.targets_named(&request.targets)?;
        workspace.check_purposes(&request.without)?;
        let to = request.to.as_ref().map(|word| locked_name(lock, word)).transpose()?;
        let projects = request.projects.chosen(workspace)?;
        let projects = projects.into_iter().map(|project| project.name().clone()).collect();
        let (without, depth) = (request.without.clone(), request.depth);
        Ok(Self { lock, projects, targets, without, to, depth, machine: this_machine() })
    }

    /// The lock.
    pub fn lock(&self) -> &'w Lock {
        self.lock
    }

    /// The graph.
    pub fn graph(&self) -> Graph<'w> {
        let scope = Scope {
            projects: &self.projects,
            targets: &self.targets,
            without: &self.without,
            machine: &self.machine,
        };
        Graph::of(self.lock, &View { scope, to: self.to.as_ref(), depth: self.depth })
    }
}
