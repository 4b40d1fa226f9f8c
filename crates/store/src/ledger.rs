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
