//! Asks a person to accept the licences that new packages bring.

use bibliotax_app::accept::Unaccepted;
use bibliotax_app::change::PlannedChange;
use bibliotax_app::failure::Failure;
use bibliotax_core::name::PackageName;

use super::question::answer;
use crate::picking::can_ask;
use crate::render::accept;
use crate::run::Run;

/// Has the manifest say which licences are accepted: those named, and on a terminal those that a person agrees to.
///
/// Elsewhere nobody can be asked, so the rest stays open, with a warning.
pub fn settle(
    change: &mut PlannedChange,
    named: &[PackageName],
    is_dry_run: bool,
    run: &Run<'_>,
) -> Result<(), Failure> {
    let waiting = change.unaccepted();
    if let Some(unknown) = named.iter().find(|name| !waiting.iter().any(|one| one.package == **name)) {
        let message = format!("no licence of {unknown} waits to be accepted");
        return Err(
            Failure::new("rules.nothing-to-accept", message).advice("remove it from `--accept-license`")
        );
    }
    let mut accepted = Vec::new();
    for asked in waiting {
        if named.contains(&asked.package) || !is_dry_run && can_ask(run) && agrees(&asked, change, run)? {
            accepted.push(asked);
        }
    }
    accept::show_accepted(run.ui, &accepted);
    change.accept(&accepted)
}

/// Asks whether a licence is accepted; fails where it isn't.
fn agrees(asked: &Unaccepted, change: &PlannedChange, run: &Run<'_>) -> Result<bool, Failure> {
    let file = run.working(|context| change.license_file(&asked.package, context))?;
    accept::show_question(run.ui, asked, file.as_ref());
    loop {
        let text = if file.is_some() { ", t: show the text" } else { "" };
        match answer(&format!("Accept it? (y: yes, n: no, change nothing{text}) ")).as_str() {
            "y" | "yes" => return Ok(true),
            "n" | "no" => return Err(declined(asked)),
            "t" | "text" => file.iter().for_each(|file| accept::show_all(run.ui, file)),
            _ => {}
        }
    }
}

fn declined(asked: &Unaccepted) -> Failure {
    let message = format!(
        "the licence {} of {} wasn't accepted, so nothing was changed",
        asked.license_text(),
        asked.package
    );
    Failure::new("rules.declined", message)
        .advice(format!("`bibliotax find` shows other packages than {}", asked.package))
}
