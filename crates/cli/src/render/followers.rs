//! Shows what a charter that isn't published yet would do in workspaces.

use bibliotax_app::publish::{Follower, Follows, Outcome};
use bibliotax_present::changes;
use bibliotax_present::table::Table;

use crate::ui::{Ui, clean, style, styled};

/// Shows what a charter would do in a workspace.
pub fn show_follower(ui: &Ui, follower: &Follower) {
    let follows = match &follower.follows {
        None | Some(Follows::Already) => String::new(),
        Some(Follows::OtherRange(range)) => format!(" (its range {range} doesn't accept this release yet)"),
        Some(Follows::NotYet) => " (doesn't take it on yet)".to_owned(),
    };
    let name = styled(style::STRONG, clean(&follower.folder));
    match &follower.outcome {
        Outcome::Resolved(resolved) => {
            let changes = resolved.changes();
            let what = if changes.is_empty() { "nothing moves".to_owned() } else { changes::tally(&changes) };
            ui.answer(format!("{name}: {what}{follows}"));
            if !changes.is_empty() {
                ui.answer(ui.lines_of(&Table::of(changes::rows(&changes, resolved.lock())).titled(2)));
            }
            resolved.forbidden.iter().for_each(|sentence| ui.answer(format!("  {sentence}")));
        }
        Outcome::Failed(failure) => {
            ui.answer(format!("{name}: {}{follows}", clean(&failure.message)));
            failure.reasons().iter().for_each(|sentence| ui.answer(format!("  {}", clean(sentence))));
        }
    }
}
