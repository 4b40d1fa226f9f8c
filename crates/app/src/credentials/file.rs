//! `sign-ins.toml` in the person's configuration folder, which nobody else may read.
//!
//! ```toml
//! ["https://packages.seedhouse.example"]
//! secret = "…"
//!
//! ["https://garden.example:5000"]
//! user = "moss"
//! password = "…"
//! ```

use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};

use bibliotax_disk::error::At;
use bibliotax_disk::read::read_text;
use bibliotax_disk::write::{folder_of, make_folder};
use bibliotax_registry::RegistryError;
use bibliotax_registry::client::credentials::Credential;
use bibliotax_registry::client::origin::Origin;
use toml_edit::{DocumentMut, Item, Table, value};

/// Largest file that is read, in bytes.
const MAX_SIZE: usize = 1 << 20;

/// A file of credentials.
#[derive(Debug, Clone)]
pub struct CredentialFile(PathBuf);

impl CredentialFile {
    /// The file at this path, which need not be there yet.
    pub fn at(path: PathBuf) -> Self {
        Self(path)
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.0
    }

    /// What it has for a host.
    pub fn find(&self, origin: &Origin) -> Result<Option<Credential>, RegistryError> {
        let Some(document) = self.read()? else { return Ok(None) };
        let Some(entry) = key_of(&document, origin).and_then(|key| document.get(&key)) else {
            return Ok(None);
        };
        let text = |key: &str| entry.get(key).and_then(Item::as_str);
        let place = format!("the file {}", self.0.display());
        match (text("secret"), text("user").zip(text("password"))) {
            (Some(token), None) => Ok(Some(Credential::token(token, place))),
            (None, Some((user, password))) => Ok(Some(Credential::password(user, password, place))),
            _ => Err(self
                .unusable(&format!("its entry for {origin} is neither a token nor a user with a password"))),
        }
    }

    /// Keeps a secret for a host: a token, or with a user a password.
    pub fn keep(&self, origin: &Origin, user: Option<&str>, secret: &str) -> Result<(), RegistryError> {
        let mut document = self.read()?.unwrap_or_default();
        let mut entry = Table::new();
        match user {
            None => entry["secret"] = value(secret),
            Some(user) => {
                entry["user"] = value(user);
                entry["password"] = value(secret);
            }
        }
        let key = key_of(&document, origin).unwrap_or_else(|| origin.to_string());
        document[&key] = Item::Table(entry);
        self.write(&document)
    }

    /// Forgets what it has for a host; whether there was anything.
    pub fn forget(&self, origin: &Origin) -> Result<bool, RegistryError> {
        let Some(mut document) = self.read()? else { return Ok(false) };
        let Some(key) = key_of(&document, origin) else { return Ok(false) };
        document.remove(&key);
        self.write(&document).map(|()| true)
    }

    fn read(&self) -> Result<Option<DocumentMut>, RegistryError> {
        let Some(text) = read_text(&self.0, MAX_SIZE)? else { return Ok(None) };
        if is_open_to_others(&self.0) {
            return Err(self.unusable("others may read it"));
        }
        text.parse().map(Some).map_err(|_| self.unusable("it can't be read as TOML"))
    }

    /// Writes it whole, to be read by its owner alone from the first byte on.
    fn write(&self, document: &DocumentMut) -> Result<(), RegistryError> {
        let folder = folder_of(&self.0);
        make_folder(folder)?;
        let made = tempfile::Builder::new().prefix(".sign-ins-").tempfile_in(folder);
        let mut staged = made.at("write in", folder)?;
        staged.write_all(document.to_string().as_bytes()).at("write", &self.0)?;
        staged.as_file().sync_all().at("write", &self.0)?;
        staged.persist(&self.0).map_err(|error| error.error).at("write", &self.0)?;
        Ok(())
    }

    fn unusable(&self, why: &str) -> RegistryError {
        let path = self.0.display();
        RegistryError::Credentials {
            what: format!("the file of credentials {path} can't be used: {why}"),
            advice: format!(
                "let only its owner read it (`chmod 600 {path}`), and name its tables after hosts"
            ),
        }
    }
}

/// The name of the table for a host, which may be written with less than the whole origin.
fn key_of(document: &DocumentMut, origin: &Origin) -> Option<String> {
    let is_for = |key: &str| key.parse::<Origin>().is_ok_and(|known| known == *origin);
    document.iter().map(|(key, _)| key).find(|key| is_for(key)).map(str::to_owned)
}

#[cfg(unix)]
fn is_open_to_others(path: &Path) -> bool {
    use std::os::unix::fs::PermissionsExt;
    fs::metadata(path).is_ok_and(|metadata| metadata.permissions().mode() & 0o077 != 0)
}

#[cfg(not(unix))]
fn is_open_to_others(_: &Path) -> bool {
    false
}
