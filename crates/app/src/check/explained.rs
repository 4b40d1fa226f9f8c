//! `check --explain`: one kind of finding, or one advisory: what it is, who brings the package in, since when, and what mends it.

use std::path::Path;

use bibliotax_core::advisory::{Advisory, Affecting};
use bibliotax_core::graph::{NeedPath, paths_to};
use bibliotax_core::lock::{self, Lock, LockedPackage, Scope};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{Catalogue, Problem, Resolution, Unresolved, comply, ways_out as relaxed};
use bibliotax_core::rules::Rule;
use bibliotax_core::version::Version;
use bibliotax_present::words::count;
use bibliotax_registry::catalogue::registries::Registries;

use super::codes::{FindingCode, finding_code};
use super::location::locate;
use super::{Finding, Subject};
use crate::failure::{Failure, Way};
use crate::git::WorkingCopy;
use crate::machine::this_machine;
use crate::resolving::ways_out::as_commands;
use crate::workspace::WorkspaceFolder;

/// Most findings that are explained in full.
const MAX_FINDINGS: usize = 20;

/// What a word means for a workspace.
pub struct Explanation {
    /// The kind of finding, where the word is a code.
    pub code: Option<&'static FindingCode>,
    /// The advisory, where the word is one.
    pub advisory: Option<Advisory>,
    /// The findings that are meant.
    pub findings: Vec<ExplainedFinding>,
}

/// A finding, with all that is known of it.
pub struct ExplainedFinding {
    /// The finding.
    pub finding: Finding,
    /// The shortest path from a project to the package.
    pub path: Option<NeedPath>,
    /// The commit that brought the locked version into the lock.
    pub since: Option<LockCommit>,
    /// The nearest release that the advisory doesn't affect.
    pub fixed_in: Option<Version>,
    /// What mends it; each was tried.
    pub ways: Vec<Way>,
}

/// A commit of the lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockCommit {
    /// Its name, in short.
    pub commit: String,
    /// Its day.
    pub date: String,
    /// The first line of its message.
    pub subject: String,
}

/// Explains what a word means among findings.
pub(super) fn explain(
    word: &str,
    findings: &[Finding],
    workspace: &WorkspaceFolder,
    lock: &Lock,
    registries: &Registries,
) -> Result<Explanation, Failure> {
    let is_meant = |finding: &&Finding| {
        let is_advisory = match &finding.subject {
            Subject::Rule { advisory: Some(advisory), .. } => advisory.names.contains(word),
            _ => false,
        };
        is_advisory || finding.is_called(word)
    };
    let meant: Vec<&Finding> = findings.iter().filter(is_meant).take(MAX_FINDINGS).collect();
    let mut meant: Vec<Finding> = meant.into_iter().cloned().collect();
    locate(&mut meant, workspace);
    let code = finding_code(word).or_else(|| finding_code(&format!("rules.{word}")));
    let code = code.or_else(|| finding_code(meant.first()?.code));
    let named = meant.iter().find_map(|finding| match &finding.subject {
        Subject::Rule { advisory: Some(advisory), .. } if advisory.names.contains(word) => Some(&advisory.id),
        _ => None,
    });
    let advisory = registries.feeds().named(named.map_or(word, String::as_str));
    if meant.is_empty() && code.is_none() && advisory.is_none() {
        let message = format!("`{word}` is neither a kind of finding nor an advisory of the feeds");
        return Err(Failure::new("check.unknown", message)
            .advice("`bibliotax check` shows the codes and advisories that there are"));
    }
    let findings = meant.iter().map(|finding| explained(finding, workspace, lock, registries));
    Ok(Explanation { code, advisory, findings: findings.collect::<Result<_, _>>()? })
}

fn explained(
    finding: &Finding,
    workspace: &WorkspaceFolder,
    lock: &Lock,
    registries: &Registries,
) -> Result<ExplainedFinding, Failure> {
    let package = finding.package.as_ref().and_then(|name| lock.package(name));
    let machine = this_machine();
    let path = package
        .and_then(|package| paths_to(lock, &package.name, &Scope::all(&machine), 1).shown.into_iter().next());
    let fixed_in = package.map(|package| fixed_in(finding, package, registries)).transpose()?.flatten();
    Ok(ExplainedFinding {
        path,
        since: package.and_then(|package| since(package, &workspace.root)),
        fixed_in,
        ways: package
            .map(|package| ways(finding, package, workspace, lock, registries))
            .transpose()?
            .unwrap_or_default(),
        finding: finding.clone(),
    })
}

