//! `verify`: every file of the shelf against what was installed.

use std::collections::BTreeSet;
use std::path::Path;
use std::time::Instant;

use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;
use bibliotax_store::verify::{Difference, Finding, Verified, damaged_trees};
use serde_json::json;

use super::install::not_locked;
use super::settle::say_installed;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{Project, open_store};
use crate::show::{count, table};
use crate::ui::{Ui, clean, style, styled};

/// Most differences that are listed one by one.
const MOST_LISTED: usize = 40;

/// Compare every file of the shelf with the lock
///
/// Tells what is missing, changed or extra; with --repair puts it right, fetching anew what is damaged in the
/// store as well.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax verify --repair")]
pub struct Verify {
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
        let lock = project.sound_lock()?.ok_or_else(not_locked)?;
        project.fetch(lock, &project.manifest, &progress)?;
        let verified = project.verify(lock, &progress)?;
        drop(progress);
        show(ui, &verified);
        let repairs = self.repair && !self.dry_run && !verified.findings.is_empty();
        if repairs {
            repair(ui, &project, lock, &verified.findings)?;
        } else if !verified.findings.is_empty() {
            ui.say("next: `bibliotax verify --repair` puts it right");
        }
        let result = json!({ "packages": verified.packages, "files": verified.files, "findings": verified.findings,
            "repaired": repairs });
        ui.report("verify", result);
        Ok(if verified.findings.is_empty() || repairs {
            Exit::Done
        } else {
            crate::codes::exit_of("verify.differs")
        })
    }
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
        Difference::Extra => (style::HEED, "extra"),
    };
    let package = finding.package.as_ref().map_or("of no package", PackageName::as_str);
    let target = finding.target.as_ref().map(|target| format!(" ({target})")).unwrap_or_default();
    vec![format!(" {}", styled(style, word)), format!("{package}{target}"), clean(&finding.path)]
}

/// Builds the packages that differ anew; where the store's own tree is damaged, from its archive.
fn repair(ui: &Ui, project: &Project, lock: &Lock, findings: &[Finding]) -> Result<(), Failure> {
    let begun = Instant::now();
    let names: BTreeSet<PackageName> =
        findings.iter().filter_map(|finding| finding.package.clone()).collect();
    let packages: Vec<&LockedPackage> = lock.packages.iter().filter(|p| names.contains(&p.name)).collect();
    let store = open_store()?;
    for digest in damaged_trees(&packages, &store)? {
        ui.warn(format!("the store's copy of archive {} is damaged, too; fetching it anew", digest.short()));
        store.discard(&digest)?;
    }
    let progress = Progress::new(ui);
    let installed = project.install(lock, &project.manifest, &names, &progress)?;
    drop(progress);
    say_installed(ui, installed, begun);
    Ok(())
}
