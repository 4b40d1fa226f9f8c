//! What `update` shows.

use bibliotax_app::update::{ForcedMove, Plan, RewrittenRange};

use super::changes;
use crate::ui::{Ui, style, styled};

/// Shows what moves, and what had to move with it.
pub fn show(ui: &Ui, plan: &Plan, complies: bool) {
    let head = styled(style::STRONG, "manifest");
    for RewrittenRange { of, old, new } in &plan.rewritten {
        ui.say(format!("{head}: {of} = \"{new}\" instead of \"{old}\""));
    }
    let report = plan.change.report();
    super::warnings(ui, report.warnings);
    changes::show_all(ui, &report);
    if report.changes.is_empty() && complies {
        ui.say("nothing to update: the rules allow all that is locked");
    } else if report.changes.is_empty() {
        ui.say("nothing to update; see `bibliotax newer` for releases beyond the ranges");
    }
    for ForcedMove { package, why, .. } in plan.forced_moves() {
        ui.say(format!("  {package} had to change:"));
        why.iter().for_each(|sentence| ui.say(format!("    {sentence}")));
    }
    changes::show_passed_over(ui, &plan.passed_over);
}
