//! The status of published releases: withdrawn, restored, deprecated.

use bibliotax_core::card::{Deprecation, Event, Restoration, Undeprecation, Withdrawal};
use bibliotax_core::escape::{escaped, is_hidden};
use bibliotax_core::history::History;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::version::Version;
use jiff::Timestamp;

use crate::model::error::RegistryError;
use crate::model::storage::{ReadRegistryExt, RegistryStorage, WriteRegistryExt};

/// Longest reason, in characters: everybody who has the package gets to see it, and it is kept for good.
const MAX_REASON_LEN: usize = 1000;

/// A change of how releases stand.
#[derive(Debug, Clone)]
pub enum Change {
    /// A release is not to be chosen any more.
    Withdraw {
        /** Which. */
        version: Version,
        /** Why, for people. */
        reason: String,
    },
    /// A withdrawal is taken back.
    Restore {
        /** Of which. */
        version: Version,
    },
    /// Releases still work, but something else is better.
    Deprecate {
        /** Which. */
        range: Range,
        /** Why, for people. */
        reason: String,
        /** What to use. */
        instead: Option<PackageName>,
    },
    /// A deprecation is taken back.
    Undeprecate {
        /** Of which. */
        range: Range,
    },
}

/// Checks a reason, which is shown on one line.
pub(crate) fn check_reason(reason: &str) -> Result<(), RegistryError> {
    let length = reason.chars().count();
    if reason.trim().is_empty() {
        Err(RegistryError::NoReason)
    } else if length > MAX_REASON_LEN {
        let why = format!("it has {length} characters; the limit is {MAX_REASON_LEN}");
        Err(RegistryError::WrongReason { why })
    } else if let Some(hidden) = reason.chars().find(|c| is_hidden(*c)) {
        let hidden = escaped(hidden.encode_utf8(&mut [0; 4])).into_owned();
        Err(RegistryError::WrongReason { why: format!("it has the hidden character {hidden}") })
    } else {
        Ok(())
    }
}

/// Sees that people are sent to a package that the registry has, and to another one.
pub(crate) fn check_instead(
    name: &PackageName,
    instead: &PackageName,
    is_there: bool,
) -> Result<(), RegistryError> {
    if is_there && instead != name {
        return Ok(());
    }
    let what = if is_there { "a package can't replace itself" } else { "the registry has no such package" };
    Err(RegistryError::NothingThere { package: instead.clone(), what: what.to_owned() })
}

impl Change {
    /// Makes the change in a registry; whether it was so already.
    pub fn make(
        &self,
        registry: &dyn RegistryStorage,
        name: &PackageName,
        at: Timestamp,
    ) -> Result<bool, RegistryError> {
        if let Some(instead) = self.instead() {
            check_instead(name, instead, registry.history_text(instead)?.is_some())?;
        }
        // Before anything is begun for a package that isn't there.
        self.events(name, &registry.history(name)?.unwrap_or_default(), at)?;
        let appended = registry.append(name, &mut |history| self.events(name, history, at))?;
        registry.update_name_list_after(vec![(name.clone(), appended > 0)])?;
        Ok(appended == 0)
    }

    /// The change that leads to it; nothing where it is reached already.
    pub(crate) fn events(
        &self,
        name: &PackageName,
        history: &History,
        at: Timestamp,
    ) -> Result<Vec<Event>, RegistryError> {
        if let Self::Withdraw { reason, .. } | Self::Deprecate { reason, .. } = self {
            check_reason(reason)?;
        }
        let nothing = |what: String| RegistryError::NothingThere { package: name.clone(), what };
        if history.releases().is_empty() {
            return Err(nothing("the registry has no such package".to_owned()));
        }
        if let Self::Withdraw { version, .. } | Self::Restore { version } = self
            && history.release(version).is_none()
        {
            return Err(nothing(format!("there is no release {version}")));
        }
        if let Self::Deprecate { range, .. } | Self::Undeprecate { range } = self {
            let set = range.set(true);
            if !history.releases().iter().any(|release| set.contains(release.entry.version.point())) {
                return Err(nothing(format!("there is no release in {range}")));
            }
        }
        if self.is_so(history) {
            return Ok(Vec::new());
        }
        let event = self.event(at);
        history.clone().apply(name, event.clone()).map_err(nothing)?;
        Ok(vec![event])
    }

    /// The package that is to be used instead.
    pub(crate) fn instead(&self) -> Option<&PackageName> {
        if let Self::Deprecate { instead, .. } = self { instead.as_ref() } else { None }
    }

    /// The version or range that it is about.
    pub fn what(&self) -> String {
        match self {
            Self::Withdraw { version, .. } | Self::Restore { version } => version.to_string(),
            Self::Deprecate { range, .. } | Self::Undeprecate { range } => range.to_string(),
        }
    }

    fn event(&self, at: Timestamp) -> Event {
        match self.clone() {
            Self::Withdraw { version, reason } => Event::Withdrawn(Withdrawal { version, reason, at }),
            Self::Restore { version } => Event::Restored(Restoration { version, at }),
            Self::Deprecate { range, reason, instead } => {
                Event::Deprecated(Deprecation { range, reason, instead, at })
            }
            Self::Undeprecate { range } => Event::Undeprecated(Undeprecation { range, at }),
        }
    }

    fn is_so(&self, history: &History) -> bool {
        match self {
            Self::Withdraw { version, .. } => {
                history.release(version).is_some_and(|release| release.withdrawn.is_some())
            }
            Self::Restore { version } => {
                history.release(version).is_some_and(|release| release.withdrawn.is_none())
            }
            Self::Deprecate { range, reason, instead } => all_in(range, history, |said| {
                said.is_some_and(|said| said.reason == *reason && said.instead == *instead)
            }),
            Self::Undeprecate { range } => all_in(range, history, |said| said.is_none()),
        }
    }
}

/// Whether all releases in a range have it, by their events.
fn all_in(range: &Range, history: &History, is_so: impl Fn(Option<&Deprecation>) -> bool) -> bool {
    let concerned = range.set(true);
    let mut releases = history.releases().iter();
    releases.all(|release| {
        !concerned.contains(release.entry.version.point()) || is_so(release.deprecated.as_ref())
    })
}
