//! `explain`: why a package is here at its version, and why not at another.

use std::path::Path;

use bibliotax_core::compare::compare;
use bibliotax_core::graph::{Way, ways_to};
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_core::nearest::{either, nearest};
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Conflict, Problem, resolve, ways_out};
use bibliotax_core::version::Version;
use bibliotax_present::{changes, conflict as proof};
use bibliotax_registry::catalogue::registries::Registries;
use serde_json::{Value, json};

use super::need::{check_known, words};
use crate::codes::{Exit, exit_of};
use crate::failure::{self, Failure};
use crate::project::ways;
use crate::project::{Project, about_release, needs_of};
use crate::searching::Searching;
use crate::show::{count, table};
use crate::ui::{Ui, clean, style, styled};

/// Most paths that are listed.
const MOST_PATHS: usize = 12;

/// Tell why a package is here at its version, or why it can't be another
///
/// Without a range: the shortest ways from the project to the package, and what keeps newer releases out.
/// With one: why the package can't be in it, with ways out; or that it could be, and what would move.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax explain dew-point\n  bibliotax explain dew-point 2")]
pub struct Explain {
    /// The package, and the range to ask about if there is one
    #[arg(required = true, value_name = "PACKAGE [RANGE]")]
    words: Vec<String>,
    #[command(flatten)]
    searching: Searching,
}

impl Explain {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let wanted = words::parse(&self.words, false)?;
        let [wanted] = wanted.as_slice() else {
            return Err(
                Failure::new("need.words", "one package is explained at a time").mend("name just one")
            );
        };
        let project = Project::find(here)?.searching(self.searching.clone());
        let lock = project.needed_lock()?;
        let registries = project.registries(&project.workspace)?;
        registries.foresee(&needs_of(&Problem::new(&project.workspace, &lock.packages)));
        let explaining =
            Explaining { ui, project: &project, lock, registries: &registries, package: &wanted.package };
        let explained = match &wanted.range {
            None => explaining.why_here(),
            Some(range) => explaining.why_not(range),
        };
        registries.heeds().iter().for_each(|heed| ui.warn(heed));
        explained
    }
}

struct Explaining<'a> {
    ui: &'a Ui,
    project: &'a Project,
    lock: &'a Lock,
    registries: &'a Registries,
    package: &'a PackageName,
}

