//! Tries a secret on its host before it is saved.

use std::path::Path;
use std::sync::Arc;

use bibliotax_core::location::Location;
use bibliotax_core::manifest::{Allowed, RegistryDeclaration};
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::client::credentials::{Credential, CredentialRequest, Credentials};
use bibliotax_registry::client::network::Network;
use bibliotax_registry::client::origin::Origin;

use crate::context::Context;
use crate::workspace::WorkspaceFolder;

/// What came of trying a secret.
pub enum Tried {
    /// It opens the host.
    Opens,
    /// The host doesn't know it.
    Refused,
    /// It could not be tried, for this reason.
    Unknown(String),
}

/// This secret for its host, and nothing for others.
struct Only {
    origin: Origin,
    credential: Credential,
}

impl Credentials for Only {
    fn find(&self, door: &CredentialRequest<'_>) -> Result<Option<Credential>, RegistryError> {
        Ok((*door.origin == self.origin).then(|| self.credential.clone()))
    }
}

/// Tries a secret on the registry that a word names, or else on one that the manifest declares on that host.
pub fn try_out(word: &str, origin: &Origin, credential: Credential, context: &Context<'_>) -> Tried {
    let (here, network) = (context.folder, context.environment.network());
    let without = Network { cache: None, credentials: None, ..network };
    if without.offline {
        return Tried::Unknown("offline mode is on".to_owned());
    }
    let only = Only { origin: origin.clone(), credential };
    let with = Network { credentials: Some(Arc::new(only)), ..without.clone() };
    let mut outcome = Tried::Unknown("no known kind of registry is there".to_owned());
    for declaration in declarations(word, origin, here) {
        match opens(&declaration, here, &with, &without) {
            Ok(true) => return Tried::Opens,
            Ok(false) => outcome = Tried::Refused,
            Err(error) if !matches!(outcome, Tried::Refused) => outcome = Tried::Unknown(error.to_string()),
            Err(_) => {}
        }
    }
    outcome
}

/// Whether the registry lets in who comes with the secret: to publish or, where nobody may read without one, to read.
fn opens(
    declaration: &RegistryDeclaration,
    here: &Path,
    with: &Network,
    without: &Network,
) -> Result<bool, RegistryError> {
    let registry = match Registry::open(declaration, here, with) {
        Err(RegistryError::Refused { status: 401 | 403, .. }) => return Ok(false),
        opened => opened?,
    };
    match registry.opening()? {
        Some((_, false)) => Ok(Registry::open(declaration, here, without).is_err()),
        _ => Ok(true),
    }
}

/// Where a registry is asked: one of containers may be without encryption.
pub fn asked_at(declaration: &RegistryDeclaration) -> String {
    let scheme = if declaration.allowed.plain { "http://" } else { "oci://" };
    declaration.url.replacen("oci://", scheme, 1)
}

/// The registries on a host that a secret for it may be for.
fn declarations(word: &str, origin: &Origin, here: &Path) -> Vec<RegistryDeclaration> {
    let workspace = WorkspaceFolder::without_lock(here).ok();
    let declared = workspace.map(|workspace| workspace.declared.registries).unwrap_or_default();
    let is_there = |declaration: &RegistryDeclaration| {
        asked_at(declaration).parse::<Origin>().is_ok_and(|other| other == *origin)
    };
    let mut found: Vec<RegistryDeclaration> = declared.into_iter().filter(is_there).collect();
    let is_url = matches!(Location::of(word), Location::Url { .. });
    let url = if is_url { word.to_owned() } else { origin.to_string() };
    if found.is_empty()
        && let Ok(name) = "registry".parse()
    {
        let allowed = Allowed { plain: url.starts_with("http://"), ..Allowed::default() };
        found.push(RegistryDeclaration { name, url, mirrors: vec![], allowed, owns: vec![], span: 0..0 });
    }
    found
}
