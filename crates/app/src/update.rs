//! `update`: moves the named packages as far as possible, and all others as little as possible.

use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{
    Conflict, Problem, Resolution, Update as Updated, comply, reconcile, update, update_among,
    ways_out as relaxed,
};
use bibliotax_core::workspace::{Project, Workspace};
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::sources::direct_sources::Freshness;

use crate::change::{PlannedChange, Wanted};
use crate::check::rules::{Leaving, leaving};
use crate::context::Context;
use crate::failure::{self, Failure, Way};
use crate::newest_release::{PassedOver, passed_over};
use crate::resolving::charters::MovingCharters;
use crate::resolving::ways_out::as_commands;
use crate::resolving::{Resolver, conflict_of, locked_name, needs_of};
use crate::search_options::SearchOptions;
use crate::workspace::edits::Edits;
use crate::workspace::{ManifestEdits, ProjectWords, WorkspaceFolder, file_name};

/// What is updated.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Packages in the lock; none for all that projects reach.
    pub packages: Vec<String>,
    /// The projects; none for all.
    pub projects: ProjectWords,
    /// Whether it may go beyond the ranges.
    pub is_beyond: bool,
    /// Whether tags of the named packages may name another commit than the lock has.
    pub accepts_moved: bool,
    /// Whether just what the rules forbid is to leave, for the nearest releases that they allow.
    pub complies: bool,
    /// Whether just what advisories affect is to leave, for the nearest releases that they don't affect.
    pub leaves_advisories: bool,
    /// How it is resolved.
    pub options: SearchOptions,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// An update, worked out and not yet done.
pub struct Plan {
    /// What changes.
    pub change: PlannedChange,
    /// The ranges that are written.
    pub rewritten: Vec<RewrittenRange>,
    /// Why packages had to move that weren't named.
    pub forced: Vec<Conflict>,
    /// The newest releases of the named packages that were not taken.
    pub passed_over: Vec<PassedOver>,
    named: Vec<PackageName>,
}

/// A range of a manifest that is written again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RewrittenRange {
    /// What it is the range of, with the manifest or table where that isn't clear.
    pub of: String,
    /// The range before.
    pub old: Range,
    /// The range after.
    pub new: Range,
}

/// A package that had to move though nobody named it.
pub struct ForcedMove<'p> {
    /// The package.
    pub package: &'p PackageName,
    /// Why, sentence by sentence.
    pub why: Vec<&'p str>,
    /// Why, whole.
    pub conflict: &'p Conflict,
}

impl Plan {
    /// The packages that had to move though nobody named them.
    pub fn forced_moves(&self) -> Vec<ForcedMove<'_>> {
        let changes = self.change.report().changes.into_iter();
        let moved = changes.filter(|change| change.old.is_some() && change.new.is_some());
        let forced = moved.filter_map(|change| {
            let package = &change.new?.name;
            let is_forced =
                |conflict: &&Conflict| conflict.held.contains(package) && !self.named.contains(package);
            let conflict = self.forced.iter().find(is_forced)?;
            let why = conflict.without_question().map(|sentence| sentence.text.as_str()).collect();
            Some((package.clone(), why, conflict))
        });
        let lock = self.change.lock();
        let forced = forced.filter_map(|(name, why, conflict)| {
            Some(ForcedMove { package: &lock.package(&name)?.name, why, conflict })
        });
        forced.collect()
    }
}

/// Works out what an update comes to.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let workspace = WorkspaceFolder::open(context.folder, request.is_dry_run, context.listener)?;
    let lock = workspace.needed_lock()?;
    let asked = Asked::of(request, &workspace, lock)?;
    let loosened = asked.loosened(&workspace)?;
    let freshness = asked.freshness();
    let resolver =
        Resolver::open_fresh(&workspace, &loosened, freshness, context.environment, &request.options)?;
    let leaves = request.complies || request.leaves_advisories;
    let loosened = resolver.bound_anew(&loosened, &lock.charters, &asked.charters)?;
    let asked = if leaves { asked.leaving(&workspace, lock, &resolver, context)? } else { asked };
    let Updated { mut resolution, forced } = asked.moved(&loosened, lock, &resolver, &request.options)?;
    let edits = asked.rewritten(&workspace, &resolution)?;
    let declared = workspace.bound_by(workspace.edited(&edits)?, loosened.bound.clone())?;
    let rewritten = rewritten_ranges(&workspace.declared, &declared);
    let new = resolver.lock_of(&declared, &mut resolution)?;
    let registries = resolver.registries;
    let problem = Problem::new(&declared, &[]);
    let named = asked.named().to_vec();
    // Where something has to leave, the nearest release is the requested one.
    let furthest = if asked.complies { &[][..] } else { &named };
    let chosen = furthest.iter().filter_map(|name| new.package(name));
    let passed_over = chosen.filter_map(|chosen| passed_over(&problem, &registries, chosen)).collect();
    let wanted = Wanted { edits, declared, lock: new, warnings: registries.warnings() };
    let change = PlannedChange::new(workspace, wanted, &registries);
    Ok(Plan { change, rewritten, forced, passed_over, named })
}

