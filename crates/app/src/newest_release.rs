//! Why the newest release of a package was not taken, where an older one was.

use bibliotax_core::fitting;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::resolve::{Catalogue, Problem, Unresolved, resolve};
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::registries::Registries;

/// A newest release that was not taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PassedOver {
    /// The package.
    pub package: PackageName,
    /// Its newest release.
    pub newest: Version,
    /// Why it can't be: sentences that lead there; none where it could, and would move packages that are locked.
    pub why: Vec<String>,
}

/// Why the newest release of a package could not be chosen; `None` where it was.
///
/// The problem has nothing locked, so that only needs are given as reasons.
pub fn passed_over(problem: &Problem, registries: &Registries, chosen: &LockedPackage) -> Option<PassedOver> {
    let listing = registries.listing(&chosen.name).ok().flatten()?;
    let newest = fitting::newest(listing.history.releases())?.entry.version.clone();
    if newest <= chosen.version {
        return None;
    }
    let why = match resolve(&problem.asking(&chosen.name, &Range::exactly(&newest)), registries) {
        Ok(_) => Vec::new(),
        Err(Unresolved::Conflict(conflict)) => {
            conflict.without_question().map(|sentence| sentence.text.clone()).collect()
        }
        // What can't be looked up now is reported by the code that needs it.
        Err(Unresolved::Catalogue(_) | Unresolved::GaveUp(_) | Unresolved::Open(_)) => return None,
    };
    Some(PassedOver { package: chosen.name.clone(), newest, why })
}
