//! The system's keyring: the Secret Service of a desktop, the keychain, or the credential manager.

use std::sync::Arc;

use bibliotax_registry::client::credentials::Credential;
use bibliotax_registry::client::origin::Origin;
use keyring_core::{CredentialStore, Entry};
use serde::{Deserialize, Serialize};

/// What our secrets are filed under.
const SERVICE: &str = "bibliotax";

/// The keyring of the person who is logged in.
pub struct Keyring {
    store: Arc<CredentialStore>,
}

/// What is kept for a host, as JSON.
#[derive(Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Kept {
    Token(String),
    Password { user: String, password: String },
}

impl Keyring {
    /// The keyring; `None` where this session has none.
    pub fn open() -> Option<Self> {
        store().map(|store| Self { store })
    }

    /// What is kept for a host.
    pub fn find(&self, origin: &Origin) -> Option<Credential> {
        let text = self.entry(origin)?.get_password().ok()?;
        let place = "the keyring";
        match serde_json::from_str(&text).ok()? {
            Kept::Token(token) => Some(Credential::token(token, place)),
            Kept::Password { user, password } => Some(Credential::password(user, password, place)),
        }
    }

    /// Keeps a secret for a host: a token, or with a user a password; whether it could be kept.
    pub fn keep(&self, origin: &Origin, user: Option<&str>, secret: &str) -> bool {
        let secret = secret.to_owned();
        let kept = match user {
            None => Kept::Token(secret),
            Some(user) => Kept::Password { user: user.to_owned(), password: secret },
        };
        // Texts: nothing that could fail to be JSON.
        let text = serde_json::to_string(&kept).unwrap_or_default();
        self.entry(origin).is_some_and(|entry| entry.set_password(&text).is_ok())
    }

    /// Forgets what is kept for a host; whether there was anything.
    pub fn forget(&self, origin: &Origin) -> bool {
        self.entry(origin).is_some_and(|entry| entry.delete_credential().is_ok())
    }

    fn entry(&self, origin: &Origin) -> Option<Entry> {
        Entry::new_in_store(&self.store, SERVICE, &origin.to_string()).ok()
    }
}

#[cfg(target_os = "linux")]
fn store() -> Option<Arc<CredentialStore>> {
    // Without a session of a desktop nobody would answer, and looking for one takes long.
    let runtime = std::env::var_os("XDG_RUNTIME_DIR").map(std::path::PathBuf::from);
    let has_session = std::env::var_os("DBUS_SESSION_BUS_ADDRESS").is_some()
        || runtime.is_some_and(|runtime| runtime.join("bus").exists());
    let store = if has_session { dbus_secret_service_keyring_store::Store::new().ok() } else { None };
    store.map(|store| -> Arc<CredentialStore> { store })
}

#[cfg(target_os = "macos")]
fn store() -> Option<Arc<CredentialStore>> {
    apple_native_keyring_store::keychain::Store::new().ok().map(|store| -> Arc<CredentialStore> { store })
}

#[cfg(windows)]
fn store() -> Option<Arc<CredentialStore>> {
    windows_native_keyring_store::Store::new().ok().map(|store| -> Arc<CredentialStore> { store })
}

#[cfg(not(any(target_os = "linux", target_os = "macos", windows)))]
fn store() -> Option<Arc<CredentialStore>> {
    None
}
