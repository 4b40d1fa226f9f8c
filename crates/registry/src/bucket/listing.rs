//! The list of names of a registry in a bucket: objects one after the other, each what one publisher noted.
//!
//! `names/0/N` is the N-th note. When the last of 256 is there, its writer puts them together as `names/1/N`, and 256 of
//! those as `names/2/N`, so that whoever begins to read needs few requests. All of them one after the other are the list,
//! byte for byte, whichever of them are read. This machine has a copy, which is read on before it is used.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};

use bibliotax_disk::error::At;

use super::objects::Objects;
use crate::error::RegistryError;

/// How many objects of one level make one of the next.
const FAN: u64 = 256;

/// The highest level.
const TOP: u32 = 2;

/// This machine's copy of the list.
pub struct Copy {
    path: PathBuf,
    /// How many notes are in it.
    notes: u64,
}

impl Copy {
    /// An empty copy at a path.
    pub fn new(path: PathBuf) -> Self {
        Self { path, notes: 0 }
    }

    /// Where it is.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Reads what was noted since the last time.
    pub fn read_on(&mut self, objects: &Objects) -> Result<(), RegistryError> {
        let mut file =
            OpenOptions::new().create(true).append(true).open(&self.path).at("write", &self.path)?;
        'next: loop {
            for level in (0..=TOP).rev() {
                let covers = FAN.pow(level);
                if self.notes.is_multiple_of(covers)
                    && let Some(found) = objects.read(&path(level, self.notes / covers))?
                {
                    file.write_all(&found.bytes).at("write", &self.path)?;
                    self.notes += covers;
                    continue 'next;
                }
            }
            return Ok(());
        }
    }

    /// Notes something at the end of the list: what `frames` makes once all that was noted before is known. So a note is never
    /// older than one before it, whatever it is made from.
    pub fn note(
        &mut self,
        objects: &Objects,
        frames: impl Fn() -> Result<Vec<u8>, RegistryError>,
    ) -> Result<(), RegistryError> {
        loop {
            self.read_on(objects)?;
            let number = self.notes;
            if objects.create(&path(0, number), frames()?.into())? {
                return (1..=TOP).try_for_each(|level| gather(objects, level, number));
            }
        }
    }
}

/// Puts together what a level lacks after the note of this number, if it was the last of its kind. Who dies before that
/// costs readers requests, and nothing else.
fn gather(objects: &Objects, level: u32, number: u64) -> Result<(), RegistryError> {
    if !(number + 1).is_multiple_of(FAN.pow(level)) {
        return Ok(());
    }
    let first = (number + 1 - FAN.pow(level)) / FAN.pow(level - 1);
    let mut together = Vec::new();
    for below in first..first + FAN {
        match objects.read(&path(level - 1, below))? {
            Some(found) => together.extend_from_slice(&found.bytes),
            None => return Ok(()),
        }
    }
    let size = together.len() as u64;
    objects.write(&path(level, number / FAN.pow(level)), size, &mut together.as_slice())
}

fn path(level: u32, number: u64) -> String {
    format!("names/{level}/{number:010}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_copy_has_the_same_bytes_however_many_notes_were_put_together() {
        let folder = tempfile::tempdir().unwrap();
        let objects = Objects::on(std::sync::Arc::new(object_store::memory::InMemory::new()));
        let mut writers = ["one", "other"].map(|name| Copy::new(folder.path().join(name)));
        let mut wanted = Vec::new();
        for number in 0..600 {
            let frame = format!("<{number}>").into_bytes();
            wanted.extend_from_slice(&frame);
            writers[number % 2].note(&objects, || Ok(frame.clone())).unwrap();
        }
        assert!(objects.look("names/1/0000000001").unwrap().is_some(), "512 notes are two objects");
        let bytes_of = |name: &str| {
            let mut copy = Copy::new(folder.path().join(name));
            copy.read_on(&objects).unwrap();
            std::fs::read(copy.path()).unwrap()
        };
        assert_eq!(bytes_of("new"), wanted);
        objects.remove("names/1/0000000000").unwrap();
        assert_eq!(bytes_of("newer"), wanted, "a writer that died before it put them together harms nobody");
        writers[0].read_on(&objects).unwrap();
        assert_eq!(std::fs::read(writers[0].path()).unwrap(), wanted);
    }
}