/// What is asked to move.
struct Asked {
    /// The packages; `None` for all.
    packages: Option<Vec<PackageName>>,
    /// Whether they were named, and not just are all that some projects reach.
    is_named: bool,
    /// The projects whose needs may change; none for all.
    projects: Vec<PackageName>,
    /// Whether ranges may change.
    is_beyond: bool,
    /// Whether tags may name another commit than the lock has.
    accepts_moved: bool,
    /// Whether these are to leave for the nearest releases that will do.
    complies: bool,
    /// Whether for advisories alone.
    leaves_advisories: bool,
    /// The charters that move.
    charters: MovingCharters,
}

impl Asked {
    fn of(request: &Request, workspace: &WorkspaceFolder, lock: &Lock) -> Result<Self, Failure> {
        let is_charter = |word: &&String| lock.charters.iter().any(|charter| charter.name.as_str() == *word);
        let (charters, packages): (Vec<&String>, Vec<&String>) =
            request.packages.iter().partition(is_charter);
        let charters = charters.into_iter().map(|word| Failure::read_word(word)).collect::<Result<_, _>>()?;
        let named = packages.into_iter().map(|word| locked_name(lock, word));
        let named: Vec<PackageName> = named.collect::<Result<_, _>>()?;
        let (is_named, projects) = (!request.packages.is_empty(), request.projects.names(workspace)?);
        let leaves = request.complies || request.leaves_advisories;
        let moves_all = !is_named && projects.is_empty() && !leaves;
        let charters = if moves_all { MovingCharters::All } else { MovingCharters::Only(charters) };
        let packages = match (is_named, projects.is_empty()) {
            (true, _) => Some(named),
            (false, true) => None,
            (false, false) => Some(reached(lock, &projects)),
        };
        Ok(Self {
            packages,
            is_named,
            projects,
            is_beyond: request.is_beyond,
            accepts_moved: request.accepts_moved,
            complies: false,
            leaves_advisories: request.leaves_advisories,
            charters,
        })
    }

    /// Of what is asked, the packages that the rules forbid or that advisories affect.
    fn leaving(
        self,
        workspace: &WorkspaceFolder,
        lock: &Lock,
        resolver: &Resolver<'_>,
        context: &Context<'_>,
    ) -> Result<Self, Failure> {
        let of = if self.leaves_advisories { Leaving::Advisories } else { Leaving::Forbidden };
        let forbidden = leaving(workspace, lock, &resolver.registries, of, context)?.into_iter();
        let is_asked = |name: &PackageName| self.packages.as_ref().is_none_or(|asked| asked.contains(name));
        let packages = Some(forbidden.filter(is_asked).collect());
        Ok(Self { packages, is_named: true, complies: true, ..self })
    }

    /// The packages that were named.
    fn named(&self) -> &[PackageName] {
        self.packages.as_deref().filter(|_| self.is_named).unwrap_or_default()
    }

    /// Whether a need's range may change.
    fn has(&self, project: &Project, need: &Need) -> bool {
        self.packages.as_ref().is_none_or(|packages| packages.contains(&need.package))
            && (self.projects.is_empty() || self.projects.contains(project.name()))
    }

    /// What has to be looked for again.
    fn freshness(&self) -> Freshness {
        let Some(packages) = &self.packages else { return Freshness::AllAnew };
        let packages = packages.iter().cloned().collect();
        if self.accepts_moved { Freshness::Moved(packages) } else { Freshness::Anew(packages) }
    }

    fn moved(
        &self,
        declared: &Workspace,
        lock: &Lock,
        resolver: &Resolver<'_>,
        options: &SearchOptions,
    ) -> Result<Updated, Failure> {
        let registries: &Registries = &resolver.registries;
        let problem = Problem::new(declared, &lock.packages);
        registries.prefetch_closure(&needs_of(&problem));
        let updated = match &self.packages {
            Some(leaving) if self.complies => comply(&problem, leaving, self.leaves_advisories, registries),
            Some(reached) if !self.is_named => update_among(&problem, reached, registries),
            // Only charters move, and what they don't allow any more.
            Some(none) if none.is_empty() => reconcile(&problem, &[], registries),
            _ => update(&problem, self.named(), registries),
        };
        updated.or_else(|unresolved| {
            let conflict = conflict_of(unresolved)?;
            let ways = if self.complies { self.ways_out(problem, &conflict, resolver)? } else { Vec::new() };
            Err(failure::conflict(conflict, ways, options.in_full))
        })
    }

