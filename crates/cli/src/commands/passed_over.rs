//! Which newer release was not taken, and why: what `need` and `update` tell of the packages they were asked for.

use bibliotax_core::lock::LockedPackage;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem, Unresolved, resolve};
use bibliotax_registry::catalogue::registries::Registries;

use crate::ui::Ui;
use bibliotax_core::fitting;

/// Says why the newest release of a package could not be chosen, where an older one was.
///
/// The problem has nothing locked, so that only needs are told as reasons.
pub fn say(ui: &Ui, problem: &Problem, registries: &Registries, chosen: &LockedPackage) {
    let listing = registries.listing(&chosen.name).ok().flatten();
    let releases = listing.as_ref().map_or(&[][..], |listing| listing.history.releases());
    let newest = fitting::newest(releases).map(|release| release.entry.version.clone());
    let Some(newest) = newest.filter(|newest| *newest > chosen.version) else { return };
    match resolve(&problem.asking(&chosen.name, &Range::exactly(&newest)), registries) {
        Err(Unresolved::Conflict(conflict)) => {
            ui.say(format!("  passed over {} {newest}:", chosen.name));
            let sentences = conflict.without_question();
            sentences.for_each(|sentence| ui.say(format!("    {}", sentence.text)));
        }
        // What can't be looked up now is told by whoever needs it.
        Err(Unresolved::Catalogue(_) | Unresolved::GaveUp(_) | Unresolved::Open(_)) => {}
        Ok(_) => {
            ui.say(format!("  passed over {} {newest}: it would move packages that are locked", chosen.name));
        }
    }
}
