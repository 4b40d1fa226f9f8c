//! Credentials that container tools have saved: in a file, or with a helper that the file names.

use bibliotax_registry::client::credentials::Credential;
use docker_credential::{DockerCredential, get_credential, get_podman_credential};

/// What they have for a host, in the file that REGISTRY_AUTH_FILE names, in that of the session, or in DOCKER_CONFIG.
pub fn find(host: &str) -> Option<Credential> {
    // What can't be read there is theirs to tell.
    let found = get_podman_credential(host).or_else(|_| get_credential(host)).ok()?;
    let place = "the container tools' settings";
    Some(match found {
        DockerCredential::UsernamePassword(user, password) => Credential::password(user, password, place),
        DockerCredential::IdentityToken(token) => Credential::refresh(token, place),
    })
}