/// The nearest release that the advisory of a finding doesn't affect.
fn fixed_in(
    finding: &Finding,
    package: &LockedPackage,
    registries: &Registries,
) -> Result<Option<Version>, Failure> {
    let Subject::Rule { advisory: Some(advisory), .. } = &finding.subject else { return Ok(None) };
    let Some(listing) = registries.listing(&package.name)? else { return Ok(None) };
    let affecting = registries.advisories(&listing)?;
    let is_this = |one: &&Affecting| one.advisory.id == advisory.id;
    let fixed = affecting
        .iter()
        .find(is_this)
        .and_then(|one| one.fixed_after(&package.version, listing.history.releases()));
    Ok(fixed.cloned())
}

/// The commit that brought the locked version of a package into the lock; none where it isn't committed.
fn since(package: &LockedPackage, root: &Path) -> Option<LockCommit> {
    let copy = WorkingCopy::find(root).ok()??;
    let path = copy.path_of(&root.join(lock::FILE_NAME))?;
    // How the line of a package begins in the lock.
    let begin = format!("{{\"name\":\"{}\",\"version\":\"{}\"", package.name, package.version);
    let args = ["log", "-1", "--format=%h%x00%cs%x00%s", &format!("-S{begin}"), "--", path.as_str()];
    let text = copy.ask(args)?;
    let mut pieces = text.trim_end().splitn(3, '\0').map(str::to_owned);
    Some(LockCommit {
        commit: pieces.next().filter(|commit| !commit.is_empty())?,
        date: pieces.next()?,
        subject: pieces.next()?,
    })
}

/// What mends a finding, as commands; each was tried.
fn ways(
    finding: &Finding,
    package: &LockedPackage,
    workspace: &WorkspaceFolder,
    lock: &Lock,
    registries: &Registries,
) -> Result<Vec<Way>, Failure> {
    let Subject::Rule { rule, .. } = &finding.subject else { return Ok(Vec::new()) };
    let name = &package.name;
    if finding.is_unaccepted_license {
        let command = format!("bibliotax accept {name}");
        return Ok(vec![Way { command, note: "accepts the licence for the team".to_owned() }]);
    }
    let of_advisory = *rule == Rule::Advisories;
    if !of_advisory && !finding.is_forbidden || matches!(rule, Rule::Moving | Rule::StandIns) {
        return Ok(Vec::new());
    }
    let problem = Problem::new(&workspace.declared, &lock.packages);
    match comply(&problem, std::slice::from_ref(name), of_advisory, registries) {
        Ok(update) => {
            let option = if of_advisory { "--advisories" } else { "--comply" };
            let command = format!("bibliotax update {name} {option}");
            Ok(vec![Way { command, note: moves(lock, name, &update.resolution) }])
        }
        Err(Unresolved::Conflict(conflict)) => {
            let leaving = [name.clone()].into();
            let problem = Problem { leaving, leaves_advisories: of_advisory, ..problem };
            let ways = relaxed(&problem, &conflict, registries)?;
            Ok(as_commands(&ways, workspace, &workspace.declared))
        }
        Err(_) => Ok(Vec::new()),
    }
}

/// What a resolution moves: the package, and how many others.
fn moves(lock: &Lock, name: &PackageName, resolution: &Resolution) -> String {
    let moved = resolution.packages.iter().filter(|chosen| {
        let entry = &chosen.release.entry;
        lock.package(&entry.name).is_some_and(|locked| locked.version != entry.version)
    });
    let others = moved.filter(|chosen| chosen.release.entry.name != *name).count();
    let others =
        if others == 0 { String::new() } else { format!(", and {}", count(others, "other package")) };
    match resolution.package(name) {
        Some(chosen) => format!("moves {name} to {}{others}", chosen.release.entry.version),
        None => format!("{name} leaves the lock{others}"),
    }
}
