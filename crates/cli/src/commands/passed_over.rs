//! Which newer release was not taken, and why: what `need` and `update` tell of the packages they were asked for.

use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem, Unresolved, resolve};
use bibliotax_core::version::Version;
use bibliotax_registry::registries::Registries;

use crate::ui::Ui;

/// Says why the newest release of a package could not be chosen, where an older one was.
///
/// The problem has nothing locked, so that only needs are told as reasons.
pub fn say(ui: &Ui, problem: &Problem, registries: &Registries, chosen: &LockedPackage) {
    let Some(newest) = newest(registries, &chosen.name).filter(|newest| *newest > chosen.version) else {
        return;
    };
    match resolve(&problem.asking(&chosen.name, &Range::exactly(&newest)), registries) {
        Err(Unresolved::Conflict(conflict)) => {
            ui.say(format!("  passed over {} {newest}:", chosen.name));
            let sentences = conflict.without_question();
            sentences.for_each(|sentence| ui.say(format!("    {}", sentence.text)));
        }
        // What can't be looked up now is told by whoever needs it.
        Err(Unresolved::Catalogue(_) | Unresolved::GaveUp(_)) => {}
        Ok(_) => {
            ui.say(format!("  passed over {} {newest}: it would move packages that are locked", chosen.name));
        }
    }
}

/// The newest release that could be chosen: final and not withdrawn.
fn newest(registries: &Registries, package: &PackageName) -> Option<Version> {
    let listing = registries.listing(package).ok()??;
    let mut releases = listing.history.releases().iter().rev();
    let newest = releases.find(|release| !release.entry.version.is_pre() && release.withdrawn.is_none())?;
    Some(newest.entry.version.clone())
}
