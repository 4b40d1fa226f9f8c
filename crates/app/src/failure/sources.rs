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
            return Some(failure.advice("add a `card` to the need, with what the manifest should say"));
        }
        E::Archive { package, source } => {
            return Some(store::of_archive(format!("the archive of {package} can't be used"), source));
        }
        E::NoGit => "install git, or use a registry or an archive".to_owned(),
        E::BadTree { .. } => {
            "ask its maintainers, or use another commit or folder (nothing was installed)".to_owned()
        }
        E::Git { .. } => {
            "check the URL, and that `git ls-remote URL` works here without asking for anything".to_owned()
        }
        E::GitOffline { .. } => {
            "run the command once with a network; the repository is cached then".to_owned()
        }
        E::NoCommit { .. } => "check the name; `git ls-remote URL` lists branches and tags".to_owned(),
        E::MovedTag { package, .. } => format!(
            "ask its maintainers why; to accept the new commit, run `bibliotax update {package} --accept-moved`"
        ),
        E::OtherName { found, .. } => format!("declare it by its own name: `{found}`"),
        E::NoArchive { .. } => "ask its maintainers; what is in the store can still be installed".to_owned(),
        E::ChangedArchive { package, url, .. } => {
            format!("ask its maintainers why; to accept it, run `bibliotax need {package} --archive {url}`")
        }
        _ => return None,
    };
    Some(Failure::new(error.code(), error.to_string()).advice(advice))
}