impl Explaining<'_> {
    fn why_here(&self) -> Result<Exit, Failure> {
        let locked = self.lock.answering(self.package).ok_or_else(|| self.not_here())?;
        let ways = ways_to(self.lock, &locked.name, MOST_PATHS);
        let provides: Vec<&str> = locked.provides.iter().map(PackageName::as_str).collect();
        let provides =
            if provides.is_empty() { String::new() } else { format!(" as {}", provides.join(" and ")) };
        let name = styled(style::STRONG, &locked.name);
        self.ui.answer(format!("{name} {} is needed{provides}", locked.told_version()));
        ways.shown.iter().for_each(|way| self.ui.answer(format!("  {}", self.told(way))));
        if ways.has_more {
            self.ui.answer(format!(
                "  and more ways, none shorter; `bibliotax graph --to {}` draws them",
                locked.name
            ));
        }
        let listing = self.registries.listing(&locked.name).ok().flatten();
        let release = listing.as_ref().and_then(|listing| listing.history.release(&locked.version));
        let standing = release.map(about_release).unwrap_or_default();
        standing.iter().for_each(|told| self.ui.answer(clean(told)));
        let newer = self.newer(locked);
        let mut told = Vec::new();
        for version in &newer {
            told.push(self.holds_back(&locked.name, version)?);
        }
        if newer.is_empty() && standing.is_empty() {
            self.ui.answer("no newer release is there");
        }
        let result = || {
            json!({ "package": locked.name, "version": locked.version, "provides": locked.provides, "ways": ways.shown,
                "has-more-ways": ways.has_more,
                "standing": standing, "newer": told })
        };
        self.ui.report("explain", result);
        Ok(Exit::Done)
    }

    /// A way to the package, in words.
    fn told(&self, way: &Way) -> String {
        let names: Vec<&str> = way.packages.iter().map(PackageName::as_str).collect();
        let through = names.split_last().map_or(&[][..], |(_, through)| through);
        match (through, self.lock.members.as_slice()) {
            ([], [_]) => "by the project itself".to_owned(),
            ([], _) => format!("by {} itself", way.by),
            (through, [_]) => format!("through {}", through.join(", which needs ")),
            (through, _) => format!("by {} through {}", way.by, through.join(", which needs ")),
        }
    }

    /// That the package is not in the lock: because the manifest does without it, or anyhow.
    fn not_here(&self) -> Failure {
        let failure = not_locked_package(self.lock, self.package);
        let without = self.lock.packages.iter().filter(|package| package.left_out.contains(self.package));
        let without: Vec<&str> = without.map(|package| package.name.as_str()).collect();
        match without.as_slice() {
            [] => failure,
            names => failure.because([format!("The manifest needs {} without it.", names.join(" and "))]),
        }
    }

    /// The next newer release and the newest of all, as far as they could be chosen.
    fn newer(&self, locked: &LockedPackage) -> Vec<Version> {
        let listing = self.registries.listing(&locked.name).ok().flatten();
        let releases = listing.iter().flat_map(|listing| listing.history.releases());
        let open = releases.filter(|release| release.withdrawn.is_none() && !release.entry.version.is_pre());
        let newer: Vec<Version> = open
            .map(|release| release.entry.version.clone())
            .filter(|version| *version > locked.version)
            .collect();
        match newer.as_slice() {
            [] | [_] | [_, _] => newer,
            [next, .., newest] => vec![next.clone(), newest.clone()],
        }
    }

    /// Tells what keeps a newer release out.
    fn holds_back(&self, name: &PackageName, version: &Version) -> Result<Value, Failure> {
        let problem = Problem::new(&self.project.workspace, &[]).asking(name, &Range::exactly(version));
        match resolve(&problem, self.registries) {
            Ok(_) => {
                self.ui.answer(format!(
                    "{version} is newer; only the lock, which stays with what it has, keeps it out"
                ));
                Ok(json!({ "version": version, "kept-out-by": "lock" }))
            }
            Err(unresolved) => {
                let conflict = failure::conflict_of(unresolved)?;
                self.ui.answer(format!("{version} is newer and can't be taken:"));
                self.tell(&conflict);
                Ok(json!({ "version": version, "kept-out-by": "needs", "proof": proof::as_json(&conflict) }))
            }
        }
    }

    fn tell(&self, conflict: &Conflict) {
        let lines = proof::answer_lines(conflict, self.project.searching.long);
        lines.iter().for_each(|line| self.ui.answer(format!("  {line}")));
    }

    fn why_not(&self, range: &Range) -> Result<Exit, Failure> {
        check_known(self.registries, self.package)?;
        let workspace = &self.project.workspace;
        let is_needed = self.lock.package(self.package).is_some();
        let asking = |locked: &[LockedPackage]| {
            let problem = Problem::new(workspace, locked);
            if is_needed {
                problem.asking_where_needed(self.package, range)
            } else {
                problem.asking(self.package, range)
            }
        };
        let mut resolution = match resolve(&asking(&self.lock.packages), self.registries) {
            Ok(resolution) => resolution,
            Err(unresolved) => {
                let conflict = failure::conflict_of(unresolved)?;
                return self.not_possible(&asking(&[]), range, &conflict);
            }
        };
        let other = self.project.lock_of(workspace, &mut resolution, self.registries)?;
        let moves = compare(Some(self.lock), &other);
        let version = other.package(self.package).map(LockedPackage::told_version).unwrap_or_default();
        self.ui.answer(format!("{} could be {version}", styled(style::STRONG, self.package)));
        if moves.is_empty() {
            self.ui.answer("nothing would move");
        } else {
            self.ui.answer(format!("{} would move:", count(moves.len(), "package")));
            self.ui.answer(table(self.ui, changes::rows(&moves, &other)));
        }
        let moves = changes::as_json(&moves, &other);
        self.ui.report(
            "explain",
            || json!({ "package": self.package, "range": range, "possible": true, "moves": moves }),
        );
        Ok(Exit::Done)
    }

    fn not_possible(&self, problem: &Problem, range: &Range, conflict: &Conflict) -> Result<Exit, Failure> {
        self.ui.answer(format!("{} can't be in {range}:", styled(style::STRONG, self.package)));
        self.tell(conflict);
        let ways = ways_out(problem, conflict, self.registries)?;
        let ways = ways::as_commands(&ways, self.project, &self.project.workspace);
        self.ui.answer_ways(&ways);
        let result = || {
            json!({ "package": self.package, "range": range, "possible": false, "proof": proof::as_json(conflict),
            "ways-out": ways })
        };
        self.ui.report("explain", result);
        Ok(exit_of("resolve.conflict"))
    }
}

/// The name of the locked package that a word means: its own, or that of a capability that it was taken for.
pub fn locked_name(lock: &Lock, word: &str) -> Result<PackageName, Failure> {
    let name: PackageName = Failure::read_word(word)?;
    let answering = lock.answering(&name).map(|package| package.name.clone());
    answering.ok_or_else(|| not_locked_package(lock, &name))
}

/// That a package is not in the lock, with the nearest that are.
fn not_locked_package(lock: &Lock, package: &PackageName) -> Failure {
    let near = nearest(package.as_str(), lock.packages.iter().map(|package| package.name.as_str()), 3);
    let failure = Failure::new("explain.not-here", format!("`{package}` is not in the lock"));
    match near.as_slice() {
        [] => failure.mend(format!("`bibliotax explain {package} any` tells whether it could be")),
        near => failure.mend(format!("perhaps {} was meant", either(near))),
    }
}
