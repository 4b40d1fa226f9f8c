//! The list of names of a registry in a bucket: a sequence of objects, one per entry.
//!
//! `names/0/N` is the N-th note. When the last of 256 is there, its writer puts them together as `names/1/N`, and 256 of
//! those as `names/2/N`, so that a first read needs few requests. All of them one after the other are the list,
//! byte for byte, whichever of them are read. This machine has a copy, which is read on before it is used. Who notes something
//! doesn't read the list: where it ends is enough.

use std::fs::OpenOptions;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use bibliotax_core::name::PackageName;
use bibliotax_disk::error::At;

use super::objects::Objects;
use super::recent_objects::RequestOrder;
use crate::model::error::RegistryError;
use crate::model::mutex::lock;

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
}

/// Where this process notes something: what several want to note at once makes one note.
#[derive(Default)]
pub struct Notes {
    /// How many wanted to note something so far, and what waits for being noted.
    waiting: Mutex<(u64, Vec<PackageName>)>,
    /// The end of the list, and how many of those have it behind them.
    end: Mutex<(End, u64)>,
}

impl Notes {
    /// Notes how packages stand: what `frames` makes of what was read or written since a moment, for all that wait.
    pub fn note(
        &self,
        objects: &Objects,
        packages: &[PackageName],
        now: impl Fn() -> RequestOrder,
        frames: impl Fn(&[PackageName], RequestOrder) -> Result<Vec<u8>, RegistryError>,
    ) -> Result<(), RegistryError> {
        let mine = {
            let mut waiting = lock(&self.waiting);
            waiting.0 += 1;
            waiting.1.extend_from_slice(packages);
            waiting.0
        };
        let mut end = lock(&self.end);
        if end.1 >= mine {
            return Ok(());
        }
        let (last, mut all) = {
            let mut waiting = lock(&self.waiting);
            (waiting.0, std::mem::take(&mut waiting.1))
        };
        // A process that took them before may have failed.
        all.extend_from_slice(packages);
        all.sort();
        all.dedup();
        end.0.note(objects, now, |since| frames(&all, since))?;
        end.1 = last;
        Ok(())
    }
}

/// The end of the list.
#[derive(Default)]
struct End {
    /// The number of the next note, and a moment since when nobody else has noted anything; nothing before the first look.
    next: Option<(u64, RequestOrder)>,
}

impl End {
    /// Notes something at the end of the list: what `frames` makes of what was read or written since a moment. That moment is
    /// after all notes of other processes, so that no note is older than one before it.
    fn note(
        &mut self,
        objects: &Objects,
        now: impl Fn() -> RequestOrder,
        frames: impl Fn(RequestOrder) -> Result<Vec<u8>, RegistryError>,
    ) -> Result<(), RegistryError> {
        loop {
            let (number, since) = match self.next {
                Some(known) => known,
                None => (end_of(objects)?, now()),
            };
            self.next = Some((number, since));
            if objects.create(&path(0, number), &frames(since)?.into())? {
                self.next = Some((number + 1, since));
                return (1..=TOP).try_for_each(|level| gather(objects, level, number));
            }
            self.next = None;
        }
    }
}

/// The number of the first note that is not there, found without reading any.
fn end_of(objects: &Objects) -> Result<u64, RegistryError> {
    let mut notes = 0;
    for level in (0..=TOP).rev() {
        let covers = FAN.pow(level);
        // What was put together may lack some; the notes themselves lack none.
        let listed = match notes / covers {
            0 => objects.below(&format!("names/{level}"))?,
            before => objects.after(&format!("names/{level}"), &numbered(before - 1))?,
        };
        let numbers = listed.iter().filter_map(|object| object.location.filename()?.parse::<u64>().ok());
        notes = notes.max(numbers.max().map_or(0, |last| (last + 1) * covers));
    }
    Ok(notes)
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
    format!("names/{level}/{}", numbered(number))
}

fn numbered(number: u64) -> String {
    format!("{number:010}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::storage::bucket::recent_objects::Recent;

    #[test]
    fn every_copy_has_the_same_bytes_however_many_notes_were_put_together() {
        let folder = tempfile::tempdir().unwrap();
        let objects = Objects::on(std::sync::Arc::new(object_store::memory::InMemory::new()));
        let clock = Recent::default();
        let mut writers = [End::default(), End::default()];
        let mut wanted = Vec::new();
        for number in 0..600 {
            let frame = format!("<{number}>").into_bytes();
            wanted.extend_from_slice(&frame);
            writers[number % 2].note(&objects, || clock.now(), |_| Ok(frame.clone())).unwrap();
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
        for (notes, what) in [(600, "where what was put together is missing"), (600, "and after that")] {
            assert_eq!(end_of(&objects).unwrap(), notes, "{what}");
            objects.remove("names/1/0000000001").unwrap();
        }
    }
}
