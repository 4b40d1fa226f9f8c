//! `publish`: from this project folder to a registry.

use std::path::Path;

use bibliotax_archive::select::{LeftOut, PackFile, in_words};
use bibliotax_core::card::CardNeed;
use bibliotax_core::history::History;
use bibliotax_core::lock::Lock;
use bibliotax_core::manifest::Need;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::{Member, Workspace};
use bibliotax_present::words;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::publish::pack::{Release, SuspectFile, prepare};
use serde_json::{Value, json};

use super::supply;
use crate::clock::now;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::progress::Progress;
use crate::project::{In, Project};
use crate::show::{count, size, table};
use crate::ui::{Ui, clean, style, styled};

/// Most files that are warned of one by one.
const MOST_SUSPECTS: usize = 10;

/// Publish this project as a release
///
/// The card comes from the manifest and its `[card]` part; the archive holds the files that are not hidden, or those
/// that `files` under `[card]` asks for. What belongs to version control, what it ignores and what may hold a secret
/// goes along only where it is named itself, without a wildcard. A release is never replaced.
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax publish seedhouse --dry-run")]
pub struct Publish {
    /// A registry that the manifest declares, or a registry's folder; not needed where one is declared
    registry: Option<String>,
    #[command(flatten)]
    members: In,
    /// List what would go, with sizes, and publish nothing
    #[arg(long)]
    dry_run: bool,
    /// Publish though something stands in for a package in this workspace
    #[arg(long)]
    allow_replaced: bool,
}

impl Publish {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::find(here)?;
        let member = self.members.one(&project)?;
        if !self.allow_replaced {
            refuse_replaced(&project.workspace)?;
        }
        let registry = supply::registry(self.registry.as_deref(), Some(&project), here)?;
        let needs = published_needs(&project.workspace, member, project.sound_lock()?, &registry)?;
        let folder = project.root.join(&member.folder);
        let release = prepare(&member.manifest, &member.project, needs, &folder, now())?;
        let release = release.acceptable_to(&registry)?;
        check_promise(ui, &project, member)?;
        heed_suspects(ui, &release)?;
        let mut result = as_json(&release);
        let title = format!("{} {}", release.card.name, release.card.version);
        if self.dry_run {
            list(ui, &release);
            ui.say(format!("{title} would go to {}; nothing was published", registry.name()));
        } else {
            if !release.left_out.is_empty() {
                ui.say(format!("left out: {}", in_words(&release.left_out)));
            }
            let (files, bytes) = (release.parts.iter().flatten().count(), release.size());
            let published = release.publish_to(&registry, &Progress::new(ui))?;
            let packed = published.files.iter().map(|file| file.size).sum();
            let archives = if published.files.len() == 1 {
                String::new()
            } else {
                format!(" in {}", count(published.files.len(), "archive"))
            };
            let what = if published.files.is_empty() {
                "no files".to_owned()
            } else {
                format!("{}{archives}, {} packed from {}", count(files, "file"), size(packed), size(bytes))
            };
            let done = if published.already {
                format!("{title} {}", styled(style::STRONG, "is there already"))
            } else {
                format!("{} {title}", styled(style::STRONG, "published"))
            };
            ui.say(format!("{done} in {} ({what})", registry.name()));
            result["card"]["files"] = json!(published.files);
            result["already"] = published.already.into();
        }
        ui.report("publish", || result);
        Ok(Exit::Done)
    }
}

/// What was only tried with something that stands in for a package may not work for whoever gets the package itself.
fn refuse_replaced(workspace: &Workspace) -> Result<(), Failure> {
    let names: Vec<&str> = workspace.replaced.keys().map(PackageName::as_str).collect();
    if names.is_empty() {
        return Ok(());
    }
    let message = format!("`[replace]` has something stand in for {}", names.join(", "));
    Err(Failure::new("publish.replaced", message).mend(
        "try it with the package itself: take that out, install, and publish then; or say `--allow-replaced`",
    ))
}

/// Warns of files that look as if they held secrets, before anybody can get them.
fn heed_suspects(ui: &Ui, release: &Release) -> Result<(), Failure> {
    let suspects = release.suspects()?;
    for SuspectFile { path, suspect } in suspects.iter().take(MOST_SUSPECTS) {
        ui.warn(format!("{path} has what looks like {} in line {}", suspect.what, suspect.line));
    }
    if suspects.len() > MOST_SUSPECTS {
        ui.warn(format!("{} more files look as if they held secrets", suspects.len() - MOST_SUSPECTS));
    }
    Ok(())
}

