//! What the process's environment and the person's settings say: the store's folder, the time, credentials, whether the network
//! may be used.

use std::env;
use std::ffi::OsString;
use std::path::PathBuf;

use bibliotax_app::credentials::{CredentialChain, CredentialFile, TOKENS};
use bibliotax_app::environment::Environment;
use bibliotax_app::failure::Failure;
use bibliotax_app::settings::SettingsFile;
use bibliotax_registry::catalogue::stop::Stop;
use etcetera::base_strategy::{BaseStrategy, choose_base_strategy};
use jiff::Timestamp;

use crate::waiting;

/// Ask nobody over a network.
const OFFLINE: &str = "BIBLIOTAX_OFFLINE";

/// Reads the environment. A variable that is neither on (1) nor off (0) is a failure: somebody set it for a reason.
pub fn read() -> Result<Environment, Failure> {
    let settings = settings()?;
    Ok(Environment {
        store: store(settings.settings.store.as_deref()),
        is_offline: is_on(OFFLINE)?.or(settings.settings.offline).unwrap_or(false),
        settings,
        now: now(),
        credentials: CredentialChain {
            tokens: env::var(TOKENS).unwrap_or_default(),
            file: credential_file().map(CredentialFile::at),
        },
        waits: waiting::waits(),
        bucket_settings: bucket_settings().collect(),
        program_folders: env::var_os("PATH").unwrap_or_default(),
        stop: Stop::default(),
    })
}

/// The settings in the file that BIBLIOTAX_SETTINGS names, else in the folder that the system has for settings.
fn settings() -> Result<SettingsFile, Failure> {
    let named = path("BIBLIOTAX_SETTINGS");
    let is_named = named.is_some();
    let file = named.or_else(|| Some(settings_folder()?.join("settings.toml")));
    file.map_or_else(|| Ok(SettingsFile::default()), |file| SettingsFile::read(file, is_named))
}

fn settings_folder() -> Option<PathBuf> {
    Some(choose_base_strategy().ok()?.config_dir().join("bibliotax"))
}

/// Where BIBLIOTAX_STORE says, else the settings, else in the folder that the system has for caches.
fn store(set: Option<&str>) -> Option<PathBuf> {
    let said = path("BIBLIOTAX_STORE").or_else(|| set.map(PathBuf::from));
    said.or_else(|| Some(choose_base_strategy().ok()?.cache_dir().join("bibliotax")))
}

/// Where BIBLIOTAX_CREDENTIALS says, else in the folder that the system has for settings.
fn credential_file() -> Option<PathBuf> {
    path("BIBLIOTAX_CREDENTIALS").or_else(|| Some(settings_folder()?.join("sign-ins.toml")))
}

fn path(name: &str) -> Option<PathBuf> {
    env::var_os(name).filter(|path| !path.is_empty()).map(PathBuf::from)
}

/// The time that SOURCE_DATE_EPOCH says, where it is set (Reproducible Builds specification).
pub fn source_date() -> Option<Timestamp> {
    let seconds = env::var("SOURCE_DATE_EPOCH").ok()?.parse().ok()?;
    Timestamp::from_second(seconds).ok()
}

/// Now, in whole seconds, or the time that SOURCE_DATE_EPOCH says.
fn now() -> Timestamp {
    let now = Timestamp::now();
    source_date().or_else(|| Timestamp::from_second(now.as_second()).ok()).unwrap_or(now)
}

/// The settings of buckets, which everybody's tools read from the same variables.
fn bucket_settings() -> impl Iterator<Item = (String, String)> {
    let text =
        |(key, value): (OsString, OsString)| Some((key.into_string().ok()?, value.into_string().ok()?));
    env::vars_os().filter_map(text).filter(|(key, _)| key.starts_with("AWS_"))
}

/// Whether a variable is on or off; `None` where it isn't set.
fn is_on(name: &str) -> Result<Option<bool>, Failure> {
    let Some(said) = env::var_os(name) else { return Ok(None) };
    meant(&said.to_string_lossy()).map(Some).ok_or_else(|| {
        let message = format!("{name} is `{}`, which is neither on (1) nor off (0)", said.to_string_lossy());
        Failure::new("environment.switch", message).advice(format!("set it to 1 or to 0: `{name}=1`"))
    })
}

/// Whether a text is on or off, in any of the usual words; `None` if it says something else.
fn meant(said: &str) -> Option<bool> {
    match said.trim().to_ascii_lowercase().as_str() {
        "1" | "true" | "yes" | "on" => Some(true),
        "" | "0" | "false" | "no" | "off" => Some(false),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_usual_words_are_on_or_off_in_any_case() {
        for (said, is) in [
            ("1", Some(true)),
            ("TRUE", Some(true)),
            ("Yes", Some(true)),
            ("on", Some(true)),
            ("", Some(false)),
            ("0", Some(false)),
            ("False", Some(false)),
            ("no", Some(false)),
            (" OFF ", Some(false)),
            ("2", None),
            ("offline", None),
        ] {
            assert_eq!(meant(said), is, "{said:?}");
        }
    }
}
