//! What `history` shows.

use bibliotax_app::history::{CommitChanges, PackageChange, Report, Request};
use bibliotax_core::compare::{Aspect, Kind};
use bibliotax_core::version::Version;
use bibliotax_present::changes::{differing, look, word};
use bibliotax_present::dates::dated;
use jiff::Timestamp;

use crate::json::history::History;
use crate::ui::{Ui, clean, style, styled};

/// How much of a commit's name is shown.
const SHORT: usize = 7;

/// Shows the commits that changed the lock, the newest first.
pub fn show(ui: &Ui, report: &Report, request: &Request, now: Timestamp) {
    if report.commits.is_empty() {
        ui.answer(match request.packages.as_slice() {
            [] => "no commit changed a package of the lock".to_owned(),
            names => format!("no commit brought {} in", clean(&names.join(" or "))),
        });
    }
    for commit in &report.commits {
        show_commit(ui, commit, now);
    }
    if report.has_more {
        ui.say("there are older commits: `--most 0` shows all");
    }
    ui.report(|| History::of(report));
}

fn show_commit(ui: &Ui, commit: &CommitChanges, now: Timestamp) {
    let CommitChanges { commit: name, at, author, subject, changes } = commit;
    let short = styled(style::STRONG, &name[..name.len().min(SHORT)]);
    ui.answer(format!("{short}  {}  {} ({})", dated(*at, now), clean(subject), clean(author)));
    ui.answer(ui.table(changes.iter().map(row)));
}

fn row(change: &PackageChange) -> Vec<String> {
    let (style, word) = (look(&change.kind), word(&change.kind));
    let version = |version: &Option<Version>| version.as_ref().map(ToString::to_string).unwrap_or_default();
    let versions = match (&change.old, &change.new) {
        (Some(old), Some(new)) if old != new => format!("{old} -> {new}"),
        (old, new) => version(if new.is_some() { new } else { old }),
    };
    let is_elsewhere = change.aspects.contains(&Aspect::Source).then(|| "other source".to_owned());
    let same_version = Some(&change.aspects).filter(|_| change.kind == Kind::Changed);
    let charter = change.is_charter.then(|| "charter".to_owned());
    let other: Vec<String> = charter
        .into_iter()
        .chain(is_elsewhere)
        .chain(same_version.and_then(|aspects| differing(aspects)))
        .collect();
    let other = other.join(", ");
    vec![format!("   {}", styled(style, word)), change.name.to_string(), versions, other]
}
