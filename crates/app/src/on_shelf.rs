//! Programs run with a shelf: what `with` and `task` share.

use bibliotax_core::workspace::Project;

use crate::context::Context;
use crate::failure::Failure;
use crate::install;
use crate::programs::{ProgramVariables, target_here};
use crate::workspace::WorkspaceFolder;

/// The shelf that programs are run with.
#[derive(Debug, Clone, Default)]
pub struct ShelfWords {
    /// The target whose packages are meant.
    pub target: Option<String>,
    /// Whether the lock has to be right already.
    pub is_sealed: bool,
    /// Whether packages may be replaced though it is sealed.
    pub allow_stand_ins: bool,
}

impl ShelfWords {
    /// The targets that programs of these projects are run for.
    pub fn targets(&self, projects: &[&Project]) -> Result<Vec<Option<String>>, Failure> {
        projects.iter().map(|project| target_here(project, self.target.as_deref())).collect()
    }

    /// The install that has to be done first; `None` where the shelf is right.
    pub fn install(
        &self,
        workspace: &WorkspaceFolder,
        context: &Context<'_>,
    ) -> Result<Option<install::Plan>, Failure> {
        let request = install::Request::before(self.is_sealed, self.allow_stand_ins);
        install::plan_if_needed(&request, &workspace.manifests, context)
    }
}

/// What programs of projects find in their environment once the shelf is right.
pub fn variables(
    workspace: &WorkspaceFolder,
    projects: &[&Project],
    targets: &[Option<String>],
    context: &Context<'_>,
) -> Result<Vec<ProgramVariables>, Failure> {
    let of_projects = projects.iter().zip(targets);
    let variables = of_projects.map(|(project, target)| {
        ProgramVariables::of(workspace, project, target.as_deref(), context.environment)
    });
    variables.collect()
}
