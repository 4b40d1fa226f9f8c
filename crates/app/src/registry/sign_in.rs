//! `registry sign-in` and `registry sign-out`: credentials saved for a host, and deleted.

use bibliotax_core::source::without_user;
use bibliotax_registry::client::credentials::Credential;
use bibliotax_registry::client::origin::Origin;

use super::try_secret::{Tried, asked_at, try_out};
use crate::context::Context;
use crate::credentials::{CredentialFile, Keyring, TOKENS};
use crate::failure::Failure;
use crate::workspace::WorkspaceFolder;

/// What people call the system's keyring.
const KEYRING: &str = "the keyring";

/// The host that credentials are for, and where they are saved.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// A registry that the manifest declares, or a host.
    pub registry: String,
    /// A user's name, who has a password instead of a token.
    pub user: Option<String>,
    /// Whether they are kept in a file instead of the keyring.
    pub in_file: bool,
}

/// Credentials that were saved.
pub struct Saved {
    /// Where.
    pub place: String,
    /// Why they couldn't be tried before, where they couldn't.
    pub untried: Option<String>,
}

impl Request {
    /// The host that the credentials are for. Where the secret isn't typed it has to be named itself.
    pub fn origin(&self, is_typed: bool, context: &Context<'_>) -> Result<Origin, Failure> {
        let origin = origin_of(&self.registry, context)?;
        if !names_a_host(&self.registry) && !is_typed {
            // Others may have changed the manifest, so the person has to see the host that gets the secret.
            let what = "a secret from standard input is saved for a host, not for a name in a manifest";
            let advice = format!("name the host: `bibliotax registry sign-in {origin}`");
            return Err(Failure::new("credentials.host", what).advice(advice));
        }
        Ok(origin)
    }

    /// What is asked for.
    pub fn secret_name(&self) -> String {
        self.user.as_ref().map_or("token".to_owned(), |user| format!("password of {user}"))
    }

    /// Tries a secret, and saves it unless the host doesn't know it, or in a dry run.
    pub fn save(
        &self,
        origin: &Origin,
        secret: &str,
        is_dry_run: bool,
        context: &Context<'_>,
    ) -> Result<Saved, Failure> {
        if secret.is_empty() {
            let failure = Failure::new("token.missing", format!("no {} was given", self.secret_name()));
            return Err(failure.advice("type it at the prompt, or redirect it from a file: `< token.txt`"));
        }
        let untried = match try_out(&self.registry, origin, self.credential(secret), context) {
            Tried::Refused => return Err(self.refused(origin)),
            Tried::Unknown(why) => Some(why),
            Tried::Opens => None,
        };
        let place =
            if is_dry_run { self.place(origin, context)? } else { self.keep(origin, secret, context)? };
        Ok(Saved { place, untried })
    }

    fn refused(&self, origin: &Origin) -> Failure {
        let what = if self.user.is_some() { "user and password" } else { "token" };
        Failure::new("token.unknown", format!("{origin} refuses this {what}")).advice(
            "check that it was copied completely, or get a new one from the registry's maintainers (nothing was saved)",
        )
    }

    fn credential(&self, secret: &str) -> Credential {
        match &self.user {
            Some(user) => Credential::password(user.as_str(), secret, "the prompt"),
            None => Credential::token(secret, "the prompt"),
        }
    }

    /// Where secrets are saved.
    fn place(&self, origin: &Origin, context: &Context<'_>) -> Result<String, Failure> {
        if self.in_file {
            return Ok(format!("the file {}", file(context)?.path().display()));
        }
        Keyring::open().map(|_| KEYRING.to_owned()).ok_or_else(|| no_keyring(origin))
    }

    fn keep(&self, origin: &Origin, secret: &str, context: &Context<'_>) -> Result<String, Failure> {
        let user = self.user.as_deref();
        if self.in_file {
            let file = file(context)?;
            file.keep(origin, user, secret)?;
            return self.place(origin, context);
        }
        if Keyring::open().is_some_and(|keyring| keyring.keep(origin, user, secret)) {
            return Ok(KEYRING.to_owned());
        }
        Err(no_keyring(origin))
    }
}

fn no_keyring(origin: &Origin) -> Failure {
    let failure = Failure::new("credentials.unusable", "this machine has no keyring");
    failure.advice(format!(
        "save it in a file that only you can read: `--file`; or set {TOKENS}=\"{origin} TOKEN\""
    ))
}

/// Deletes what is kept for a host, unless in a dry run; the host, and whether there was anything.
pub fn sign_out(registry: &str, is_dry_run: bool, context: &Context<'_>) -> Result<(Origin, bool), Failure> {
    let origin = origin_of(registry, context)?;
    if is_dry_run {
        let in_keyring = Keyring::open().and_then(|keyring| keyring.find(&origin)).is_some();
        let is_there = in_keyring || file(context)?.find(&origin)?.is_some();
        return Ok((origin, is_there));
    }
    let in_keyring = Keyring::open().is_some_and(|keyring| keyring.forget(&origin));
    let in_file = file(context)?.forget(&origin)?;
    Ok((origin, in_keyring || in_file))
}

fn file<'c>(context: &Context<'c>) -> Result<&'c CredentialFile, Failure> {
    context.environment.credentials.file.as_ref().ok_or_else(|| {
        let failure = Failure::new("disk.missing", "there is no home folder for the file");
        failure.advice("set the environment variable BIBLIOTAX_CREDENTIALS to a file")
    })
}

/// Whether a word is a host or a URL, and no name that a manifest could give to a registry.
fn names_a_host(word: &str) -> bool {
    word.contains(['.', ':', '/'])
}

/// The host that a word means: that of a registry that the manifest declares, of a URL, or itself.
fn origin_of(word: &str, context: &Context<'_>) -> Result<Origin, Failure> {
    let workspace = WorkspaceFolder::without_lock(context.folder).ok().filter(|_| !names_a_host(word));
    let declared = workspace.and_then(|workspace| {
        let registries = &workspace.declared.registries;
        let registry = registries.iter().find(|registry| registry.name.as_str() == word)?;
        Some(asked_at(registry))
    });
    let place = declared.unwrap_or_else(|| word.to_owned());
    place.parse().map_err(|_| {
        let what = format!("`{}` isn't on a host that needs credentials", without_user(&place));
        Failure::new("credentials.host", what)
            .advice("use a declared registry that has a URL, or a host: `https://packages.seedhouse.example`")
    })
}
