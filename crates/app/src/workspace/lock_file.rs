//! The lock of a project, as it is on disk.

use std::path::Path;

use bibliotax_core::fault::Fault;
use bibliotax_core::lock::{FILE_NAME, Lock, LockFault};
use bibliotax_disk::read::read_text;

use crate::failure::Failure;

/// Largest lock that is read, in bytes.
pub const MAX_SIZE: usize = 512 << 20;

/// The lock as it is on disk.
pub enum LockFile {
    /// There is none.
    None,
    /// One that can be trusted.
    Sound {
        /// What it says.
        lock: Lock,
        /// Its text.
        text: String,
    },
    /// One that can't; what can be read of it, and why it can't be trusted.
    Faulty {
        /// Its text.
        text: String,
        /// Why it can't be trusted.
        fault: Fault,
    },
}

impl LockFile {
    /// The lock in a workspace's folder.
    pub fn read(root: &Path) -> Result<Self, Failure> {
        let Some(text) = read_text(&root.join(FILE_NAME), MAX_SIZE)? else { return Ok(Self::None) };
        Self::of(text)
    }

    /// The lock of this text.
    pub fn of(text: String) -> Result<Self, Failure> {
        match Lock::read(&text) {
            Ok(lock) => Ok(Self::Sound { lock, text }),
            Err(LockFault { fault, replaceable: true }) => Ok(Self::Faulty { text, fault }),
            Err(LockFault { fault, replaceable: false }) => {
                Err(Failure::in_text(FILE_NAME, &text, vec![fault]))
            }
        }
    }
}
