//! What a charter that isn't published yet would do in the workspaces that follow it.

use std::collections::BTreeSet;

use bibliotax_core::card::Card;
use bibliotax_core::charter::{Charter, DeclaredCharter, LockedCharter};
use bibliotax_core::compare::{Change, compare};
use bibliotax_core::compliance::{LockBreach, breaches};
use bibliotax_core::digest::Digest;
use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::name::RegistryName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Problem, reconcile};
use bibliotax_core::rules::whole_sentence;
use bibliotax_core::workspace::Workspace;

use crate::context::Context;
use crate::failure::{self, Failure};
use crate::resolving::charters::MovingCharters;
use crate::resolving::{Resolver, conflict_of, needs_of};
use crate::search_options::SearchOptions;
use crate::workspace::{LockFile, WorkspaceFolder};

/// What a charter would do in a workspace.
pub struct Follower {
    /// The workspace's folder, as it was named.
    pub folder: String,
    /// How the workspace takes the charter on; `None` where it can't be read.
    pub follows: Option<Follows>,
    /// What would become of its lock.
    pub outcome: Outcome,
}

/// How a workspace takes a charter on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Follows {
    /// In a range that accepts the release.
    Already,
    /// In a range that doesn't accept the release.
    OtherRange(Range),
    /// Not yet.
    NotYet,
}

/// What a charter would do to a lock.
pub enum Outcome {
    /// There is a set of releases that goes with the charter.
    Resolved(Box<Resolved>),
    /// There is none, or it couldn't be found out.
    Failed(Failure),
}

/// A lock that goes with a charter.
pub struct Resolved {
    old: Lock,
    new: Lock,
    /// What the charter's rules forbid of what stays, a sentence each.
    pub forbidden: Vec<String>,
}

impl Resolved {
    /// The packages that would come, go or move.
    pub fn changes(&self) -> Vec<Change<'_>> {
        compare(Some(&self.old), &self.new)
    }

    /// The lock that goes with the charter.
    pub fn lock(&self) -> &Lock {
        &self.new
    }
}

impl Follower {
    /// Whether the workspace couldn't take the charter on as it is.
    pub fn is_in_trouble(&self) -> bool {
        match &self.outcome {
            Outcome::Resolved(resolved) => !resolved.forbidden.is_empty(),
            Outcome::Failed(_) => true,
        }
    }
}

/// A release of a charter that is tried.
pub(super) struct TriedCharter<'c> {
    card: &'c Card,
    charter: &'c Charter,
    registry: RegistryName,
}

impl<'c> TriedCharter<'c> {
    /// The charter that a card states; `None` where it states none.
    pub fn of(card: &'c Card, registry: &str) -> Option<Self> {
        let charter = card.charter.as_deref()?;
        // A registry that has no name of its own, only a place, still has to be called something.
        let registry = registry.parse().or_else(|_| "registry".parse()).ok()?;
        Some(Self { card, charter, registry })
    }

    /// What it would do in each of these workspaces.
    pub fn in_workspaces(&self, folders: &[String], context: &Context<'_>) -> Vec<Follower> {
        folders.iter().map(|folder| self.in_workspace(folder, context)).collect()
    }

    fn in_workspace(&self, folder: &str, context: &Context<'_>) -> Follower {
        let found = found(folder, context);
        let follows = found.as_ref().ok().map(|workspace| self.follows(&workspace.declared));
        let outcome = found.and_then(|workspace| self.outcome(&workspace, context));
        let outcome = outcome.map_or_else(Outcome::Failed, |resolved| Outcome::Resolved(Box::new(resolved)));
        Follower { folder: folder.to_owned(), follows, outcome }
    }

    fn follows(&self, declared: &Workspace) -> Follows {
        match declared.declared_charter(&self.card.name) {
            None => Follows::NotYet,
            Some(charter) if charter.accepts(&self.card.version) => Follows::Already,
            Some(charter) => Follows::OtherRange(charter.range.clone()),
        }
    }

    fn outcome(&self, workspace: &WorkspaceFolder, context: &Context<'_>) -> Result<Resolved, Failure> {
        let options = SearchOptions::default();
        let resolver = Resolver::open(workspace, &workspace.declared, context.environment, &options)?;
        let declared = self.taken_on(workspace, &resolver)?;
        let problem = Problem::new(&declared, &workspace.locked());
        resolver.registries.prefetch_closure(&needs_of(&problem));
        let update = reconcile(&problem, &[], &resolver.registries);
        let update = update.or_else(|unresolved| {
            let conflict = conflict_of(unresolved)?;
            Err(failure::conflict(conflict, Vec::new(), false))
        })?;
        let mut resolution = update.resolution;
        let new = resolver.lock_of(&declared, &mut resolution)?;
        let old = match &workspace.lock {
            LockFile::Sound { lock, .. } => lock.clone(),
            LockFile::None | LockFile::Faulty { .. } => {
                Lock { packages: workspace.locked().into_owned(), charters: Vec::new(), ..new.clone() }
            }
        };
        let forbidden = self.forbidden(&declared, &new, context);
        Ok(Resolved { old, new, forbidden })
    }

    /// The workspace as the charter would bind it; its other charters stay as they are.
    fn taken_on(&self, workspace: &WorkspaceFolder, resolver: &Resolver<'_>) -> Result<Workspace, Failure> {
        let name = &self.card.name;
        let mut declared = workspace.declared.clone();
        let except =
            declared.declared_charter(name).map(|charter| charter.except.clone()).unwrap_or_default();
        declared.charters.retain(|charter| charter.name != *name);
        let (locked, none) = (workspace.locked_charters(), MovingCharters::none());
        let others = resolver.chosen_charters(&declared.charters, &locked, &none)?;
        let range = Range::exactly(&self.card.version);
        let prereleases = self.card.version.is_pre();
        declared.charters.push(DeclaredCharter {
            name: name.clone(),
            range,
            prereleases,
            except,
            span: 0..0,
        });
        let tried = LockedCharter {
            name: name.clone(),
            version: self.card.version.clone(),
            source: self.registry.clone(),
            card: Digest::of(b""),
            charter: self.charter.clone(),
        };
        workspace.bound_by(declared, others.into_iter().chain([tried]).collect())
    }

    /// What the charter's rules say against what the lock would have, by what the lock says of it.
    fn forbidden(&self, declared: &Workspace, new: &Lock, context: &Context<'_>) -> Vec<String> {
        let found = breaches(new, &declared.rules, |_| None, context.environment.now);
        let found = found.into_iter().filter(|found| {
            let charter = found.breach.charter.as_ref();
            charter.is_some_and(|charter| charter.name == self.card.name)
                && found.waiver.is_none()
                && found.breach.is_forbidden()
        });
        let sentence = |found: LockBreach<'_>| {
            let who = format!("{} {}", found.package.name, found.package.version);
            whole_sentence(&found.breach.sentence(found.scope, &who, true))
        };
        found.map(sentence).collect::<BTreeSet<String>>().into_iter().collect()
    }
}

/// The workspace in a folder itself, not in one above it.
fn found(folder: &str, context: &Context<'_>) -> Result<WorkspaceFolder, Failure> {
    let path = context.folder.join(folder);
    if !path.join(FILE_NAME).is_file() {
        let message = format!("there is no {FILE_NAME} in {folder}");
        return Err(Failure::new("manifest.missing", message).advice("check the path"));
    }
    WorkspaceFolder::find(&path)
}