    /// How needs could change so that what the rules forbid can leave.
    fn ways_out(
        &self,
        problem: Problem,
        conflict: &Conflict,
        resolver: &Resolver<'_>,
    ) -> Result<Vec<Way>, Failure> {
        let leaving = self.packages.iter().flatten().cloned().collect();
        let problem = Problem { leaving, leaves_advisories: self.leaves_advisories, ..problem };
        let ways = relaxed(&problem, conflict, &resolver.registries)?;
        Ok(as_commands(&ways, resolver.workspace, &resolver.workspace.declared))
    }

    /// What is declared where, beyond the ranges, any version will do.
    fn loosened(&self, workspace: &WorkspaceFolder) -> Result<Workspace, Failure> {
        let mut texts = ManifestEdits::of(workspace);
        for (project, need) in self.open_needs(workspace) {
            set_range(&mut texts, project, need, &Range::any())?;
        }
        workspace.edited(&texts.edits())
    }

    /// The needs whose ranges may change.
    fn open_needs<'w>(&self, workspace: &'w WorkspaceFolder) -> Vec<(&'w Project, &'w Need)> {
        // A charter's range is written with the charter.
        let needs = workspace.declared.needs().filter(|(_, need)| self.is_beyond && !need.is_chartered);
        needs.filter(|(project, need)| self.has(project, need) && need.has_releases()).collect()
    }

    /// The manifests with ranges that accept what was chosen; those that do are left alone.
    fn rewritten(&self, workspace: &WorkspaceFolder, resolution: &Resolution) -> Result<Edits, Failure> {
        let mut texts = ManifestEdits::of(workspace);
        for (project, need) in self.open_needs(workspace) {
            let chosen = resolution.package(&need.package).map(|chosen| &chosen.release.entry.version);
            let set = need.range.set(need.prereleases);
            if let Some(version) = chosen.filter(|version| !set.contains(version.point())) {
                let is_exact = need.range.only().is_some();
                let range = if is_exact { Range::exactly(version) } else { Range::from_version(version) };
                set_range(&mut texts, project, need, &range)?;
            }
        }
        Ok(texts.edits())
    }
}

/// Changes the range of a need where it is declared: with the need, its family or, for all, in the root.
fn set_range(
    texts: &mut ManifestEdits<'_>,
    project: &Project,
    need: &Need,
    range: &Range,
) -> Result<(), Failure> {
    let of_project = need.family.as_ref().is_none_or(|family| project.manifest.families.contains_key(family));
    let text = texts.open(if need.is_shared || !of_project { "" } else { &project.folder })?;
    match &need.family {
        _ if need.is_shared => text.set_shared(&need.package, range),
        Some(family) => text.set_family(family, range),
        None => text.set_need(need.purpose.as_ref(), &need.package, range),
    }
    Ok(())
}

/// The packages that some projects reach and that are in no folder.
fn reached(lock: &Lock, projects: &[PackageName]) -> Vec<PackageName> {
    let packages = lock.packages_of(projects).into_iter();
    packages.filter(|package| package.source.path().is_none()).map(|package| package.name.clone()).collect()
}

/// The ranges that differ.
fn rewritten_ranges(old: &Workspace, new: &Workspace) -> Vec<RewrittenRange> {
    let own = |need: &Need| need.family.is_none() && !need.is_shared && !need.is_chartered;
    let needs = old.needs().zip(new.needs()).filter(|(_, (_, new))| own(new));
    let is_alone = new.projects.len() == 1;
    let needs = needs.map(|((_, old), (project, new))| {
        let of = if is_alone { String::new() } else { format!("{} ", file_name(&project.folder)) };
        (format!("{of}{}", new.package), &old.range, &new.range)
    });
    let families = old.families.iter().zip(&new.families);
    let families = families.map(|((_, old), (name, new))| (format!("[families] {name}"), old, new));
    let shared = old.shared.iter().zip(&new.shared);
    let shared = shared.map(|((_, old), (name, new))| (format!("[shared] {name}"), old, new));
    let all = needs.chain(families).chain(shared).filter(|(_, old, new)| old != new);
    all.map(|(of, old, new)| RewrittenRange { of, old: old.clone(), new: new.clone() }).collect()
}
