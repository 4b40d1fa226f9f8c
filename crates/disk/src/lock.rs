//! One process at a time: locks of the operating system on a file, gone with the process that held them.

use std::fs::{File, TryLockError};
use std::io;
use std::path::Path;

use crate::error::{At, Result};
use crate::write::{folder_of, make_folder, open_to_change};

/// A lock that is held until this is dropped.
#[derive(Debug)]
pub struct Held(#[expect(dead_code, reason = "the open file is the lock")] File);

impl Held {
    /// By an open file that is locked.
    pub(crate) fn by(file: File) -> Self {
        Self(file)
    }
}

/// Takes the lock on `path`, a file made for the purpose that stays; calls `waiting` once if another holds it.
pub fn lock(path: &Path, waiting: impl FnOnce()) -> Result<Held> {
    make_folder(folder_of(path))?;
    let file = open_to_change(path)?;
    exclusive(&file, waiting).at("lock", path)?;
    Ok(Held(file))
}

/// Locks an open file; calls `waiting` once if another process holds it.
pub fn exclusive(file: &File, waiting: impl FnOnce()) -> io::Result<()> {
    match file.try_lock() {
        Ok(()) => Ok(()),
        Err(TryLockError::WouldBlock) => {
            waiting();
            file.lock()
        }
        Err(TryLockError::Error(error)) => Err(error),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_taker_is_told_to_wait_and_gets_it_afterwards() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("deep/lock");
        let held = lock(&path, || panic!("nobody else has it")).unwrap();
        let (shown, wait) = std::sync::mpsc::channel();
        std::thread::scope(|scope| {
            let second = scope.spawn(|| lock(&path, || shown.send(()).unwrap()));
            wait.recv().unwrap();
            drop(held);
            assert!(second.join().unwrap().is_ok());
        });
    }
}
