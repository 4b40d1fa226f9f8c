//! A person's settings on disk.

use std::path::{Path, PathBuf};

use bibliotax_core::location::Location;
use bibliotax_core::manifest::{Settings, read_settings};
use bibliotax_disk::read::read_text;

use crate::failure::Failure;

/// Largest settings file that is read, in bytes.
const MAX_SIZE: usize = 64 << 10;

/// The settings of a person, and the file that has them.
#[derive(Debug, Clone, Default)]
pub struct SettingsFile {
    /// The file; `None` where no folder for it is known.
    pub path: Option<PathBuf>,
    /// Whether it exists.
    pub exists: bool,
    /// What it says.
    pub settings: Settings,
}

impl SettingsFile {
    /// Reads settings; a file that isn't there says nothing, unless it `must_exist`. Folders in it are seen from its own.
    pub fn read(path: PathBuf, must_exist: bool) -> Result<Self, Failure> {
        let Some(text) = read_text(&path, MAX_SIZE)? else {
            if must_exist {
                let message = format!("there is no settings file {}", path.display());
                return Err(Failure::new("settings.missing", message)
                    .advice("correct BIBLIOTAX_SETTINGS, or unset it"));
            }
            return Ok(Self { path: Some(path), exists: false, settings: Settings::default() });
        };
        let faults = |faults| Failure::in_text(path.display().to_string(), &text, faults);
        let mut settings = read_settings(&text).map_err(faults)?;
        let folder = path.parent().unwrap_or(Path::new("."));
        for registry in &mut settings.registries {
            registry.url = seen_from(folder, &registry.url);
            registry.mirrors.iter_mut().for_each(|mirror| *mirror = seen_from(folder, mirror));
        }
        settings.store = settings.store.map(|store| seen_from(folder, &store));
        Ok(Self { path: Some(path), exists: true, settings })
    }
}

/// A place as it is from anywhere.
fn seen_from(folder: &Path, place: &str) -> String {
    match Location::of(place) {
        Location::Relative(path) => folder.join(&*path).display().to_string(),
        Location::Absolute(_) | Location::Url { .. } | Location::OnHost { .. } => place.to_owned(),
    }
}
