//! Where a person's credentials are stored: a variable, the system's keyring, or a private file.
//!
//! Each of them says for which scheme, host and port a secret is. A manifest says where its registries are, so a name in it
//! must not select a secret: otherwise everybody who can change the manifest chooses where the secret goes. Registries
//! of containers are
//! opened by what their own tools keep, too.

mod container_tools;
mod file;
mod keyring;

use bibliotax_registry::RegistryError;
use bibliotax_registry::client::credentials::{Credential, CredentialRequest, Credentials};
use bibliotax_registry::client::origin::Origin;

pub use self::file::CredentialFile;
pub use self::keyring::Keyring;

/// The variable that holds tokens: a line for each host, with the host and its token.
pub const TOKENS: &str = "BIBLIOTAX_TOKENS";

/// All places of a person, asked in this order.
#[derive(Clone, Default)]
pub struct CredentialChain {
    /// What the variable of tokens says.
    pub tokens: String,
    /// The file of credentials, where there is a place for one.
    pub file: Option<CredentialFile>,
}

impl Credentials for CredentialChain {
    fn find(&self, door: &CredentialRequest<'_>) -> Result<Option<Credential>, RegistryError> {
        let CredentialRequest { origin, is_for_containers } = *door;
        if let Some(credential) = in_variable(&self.tokens, origin)? {
            return Ok(Some(credential));
        }
        if let Some(credential) = Keyring::open().and_then(|keyring| keyring.find(origin)) {
            return Ok(Some(credential));
        }
        let in_file = self.file.as_ref().map_or(Ok(None), |file| file.find(origin))?;
        // The tools for containers keep secrets by host alone, and mean the encrypted way there.
        let asks_their_tools = is_for_containers && origin.is_safe();
        Ok(in_file.or_else(|| asks_their_tools.then(|| container_tools::find(origin.host())).flatten()))
    }
}

/// The token for a host in a text of lines such as `https://packages.example TOKEN`.
fn in_variable(text: &str, origin: &Origin) -> Result<Option<Credential>, RegistryError> {
    let mut found = None;
    let lines = text.lines().map(str::trim).enumerate().filter(|(_, line)| !line.is_empty());
    for (number, line) in lines {
        let pair =
            line.split_once(char::is_whitespace).map(|(host, token)| (host.parse::<Origin>(), token.trim()));
        match pair {
            Some((Ok(host), token)) if host == *origin => found = found.or(Some(token)),
            Some((Ok(_), _)) => {}
            _ => return Err(unusable(number + 1)),
        }
    }
    Ok(found.map(|token| Credential::token(token, format!("the variable {TOKENS}"))))
}

/// That a line of the variable can't be read, without a word of it: it may be a secret.
fn unusable(line: usize) -> RegistryError {
    RegistryError::Credentials {
        what: format!("the variable {TOKENS} can't be used: line {line} isn't a host and a token"),
        advice: "write a line for each host, with a space before the token: `https://packages.example TOKEN`"
            .to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_token_in_the_variable_is_for_the_host_of_its_line() {
        let text =
            "packages.example one\n\n http://127.0.0.1:8123\ttwo\r\ngarden.example:5000 moss:three four";
        let found = |origin: &str| in_variable(text, &origin.parse().unwrap()).unwrap().is_some();
        for known in ["https://packages.example", "127.0.0.1:8123", "https://garden.example:5000"] {
            assert!(found(known), "{known}");
        }
        for other in
            ["http://packages.example", "https://packages.example:8443", "127.0.0.1", "garden.example"]
        {
            assert!(!found(other), "{other}");
        }
        for wrong in ["s3cret", "packages.example one\ns3cret", "ftp://packages.example s3cret"] {
            let shown = in_variable(wrong, &"packages.example".parse().unwrap()).unwrap_err().to_string();
            assert!(shown.contains("line") && !shown.contains("s3cret"), "{shown}");
        }
    }
}