/// A promise is kept only if some set of releases that the needs allow keeps it, too.
fn check_promise(ui: &Ui, project: &Project, member: &Member) -> Result<(), Failure> {
    let registries = project.registries(&project.workspace)?;
    if member.manifest.fits.is_empty() || registries.is_empty() {
        return Ok(());
    }
    project.resolve(&project.workspace, &registries)?;
    registries.heeds().iter().for_each(|heed| ui.warn(heed));
    Ok(())
}

/// What a member needs as others will see it: what it takes from folders, repositories and archives, by the ranges in which that
/// is published.
fn published_needs(
    workspace: &Workspace,
    member: &Member,
    lock: Option<&Lock>,
    registry: &Registry,
) -> Result<Vec<CardNeed>, Failure> {
    let published = |need: &Need| {
        let mut card_need = CardNeed::from(need);
        if let Some(project) = workspace.project_of(member, need) {
            card_need.range = published_range(&project.version(), need, registry)?;
        } else if need.source.is_some() {
            let version = lock.and_then(|lock| Some(&lock.package(&need.package)?.version));
            card_need.range = match version {
                Some(version) => published_range(version, need, registry)?,
                None => return Err(not_locked_yet(need)),
            };
        }
        Ok(card_need)
    };
    member.manifest.needs.iter().map(published).collect()
}

/// The range in which what comes from elsewhere is needed by who gets it from a registry: as the need says, else from its version
/// on.
fn published_range(version: &Version, need: &Need, registry: &Registry) -> Result<Range, Failure> {
    let name = &need.package;
    let is_said = need.range != Range::any();
    let range = if is_said { need.range.clone() } else { Range::from_version(version) };
    let history = registry.history_until(name, None)?;
    let releases = history.iter().flat_map(History::releases);
    let set = range.set(need.prereleases);
    if releases
        .filter(|release| release.withdrawn.is_none())
        .any(|release| set.contains(release.entry.version.point()))
    {
        return Ok(range);
    }
    let message =
        format!("{name} comes from elsewhere here, and {} has no release of it in {range}", registry.name());
    Err(Failure::new("publish.unpublished", message)
        .mend(format!("publish {name} first: whoever gets this release gets that one from a registry")))
}

fn not_locked_yet(need: &Need) -> Failure {
    let message = format!("it isn't known yet which version of {} this project works with", need.package);
    Failure::new("lock.missing", message).mend("run `bibliotax install`")
}

fn list(ui: &Ui, release: &Release) {
    let row = |file: &PackFile| {
        let runs = if file.executable { "can be run" } else { "" };
        vec![format!(" {}", clean(file.path.as_str())), size(file.size), runs.to_owned()]
    };
    for (file, contents) in release.card.files.iter().zip(&release.parts) {
        if release.parts.len() > 1 {
            let only_for = if file.only_for.is_empty() {
                String::new()
            } else {
                format!(", for {}", words::fits(&file.only_for))
            };
            ui.answer(format!("{}{only_for}", styled(style::STRONG, &file.part)));
        }
        ui.answer(table(ui, contents.iter().map(row)));
    }
    if !release.left_out.is_empty() {
        ui.answer(styled(style::STRONG, "left out"));
        let row = |left: &LeftOut| vec![format!(" {}", clean(&left.path)), left.why.in_words().to_owned()];
        ui.answer(table(ui, release.left_out.iter().map(row)));
    }
    let files = release.parts.iter().flatten().count();
    ui.say(format!("{}, {} before packing", count(files, "file"), size(release.size())));
}

fn as_json(release: &Release) -> Value {
    let file = |file: &PackFile| json!({ "path": file.path.as_str(), "size": file.size, "executable": file.executable });
    let parts = release.card.files.iter().zip(&release.parts).map(|(record, contents)| {
        json!({ "part": record.part, "for": record.only_for,
            "files": contents.iter().map(file).collect::<Vec<_>>() })
    });
    let left_out = |left: &LeftOut| json!({ "path": left.path, "why": left.why.in_words() });
    let mut card = json!(release.card);
    // Nothing is packed yet: what its archives are is known once they are published.
    card.as_object_mut().map(|card| card.remove("files"));
    json!({ "card": card, "contents": parts.collect::<Vec<_>>(),
        "left-out": release.left_out.iter().map(left_out).collect::<Vec<_>>() })
}
