//! Where a person keeps what opens hosts: in variables, in the keyring of the system, or in a file that nobody else can read.
//!
//! A variable is for a registry by its name in the manifest, or for a host; keyring and file are for hosts. Registries of
//! containers are opened by what their own tools keep, too.

mod containers;
mod file;
mod keyring;

use bibliotax_core::name::RegistryName;
use bibliotax_registry::RegistryError;
use bibliotax_registry::credentials::{Credential, Credentials, Door};

pub use self::file::CredentialFile;
pub use self::keyring::Keyring;

/// All places of a person, asked in this order.
pub struct Wallet;

impl Credentials for Wallet {
    fn find(&self, door: &Door<'_>) -> Result<Option<Credential>, RegistryError> {
        let Door { host, registry, is_for_containers } = *door;
        let names = registry.map(RegistryName::as_str).into_iter().chain([host]);
        if let Some(credential) = names.map(token_variable).find_map(|variable| in_environment(&variable)) {
            return Ok(Some(credential));
        }
        if let Some(credential) = Keyring::open().and_then(|keyring| keyring.find(host)) {
            return Ok(Some(credential));
        }
        let in_file = CredentialFile::of_person().map_or(Ok(None), |file| file.find(host))?;
        Ok(in_file.or_else(|| is_for_containers.then(|| containers::find(host)).flatten()))
    }
}

/// The variable that holds the token for a registry of this name, or for a host.
pub fn token_variable(name: &str) -> String {
    let letter = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' };
    format!("BIBLIOTAX_TOKEN_{}", name.chars().map(letter).collect::<String>())
}

fn in_environment(variable: &str) -> Option<Credential> {
    let token = std::env::var(variable).ok().filter(|token| !token.trim().is_empty())?;
    Some(Credential::token(token, format!("the variable {variable}")))
}
