//! `registry sign-in` and `registry sign-out`: keeps what opens a host, and forgets it.

use std::io::{self, BufRead, IsTerminal};
use std::path::Path;

use bibliotax_registry::remote::host_of as host_in;
use serde_json::json;
use url::Url;

use crate::codes::Exit;
use crate::credentials::{CredentialFile, Keyring, token_variable};
use crate::failure::Failure;
use crate::project::Project;
use crate::ui::Ui;

/// Keep what opens a registry's host
///
/// The token is asked for, or read from the input, and kept in the keyring of the system. It is sent to that host alone.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry sign-in fernhollow\n  bibliotax registry sign-in garden.example:5000 --user moss < password.txt"
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
        let host = host_of(&self.registry, here)?;
        let secret = self.ask(&host)?;
        let place = self.keep(&host, &secret)?;
        ui.say(format!("kept for {host} in {place}"));
        ui.report("registry sign-in", || json!({ "host": host, "kept-in": place }));
        Ok(Exit::Done)
    }

    /// The secret, asked for without showing it, or the first line of the input.
    fn ask(&self, host: &str) -> Result<String, Failure> {
        let what = self.user.as_ref().map_or("token".to_owned(), |user| format!("password of {user}"));
        let read = if io::stdin().is_terminal() {
            rpassword::prompt_password(format!("{what} for {host}: "))
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

    fn keep(&self, host: &str, secret: &str) -> Result<String, Failure> {
        let user = self.user.as_deref();
        if self.file {
            let file = file()?;
            file.keep(host, user, secret)?;
            return Ok(format!("the file {}", file.path().display()));
        }
        if Keyring::open().is_some_and(|keyring| keyring.keep(host, user, secret)) {
            return Ok("the keyring".to_owned());
        }
        let failure = Failure::new("credentials.unusable", "there is no keyring here that could keep it");
        let variable = token_variable(host);
        Err(failure.mend(format!("`--file` keeps it in a file that only you can read, or set {variable}")))
    }
}

impl SignOut {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let host = host_of(&self.registry, here)?;
        let in_keyring = Keyring::open().is_some_and(|keyring| keyring.forget(&host));
        let in_file = file()?.forget(&host)?;
        let there_was = in_keyring || in_file;
        let told = if there_was { "forgotten" } else { "there was nothing to forget" };
        ui.say(format!("{told} for {host}"));
        ui.report("registry sign-out", || json!({ "host": host, "forgotten": there_was }));
        Ok(Exit::Done)
    }
}

fn file() -> Result<CredentialFile, Failure> {
    CredentialFile::of_person().ok_or_else(|| {
        let failure = Failure::new("disk.missing", "there is no home folder to keep a file in");
        failure.mend("say where it should be: BIBLIOTAX_CREDENTIALS=FILE")
    })
}

/// The host that a word means: of a registry that the manifest declares, of a URL, or itself.
fn host_of(word: &str, here: &Path) -> Result<String, Failure> {
    let declared = Project::without_lock(here).ok().and_then(|project| {
        let registries = &project.workspace.registries;
        registries.iter().find(|registry| registry.name.as_str() == word).map(|registry| registry.url.clone())
    });
    let is_host = declared.is_none() && !word.contains('/');
    let place = declared.unwrap_or_else(|| word.to_owned());
    let url = if is_host { format!("https://{place}") } else { place.replacen("oci://", "https://", 1) };
    let host = Url::parse(&url).ok().filter(Url::has_host).map(|url| host_in(&url));
    host.ok_or_else(|| {
        let failure =
            Failure::new("credentials.host", format!("`{place}` is on no host that could be opened"));
        failure
            .mend("name a registry of the manifest that has a URL, or a host: `packages.seedhouse.example`")
    })
}
