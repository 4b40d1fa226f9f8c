//! Errors of git repositories and archives by URL as failures.

use bibliotax_registry::RegistryError;

use super::{Failure, store};

/// The failure of a source; `None` where the error is about something else.
pub fn failure_of(error: &RegistryError) -> Option<Failure> {
    use RegistryError as E;
    let advice = match error {
        E::BadManifest { place, text, faults, .. } => {
            let failure = Failure::in_text(format!("bibliotax.toml in {place}"), text, faults.clone());
            let failure = Failure { code: error.code(), ..failure };
            return Some(failure.advice("a `card` with the need can say what that manifest should"));
        }
        E::Archive { package, source } => {
            return Some(store::of_archive(format!("the archive of {package} can't be used"), source));
        }
        E::NoGit => "install git, or take the package from a registry or an archive".to_owned(),
        E::BadTree { .. } => {
            "nothing was installed; ask its keepers, or take another commit or folder of it".to_owned()
        }
        E::Git { .. } => {
            "check the URL, and that `git ls-remote URL` works here without asking for anything".to_owned()
        }
        E::GitOffline { .. } => "fetch it once with a network: it is kept from then on".to_owned(),
        E::NoCommit { .. } => "check the name; `git ls-remote URL` lists branches and tags".to_owned(),
        E::MovedTag { package, .. } => format!(
            "ask its keepers why; if it is right, take it anew: `bibliotax drop {package}`, then need it again"
        ),
        E::OtherName { found, .. } => format!("need it by its own name: `{found}`"),
        E::NoArchive { .. } => "ask its keepers where it went; what the store has still installs".to_owned(),
        E::ChangedArchive { package, url, .. } => format!(
            "ask its keepers why; if it is right, look at it anew: `bibliotax need {package} --archive {url}`"
        ),
        _ => return None,
    };
    Some(Failure::new(error.code(), error.to_string()).advice(advice))
}
