//! What `publish`, `withdraw` and `deprecate` show.

use bibliotax_app::publish::Plan;
use bibliotax_app::release_status;
use bibliotax_archive::select::{LeftOut, PackFile, in_words};
use bibliotax_present::charters;
use bibliotax_present::words::{self, count, size};
use bibliotax_registry::model::release::{Published, Release};
use bibliotax_registry::model::release_status::Change;
use bibliotax_registry::publish::pack::SuspectFile;

use super::followers::show_follower;
use crate::json::publish::{Deprecate, NewStatus, Status, Withdraw};
use crate::ui::{Ui, clean, style, styled};

/// Most files that are warned of one by one.
const MAX_SUSPECTS: usize = 10;

/// Shows what people should know before anybody gets the release.
pub fn show_warnings(ui: &Ui, plan: &Plan) {
    super::warnings(ui, &plan.warnings);
    for SuspectFile { path, suspect } in plan.suspects.iter().take(MAX_SUSPECTS) {
        ui.warn(format!("{path} seems to contain {} in line {}", suspect.what, suspect.line));
    }
    if let Some(more) = plan.suspects.len().checked_sub(MAX_SUSPECTS).filter(|more| *more > 0) {
        ui.warn(format!("{more} more files seem to contain secrets"));
    }
}

/// Shows what would be published.
pub fn show_plan(ui: &Ui, plan: &Plan) {
    let release = &*plan.release;
    for (file, contents) in release.card.files.iter().zip(&release.parts) {
        if release.parts.len() > 1 {
            let only_for = if file.only_for.is_empty() {
                String::new()
            } else {
                format!(", for {}", words::fits(&file.only_for))
            };
            ui.answer(format!("{}{only_for}", styled(style::STRONG, &file.part)));
        }
        ui.answer(ui.table(contents.iter().map(file_row)));
    }
    if !release.left_out.is_empty() {
        ui.answer(styled(style::STRONG, "left out"));
        let row = |left: &LeftOut| vec![format!(" {}", clean(&left.path)), left.why.in_words().to_owned()];
        ui.answer(ui.table(release.left_out.iter().map(row)));
    }
    match release.card.charter.as_deref() {
        Some(charter) => ui.say(format!("a charter: {}", charters::stated(charter))),
        None => {
            let files = release.parts.iter().flatten().count();
            ui.say(format!("{}, {} before packing", count(files, "file"), size(release.size())));
        }
    }
    plan.followers.iter().for_each(|follower| show_follower(ui, follower));
    ui.say(format!("{} would go to {}; nothing was published", title(release), plan.registry()));
}

fn file_row(file: &PackFile) -> Vec<String> {
    let runs = if file.executable { "can be run" } else { "" };
    vec![format!(" {}", clean(file.path.as_str())), size(file.size), runs.to_owned()]
}

/// A release's name and version.
pub fn title(release: &Release) -> String {
    format!("{} {}", release.card.name, release.card.version)
}

/// Says what is left out of a release that is going to be published.
pub fn show_left_out(ui: &Ui, plan: &Plan) {
    if !plan.release.left_out.is_empty() {
        ui.say(format!("left out: {}", in_words(&plan.release.left_out)));
    }
}

/// What a release was made from.
pub struct Packed {
    /// Its name and version.
    pub title: String,
    /// How many files.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// The registry.
    pub registry: String,
}

impl Packed {
    /// What a plan's release is made from.
    pub fn of(plan: &Plan) -> Self {
        let release = &*plan.release;
        let files = release.parts.iter().flatten().count();
        Self { title: title(release), files, bytes: release.size(), registry: plan.registry().to_owned() }
    }
}

/// Shows what was published.
pub fn show_published(ui: &Ui, packed: &Packed, published: &Published) {
    let Packed { title, files, bytes, registry } = packed;
    let (archives, size_of_all) = (published.files.len(), published.files.iter().map(|file| file.size).sum());
    let in_archives =
        if archives == 1 { String::new() } else { format!(" in {}", count(archives, "archive")) };
    let what = if archives == 0 {
        "no files".to_owned()
    } else {
        format!("{}{in_archives}, {} packed from {}", count(*files, "file"), size(size_of_all), size(*bytes))
    };
    let done = if published.already {
        format!("{title} {}", styled(style::STRONG, "exists already"))
    } else {
        format!("{} {title}", styled(style::STRONG, "published"))
    };
    ui.say(format!("{done} in {registry} ({what})"));
}

/// Shows that the status of releases changed, or would; `already` says whether it had been changed before, where it was changed.
pub fn show_status(ui: &Ui, plan: &release_status::Plan, already: Option<bool>) {
    let (done, status) = match plan.change {
        Change::Withdraw { .. } => ("withdrawn", NewStatus::Withdrawn),
        Change::Restore { .. } => ("restored", NewStatus::Restored),
        Change::Deprecate { .. } => ("deprecated", NewStatus::Deprecated),
        Change::Undeprecate { .. } => ("no longer deprecated", NewStatus::NoLongerDeprecated),
    };
    let (registry, what) = (plan.registry(), plan.change.what());
    let title = format!("{} {what}", plan.package);
    match already {
        None => ui.say(format!("{title} would be {done} in {registry}; nothing was written")),
        Some(already) => {
            let before = if already { " already" } else { "" };
            ui.say(format!("{title} is{before} {} in {registry}", styled(style::STRONG, done)));
        }
    }
    let is_deprecation = matches!(plan.change, Change::Deprecate { .. } | Change::Undeprecate { .. });
    let status = Status::of(plan, status, already);
    if is_deprecation {
        ui.report(|| Deprecate(status));
    } else {
        ui.report(|| Withdraw(status));
    }
}
