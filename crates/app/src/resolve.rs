//! `resolve`: from the manifests to the lock.

use bibliotax_core::resolve::{Prefer, Problem};
use bibliotax_core::workspace::Workspace;
use jiff::Timestamp;

use crate::change::{PlannedChange, Wanted};
use crate::context::Context;
use crate::failure::Failure;
use crate::resolving::charters::MovingCharters;
use crate::resolving::{Resolved, Resolver};
use crate::search_options::SearchOptions;
use crate::workspace::edits::Edits;
use crate::workspace::{LockFile, WorkspaceFolder};

/// How the lock is made.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Which releases are taken where several will do; what is locked stays where this isn't said.
    pub prefer: Option<Prefer>,
    /// Only what was published by then is seen.
    pub as_of: Option<Timestamp>,
    /// How it is resolved.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

impl Request {
    /// Whether what is locked doesn't matter.
    fn is_anew(&self) -> bool {
        self.prefer.is_some() || self.as_of.is_some()
    }
}

/// A lock, worked out and not yet written.
pub struct Plan {
    /// What changes.
    pub change: PlannedChange,
    /// That the lock before could not be trusted, and how many of its packages could be read.
    pub salvaged: Option<(String, usize)>,
}

/// Works out the lock that the manifests lead to.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let workspace = WorkspaceFolder::open(context.folder, request.is_dry_run, context.listener)?;
    let salvaged = match &workspace.lock {
        LockFile::Faulty { fault, .. } => Some((fault.message.clone(), workspace.locked().len())),
        LockFile::None | LockFile::Sound { .. } => None,
    };
    let declared = &workspace.declared;
    let mut resolver = Resolver::open(&workspace, declared, context.environment, &request.options)?;
    resolver.registries = resolver.registries.as_of(request.as_of);
    let declared = if request.is_anew() {
        resolver.bound_anew(declared, &[], &MovingCharters::All)?
    } else {
        resolver.bound(declared)?
    };
    let resolved = resolved(request, &resolver, &declared)?;
    let registries = resolver.registries;
    let wanted = Wanted::new(Edits::default(), declared, resolved);
    Ok(Plan { change: PlannedChange::new(workspace, wanted, &registries), salvaged })
}

fn resolved(request: &Request, resolver: &Resolver<'_>, declared: &Workspace) -> Result<Resolved, Failure> {
    if !request.is_anew() {
        return resolver.resolve(declared);
    }
    let prefer = request.prefer.unwrap_or(Prefer::Newest);
    let problem = Problem { prefer, ..Problem::new(declared, &[]) };
    resolver.resolve_problem(&problem, declared)
}
