//! `verify`: every file of the shelf against what was installed.

use std::collections::BTreeSet;
use std::path::Path;
use std::time::Instant;

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_store::verify::{Damaged, Depth, Difference, Finding, Verified};
use serde_json::json;

use super::settle::say_installed;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::{Progress, shared_with};
use crate::project::{Edits, Only, Project, ShelfPart, open_store};
use crate::show::{count, table};
use crate::ui::{Ui, clean, style, styled};

/// Most differences that are listed one by one.
const MOST_LISTED: usize = 40;

/// Compare every file of the shelf with the lock
///
/// Tells what is missing, changed or extra; with --repair puts it right, fetching anew what is damaged in the
/// store as well. A file whose size and time are those that it was installed with counts as unchanged, unless --full
/// has every byte read.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax verify --repair\n  bibliotax verify --full --store")]
pub struct Verify {
    /// Read every byte, also of files that nobody seems to have touched
    #[arg(long)]
    full: bool,
    #[command(flatten)]
    members: Only,
    /// Look at the store's copies of the lock's packages, too
    #[arg(long)]
    store: bool,
    /// Put right what differs
    #[arg(long)]
    repair: bool,
    /// With --repair: show what would be put right and write nothing
    #[arg(long, requires = "repair")]
    dry_run: bool,
}

impl Verify {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let progress = Progress::new(ui);
        let (project, _held) = Project::hold(here, &progress)?;
        let members = self.members.names(&project)?;
        let project = project.only(ShelfPart { members, ..ShelfPart::default() });
        let lock = project.needed_lock()?;
        if project.is_locked() {
            project.hold_lock(lock)?;
        }
        if self.repair && !self.dry_run {
            project.fetch(lock, &project.workspace, &progress)?;
        }
        let depth = if self.full { Depth::Bytes } else { Depth::SizeAndTime };
        let verified = project.verify(lock, depth, &progress)?;
        let (differing, alike) = by_findings(lock, &verified.findings);
        // What differs there may be the store's own file under another name, so that all of it is read.
        let mut damaged = project.damaged_in_store(&differing, Depth::Bytes)?;
        if self.store {
            damaged.extend(project.damaged_in_store(&alike, depth)?);
        }
        drop(progress);
        show(ui, &verified);
        if self.store || !damaged.is_empty() {
            show_store(ui, &damaged);
        }
        let is_well = verified.findings.is_empty() && damaged.is_empty();
        let repairs = self.repair && !self.dry_run && !is_well;
        if repairs {
            repair(ui, &project, lock, &verified.findings, &damaged)?;
        } else if !is_well {
            ui.say("next: `bibliotax verify --repair` puts it right");
        }
        let result = || {
            json!({ "packages": verified.packages, "files": verified.files, "findings": verified.findings,
            "store": damaged, "full": self.full, "repaired": repairs })
        };
        ui.report("verify", result);
        Ok(if is_well || repairs { Exit::Done } else { crate::codes::exit_of("verify.differs") })
    }
}

fn show_store(ui: &Ui, damaged: &[Damaged]) {
    let head = styled(style::STRONG, "store");
    if damaged.is_empty() {
        ui.say(format!("{head}: all copies as they came"));
        return;
    }
    ui.answer(format!("{head}: {}", count(damaged.len(), "damaged copy")));
    let row = |damaged: &Damaged| {
        vec![
            format!(" {}", styled(style::BAD, "damaged")),
            damaged.package.to_string(),
            damaged.archive.short(),
        ]
    };
    ui.answer(table(ui, damaged.iter().map(row)));
    damaged.iter().filter_map(|damaged| shared_with(&damaged.shared_by)).for_each(|told| ui.answer(told));
}

/// The packages of a lock that differ on the shelf, and the others.
fn by_findings<'l>(lock: &'l Lock, findings: &[Finding]) -> (Vec<&'l LockedPackage>, Vec<&'l LockedPackage>) {
    let names: BTreeSet<&PackageName> =
        findings.iter().filter_map(|finding| finding.package.as_ref()).collect();
    lock.packages.iter().partition(|package| names.contains(&package.name))
}

fn show(ui: &Ui, verified: &Verified) {
    let looked_at = format!("{}, {}", count(verified.packages, "package"), count(verified.files, "file"));
    if verified.findings.is_empty() {
        ui.say(format!("{}: all as installed ({looked_at})", styled(style::STRONG, "shelf")));
        return;
    }
    let number = count(verified.findings.len(), "difference");
    ui.answer(format!("{}: {number} from what was installed ({looked_at})", styled(style::STRONG, "shelf")));
    ui.answer(table(ui, verified.findings.iter().take(MOST_LISTED).map(row)));
    if let Some(more) = verified.findings.len().checked_sub(MOST_LISTED).filter(|more| *more > 0) {
        ui.answer(format!("  and {more} more; `--format json` lists all"));
    }
}

fn row(finding: &Finding) -> Vec<String> {
    let (style, word) = match finding.difference {
        Difference::Missing => (style::BAD, "missing"),
        Difference::Changed => (style::BAD, "changed"),
        Difference::Extra => (style::WARNING, "extra"),
        Difference::Unknown => (style::WARNING, "unknown"),
    };
    let package = finding.package.as_ref().map_or("of no package", PackageName::as_str);
    let target = finding.target.as_ref().map(|target| format!(" ({target})")).unwrap_or_default();
    let path = match finding.difference {
        Difference::Unknown => "the store has no copy to compare it with".to_owned(),
        _ if finding.path.is_empty() => "all of it".to_owned(),
        _ => clean(&finding.path),
    };
    vec![format!(" {}", styled(style, word)), format!("{package}{target}"), path]
}

/// Takes damaged copies out of the store, and builds the packages that differ anew: those whose copy is damaged, too, from
/// their archives.
fn repair(
    ui: &Ui,
    project: &Project,
    lock: &Lock,
    findings: &[Finding],
    damaged: &[Damaged],
) -> Result<(), Failure> {
    let begun = Instant::now();
    let names: BTreeSet<PackageName> =
        findings.iter().filter_map(|finding| finding.package.clone()).collect();
    let store = open_store()?;
    let gone: BTreeSet<Digest> = damaged.iter().map(|damaged| damaged.archive).collect();
    for digest in gone {
        ui.warn(format!("the store's copy of archive {} is damaged; fetching it anew", digest.short()));
        store.discard(&digest)?;
    }
    let progress = Progress::new(ui);
    project.fetch(lock, &project.workspace, &progress)?;
    let installed = project.install(lock, &project.workspace, &Edits::new(), &names, &progress)?;
    drop(progress);
    say_installed(ui, installed, begun);
    Ok(())
}
