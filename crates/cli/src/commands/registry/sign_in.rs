//! `registry sign-in` and `registry sign-out`: keeps what opens a host, and forgets it.

use std::io::{self, BufRead, IsTerminal};
use std::path::Path;

use bibliotax_core::source::without_user;
use bibliotax_registry::client::credentials::Credential;
use bibliotax_registry::client::origin::Origin;
use serde_json::json;

use super::trying::{Tried, asked_at, try_out};
use crate::codes::Exit;
use crate::credentials::{CredentialFile, Keyring, TOKENS};
use crate::failure::Failure;
use crate::project::Project;
use crate::ui::Ui;

/// Keep what opens a registry's host
///
/// The token is asked for, or read from the input, tried, and kept in the keyring of the system. It is sent to that host
/// alone, the same way (`https` or `http`) and to the same port.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry sign-in fernhollow\n  bibliotax registry sign-in https://garden.example:5000 --user moss < password.txt"
)]
pub struct SignIn {
    /// A registry that the manifest declares, or a host
    registry: String,
    /// A user's name, who has a password instead of a token
    #[arg(long, value_name = "NAME")]
    user: Option<String>,
    /// Keep it in a file that only you can read, instead of the keyring
    #[arg(long)]
    file: bool,
}

/// Forget what opens a registry's host
#[derive(Debug, clap::Args)]
#[command(after_help = "Example:\n  bibliotax registry sign-out fernhollow")]
pub struct SignOut {
    /// A registry that the manifest declares, or a host
    registry: String,
}

impl SignIn {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let origin = origin_of(&self.registry, here)?;
        if !names_a_host(&self.registry) && !io::stdin().is_terminal() {
            // Nobody would see whom the manifest, which others may have changed, gives the secret to.
            let what = "a secret that isn't typed is kept for a host, not for a name in a manifest";
            let mend = format!("name the host: `bibliotax registry sign-in {origin}`");
            return Err(Failure::new("credentials.host", what).mend(mend));
        }
        let secret = self.ask(&origin)?;
        let tried = try_out(&self.registry, &origin, self.credential(&secret), here);
        if matches!(tried, Tried::Refused) {
            let what = if self.user.is_some() { "user and password" } else { "token" };
            let failure = Failure::new("token.unknown", format!("{origin} doesn't know this {what}"));
            return Err(failure.mend(
                "nothing was kept; see that it was copied whole, or ask the registry's keepers for a new one",
            ));
        }
        let place = self.keep(&origin, &secret)?;
        let opens = match tried {
            Tried::Unknown(why) => {
                ui.warn(format!("it could not be tried: {why}"));
                None
            }
            Tried::Opens | Tried::Refused => Some(true),
        };
        ui.say(format!("kept for {origin} in {place}"));
        ui.report(
            "registry sign-in",
            || json!({ "host": origin.to_string(), "kept-in": place, "opens": opens }),
        );
        Ok(Exit::Done)
    }

    fn credential(&self, secret: &str) -> Credential {
        match &self.user {
            Some(user) => Credential::password(user.as_str(), secret, "what was typed"),
            None => Credential::token(secret, "what was typed"),
        }
    }

    /// The secret, asked for without showing it, or the first line of the input.
    fn ask(&self, origin: &Origin) -> Result<String, Failure> {
        let what = self.user.as_ref().map_or("token".to_owned(), |user| format!("password of {user}"));
        let read = if io::stdin().is_terminal() {
            rpassword::prompt_password(format!("{what} for {origin}: "))
        } else {
            let mut line = String::new();
            io::stdin().lock().read_line(&mut line).map(|_| line)
        };
        let secret = read.unwrap_or_default().trim().to_owned();
        if secret.is_empty() {
            let failure = Failure::new("token.missing", format!("there is no {what} to keep"));
            return Err(
                failure.mend("type it where it is asked for, or let it come from a file: `< token.txt`")
            );
        }
        Ok(secret)
    }

    fn keep(&self, origin: &Origin, secret: &str) -> Result<String, Failure> {
        let user = self.user.as_deref();
        if self.file {
            let file = file()?;
            file.keep(origin, user, secret)?;
            return Ok(format!("the file {}", file.path().display()));
        }
        if Keyring::open().is_some_and(|keyring| keyring.keep(origin, user, secret)) {
            return Ok("the keyring".to_owned());
        }
        let failure = Failure::new("credentials.unusable", "there is no keyring here that could keep it");
        Err(failure.mend(format!(
            "`--file` keeps it in a file that only you can read; or let the variable {TOKENS} say `{origin} TOKEN`"
        )))
    }
}

impl SignOut {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let origin = origin_of(&self.registry, here)?;
        let in_keyring = Keyring::open().is_some_and(|keyring| keyring.forget(&origin));
        let in_file = file()?.forget(&origin)?;
        let there_was = in_keyring || in_file;
        let told = if there_was { "forgotten" } else { "there was nothing to forget" };
        ui.say(format!("{told} for {origin}"));
        ui.report("registry sign-out", || json!({ "host": origin.to_string(), "forgotten": there_was }));
        Ok(Exit::Done)
    }
}

fn file() -> Result<CredentialFile, Failure> {
    CredentialFile::of_person().ok_or_else(|| {
        let failure = Failure::new("disk.missing", "there is no home folder to keep a file in");
        failure.mend("say where it should be: BIBLIOTAX_CREDENTIALS=FILE")
    })
}

/// Whether a word is a host or a URL, and no name that a manifest could give to a registry.
fn names_a_host(word: &str) -> bool {
    word.contains(['.', ':', '/'])
}

/// Whom a secret is for by a word: the name of a registry that the manifest declares, a URL, or a host.
fn origin_of(word: &str, here: &Path) -> Result<Origin, Failure> {
    let project = Project::without_lock(here).ok().filter(|_| !names_a_host(word));
    let declared = project.and_then(|project| {
        let registries = &project.workspace.registries;
        let registry = registries.iter().find(|registry| registry.name.as_str() == word)?;
        Some(asked_at(registry))
    });
    let place = declared.unwrap_or_else(|| word.to_owned());
    place.parse().map_err(|_| {
        let what = format!("`{}` is on no host that could be opened", without_user(&place));
        Failure::new("credentials.host", what).mend(
            "name a registry of the manifest that has a URL, or a host: `https://packages.seedhouse.example`",
        )
    })
}
