//! What `update` shows.

use bibliotax_app::update::{ForcedMove, Plan, RewrittenRange};

use super::changes;
use crate::ui::{Ui, style, styled};

/// Shows what moves, and what had to move with it.
pub fn show(ui: &Ui, plan: &Plan, nothing: &str) {
    let head = styled(style::STRONG, "manifest");
    for RewrittenRange { of, old, new } in &plan.rewritten {
        ui.say(format!("{head}: {of} = \"{new}\" instead of \"{old}\""));
    }
    let report = plan.change.report();
    super::warnings(ui, report.warnings);
    changes::show_all(ui, &report);
    if report.changes.is_empty() && report.charters.is_empty() {
        ui.say(nothing);
    }
    for ForcedMove { package, why, .. } in plan.forced_moves() {
        ui.say(format!("  {package} had to change:"));
        why.iter().for_each(|sentence| ui.say(format!("    {sentence}")));
    }
    changes::show_passed_over(ui, &plan.passed_over);
}
