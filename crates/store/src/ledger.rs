//! The steps that people did by hand, as files that a team commits.
//!
//! ```text
//! bibliotax.steps/<package>+<step>[+<target or device>]   a tick, one line of JSON
//! ```
//!
//! Each tick is a file of its own and says nothing of when and who, which version control knows: two people who tick different
//! steps can't get in each other's way, and two who tick the same one wrote the same.

use std::path::{Path, PathBuf};

use bibliotax_core::steps::{Ledger, Tick};
use bibliotax_disk::folder::Folder;

use crate::error::StoreError;

/// The folder's name inside a project.
pub const FOLDER: &str = "bibliotax.steps";

/// Largest tick that is read, in bytes.
const MAX_SIZE: usize = 4 << 10;

/// The ledger of a project.
#[derive(Debug, Clone)]
pub struct LedgerFolder {
    folder: PathBuf,
}

impl LedgerFolder {
    /// The ledger of the project in a folder, whether it is there yet or not.
    pub fn of(project: &Path) -> Self {
        Self { folder: project.join(FOLDER) }
    }

    /// All ticks that can be read. What can't is no tick, so that its step is open.
    pub fn read(&self) -> Result<Ledger, StoreError> {
        let Some(folder) = Folder::open(&self.folder)? else { return Ok(Ledger::new()) };
        let mut ledger = Ledger::new();
        for name in folder.names()? {
            let text = folder.read_text(&name, MAX_SIZE).ok().flatten();
            let tick = text.and_then(|text| serde_json::from_str::<Tick>(&text).ok());
            ledger.extend(tick.map(|tick| (name, tick)));
        }
        Ok(ledger)
    }

    /// Writes a tick under its name.
    pub fn tick(&self, name: &str, tick: &Tick) -> Result<(), StoreError> {
        // Names, versions and digests: nothing that could fail to be JSON.
        let text = serde_json::to_string(tick).unwrap_or_default() + "\n";
        Ok(Folder::make(&self.folder)?.write_whole(name, text.as_bytes())?)
    }

    /// Takes a tick back; fine if there is none.
    pub fn untick(&self, name: &str) -> Result<(), StoreError> {
        let Some(folder) = Folder::open(&self.folder)? else { return Ok(()) };
        folder.remove(name)?;
        // Version control knows no empty folders, so none is left behind; one that isn't empty stays.
        let _ = std::fs::remove_dir(&self.folder);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use bibliotax_core::digest::Digest;

    use super::*;

    fn tick() -> Tick {
        let text = format!(r#"{{"format":1,"version":"1.4","step":"{}"}}"#, Digest::of(b"dig"));
        serde_json::from_str(&text).unwrap()
    }

    #[test]
    fn ticks_are_files_that_come_and_go_and_what_is_no_tick_leaves_its_step_open() {
        let project = tempfile::tempdir().unwrap();
        let ledger = LedgerFolder::of(project.path());
        assert!(ledger.read().unwrap().is_empty());
        ledger.tick("dew-point+dig", &tick()).unwrap();
        ledger.tick("dew-point+water", &tick()).unwrap();
        assert_eq!(ledger.read().unwrap().get("dew-point+dig"), Some(&tick()));
        std::fs::write(project.path().join(FOLDER).join("dew-point+water"), "no tick").unwrap();
        assert_eq!(ledger.read().unwrap().len(), 1);
        ledger.untick("dew-point+dig").unwrap();
        ledger.untick("dew-point+dig").unwrap();
        ledger.untick("dew-point+water").unwrap();
        assert!(!project.path().join(FOLDER).exists(), "an empty folder would stay in a working copy");
    }

    #[test]
    #[cfg(unix)]
    fn a_link_in_place_of_the_folder_is_not_followed() {
        let (project, other) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        std::os::unix::fs::symlink(other.path(), project.path().join(FOLDER)).unwrap();
        assert!(LedgerFolder::of(project.path()).tick("dew-point+dig", &tick()).is_err());
        assert_eq!(std::fs::read_dir(other.path()).unwrap().count(), 0);
    }
}
