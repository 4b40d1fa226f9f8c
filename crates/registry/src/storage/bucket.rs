//! A registry as objects in an S3-compatible storage service, written by any number of servers at once.
//!
//! The objects are called as the files of a folder are (see [`super::folder`]), but for what many append to: the list of names
//! is `names/LEVEL/NUMBER`, the log `private/log/TIME-NUMBER.json`, and half uploads are objects, too. What two change at once
//! is changed under a condition (`If-Match`, `If-None-Match`; RFC 9110, section 13): the slower one looks again and decides again.

mod listing;
mod objects;
mod recent_objects;
mod transport;
mod upload;

use std::collections::BTreeMap;
use std::io::Read;
use std::ops::Range;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

use bibliotax_core::digest::Digest;
use bibliotax_core::facet::Facet;
use bibliotax_core::history::History;
use bibliotax_core::name::{FacetName, PackageName};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use bytes::{Buf, Bytes};
use jiff::Timestamp;
use object_store::UpdateVersion;
use ring::rand::{SecureRandom, SystemRandom};

use self::listing::{Copy, Notes};
use self::objects::{Change, Conditions, Objects, Text};
use self::recent_objects::{MAX_FILE_SIZE, Recent};
use self::upload::OldMarks;
use crate::model::description::{DESCRIPTION, Description};
use crate::model::error::RegistryError;
use crate::model::history_limits::lines_to_append;
use crate::model::layout::{file_path, history_path};
use crate::model::names::frames;
use crate::model::partial_upload::{UploadPiece, UploadProblem};
use crate::model::staging::Staged;
use crate::model::storage::pending::{FileStatus, Pending};
use crate::model::storage::{
    Decide, Private, ReadRegistry, ServerState, Since, Stamp, UploadStorage, WriteRegistry, WriteRegistryExt,
    read_history,
};

/// What the places of buckets begin with.
pub const SCHEME: &str = "s3://";

/// How many names are noted at once when the list is repaired.
const MAX_NOTES_PER_OBJECT: usize = 2000;

/// A registry in a bucket.
pub struct Bucket {
    objects: Objects,
    description: Description,
    /// What this machine needs for a while; gone with the process.
    scratch: tempfile::TempDir,
    names: Mutex<Copy>,
    notes: Notes,
    recent: Recent,
    old_marks: OldMarks,
}

impl Bucket {
    /// Makes a registry at a place where there is none.
    pub fn create(
        place: &str,
        settings: impl IntoIterator<Item = (String, String)>,
        name: &str,
        facets: BTreeMap<FacetName, Facet>,
    ) -> Result<Self, RegistryError> {
        let objects = Objects::open(place, settings)?;
        objects.conditions()?;
        let description = Description::of_files(name, facets);
        if !objects.create(DESCRIPTION, &description.to_string().into())? {
            return Err(RegistryError::NotEmpty { path: objects.place() });
        }
        Self::with(objects, description)
    }

    /// Opens the registry at a place.
    pub fn open(
        place: &str,
        settings: impl IntoIterator<Item = (String, String)>,
    ) -> Result<Self, RegistryError> {
        let objects = Objects::open(place, settings)?;
        let text = objects.read_text(DESCRIPTION)?;
        let (text, _) = text.ok_or_else(|| RegistryError::NoRegistry { path: objects.place() })?;
        let description = Description::read(&text, &objects.place())?;
        Self::with(objects, description)
    }

    fn with(objects: Objects, description: Description) -> Result<Self, RegistryError> {
        let scratch =
            tempfile::Builder::new().prefix("bibliotax-").tempdir().at("write in", std::env::temp_dir())?;
        let names = Mutex::new(Copy::new(scratch.path().join("names.jsonl.zst")));
        let (notes, recent) = (Notes::default(), Recent::default());
        let old_marks = OldMarks::of(objects.clone());
        Ok(Self { objects, description, scratch, names, notes, recent, old_marks })
    }

    fn note(&self, packages: &[PackageName]) -> Result<(), RegistryError> {
        let as_they_are = |packages: &[PackageName], since| {
            let lines = self.name_lines(packages, |package| {
                let known = self.recent.history(package).filter(|(_, begun)| *begun > since);
                let text = known.map_or_else(|| self.read_history(package), |(known, _)| Ok(known))?;
                self.parsed(package, &text)
            })?;
            Ok(frames(&lines).map_err(|error| DiskError::new("pack", "the list of names", error))?)
        };
        self.notes.note(&self.objects, packages, || self.recent.now(), as_they_are)
    }

    /// The text of a package's history as it is now.
    fn read_history(&self, package: &PackageName) -> Result<Text, RegistryError> {
        let begun = self.recent.now();
        let known = self.recent.history(package).map(|(known, _)| known);
        let text = self.objects.read_on(&history_path(package), known)?;
        self.recent.put_history(package, &text, begun);
        Ok(text)
    }

    fn parsed(&self, package: &PackageName, text: &Text) -> Result<Option<History>, RegistryError> {
        let text = text.text.as_ref();
        text.map(|text| read_history(package, text, None, || self.place())).transpose()
    }

    /// Changes a package's history, from how it was a moment ago where that is known.
    fn change_history(&self, package: &PackageName, change: &mut Change<'_>) -> Result<(), RegistryError> {
        let begun = self.recent.now();
        let known = self.recent.history(package).map(|(known, _)| known);
        let after = self.objects.change(&history_path(package), known, change)?;
        self.recent.put_history(package, &after, begun);
        Ok(())
    }
}

/// What tells whether an object changed.
fn stamp_of(version: Option<&UpdateVersion>) -> Stamp {
    Stamp::Tag(version.and_then(|version| version.e_tag.clone()).unwrap_or_default())
}

impl ReadRegistry for Bucket {
    fn name(&self) -> &str {
        &self.description.name
    }

    fn facets(&self) -> &BTreeMap<FacetName, Facet> {
        &self.description.facets
    }

    fn place(&self) -> PathBuf {
        self.objects.place()
    }

    fn check(&self) -> Result<(), RegistryError> {
        let found = self.objects.look(DESCRIPTION)?;
        found.map(drop).ok_or_else(|| RegistryError::NoRegistry { path: self.place() })
    }

    fn is_on_this_machine(&self) -> bool {
        false
    }

    fn scratch(&self) -> Result<PathBuf, RegistryError> {
        Ok(self.scratch.path().to_owned())
    }

    fn history_stamp(&self, package: &PackageName) -> Result<Option<Stamp>, RegistryError> {
        let Text { text, version } = self.read_history(package)?;
        Ok(text.map(|_| stamp_of(version.as_ref())))
    }

    fn history_text(&self, package: &PackageName) -> Result<Option<String>, RegistryError> {
        Ok(self.read_history(package)?.text.map(|text| text.to_string()))
    }

    fn history_since(&self, package: &PackageName, known: Option<&Stamp>) -> Result<Since, RegistryError> {
        let Text { text, version } = self.read_history(package)?;
        let (Some(text), stamp) = (text, stamp_of(version.as_ref())) else { return Ok(Since::Missing) };
        // Without a tag nothing tells that it is the same.
        let is_same = known == Some(&stamp) && stamp != Stamp::Tag(String::new());
        Ok(if is_same { Since::Same } else { Since::New(stamp, text.to_string()) })
    }

    fn recent_history(&self, package: &PackageName) -> Result<Option<History>, RegistryError> {
        let known = self.recent.history(package);
        let text = known.map_or_else(|| self.read_history(package), |(known, _)| Ok(known))?;
        self.parsed(package, &text)
    }

    fn file_size(&self, digest: &Digest) -> Result<Option<u64>, RegistryError> {
        if let Some(bytes) = self.recent.file(digest) {
            return Ok(Some(bytes.len() as u64));
        }
        Ok(self.objects.look(&file_path(digest))?.map(|found| found.size))
    }

    fn open_file(&self, digest: &Digest) -> Result<Box<dyn Read + Send>, RegistryError> {
        if let Some(bytes) = self.recent.file(digest) {
            return Ok(Box::new(bytes.reader()));
        }
        match self.objects.open_whole(&file_path(digest))? {
            Some(opened) => Ok(Box::new(opened)),
            None => Err(RegistryError::NoFile { digest: *digest, path: self.place() }),
        }
    }

    fn read_file(&self, digest: &Digest, bytes: Range<u64>) -> Result<Box<dyn Read + Send>, RegistryError> {
        match self.objects.open_range(&file_path(digest), bytes)? {
            Some(opened) => Ok(Box::new(opened)),
            None => Err(RegistryError::NoFile { digest: *digest, path: self.place() }),
        }
    }

    fn names(&self) -> Result<Vec<PackageName>, RegistryError> {
        let name = |path: &str| path.splitn(3, '/').nth(2)?.strip_suffix(".jsonl")?.parse().ok();
        let listed = self.objects.below("packages")?;
        Ok(listed.iter().filter_map(|object| name(self.objects.inside(object))).collect())
    }

    fn name_list_file(&self) -> Result<PathBuf, RegistryError> {
        let mut copy = self.names.lock().unwrap_or_else(PoisonError::into_inner);
        copy.read_on(&self.objects)?;
        Ok(copy.path().to_owned())
    }
}

impl WriteRegistry for Bucket {
    fn set_facets(&self, facets: &BTreeMap<FacetName, Facet>) -> Result<(), RegistryError> {
        let text = Description::of_files(self.name(), facets.clone()).to_string();
        self.objects.write(DESCRIPTION, text.len() as u64, &mut text.as_bytes())
    }

    fn files(&self) -> Result<Vec<(Digest, u64)>, RegistryError> {
        let listed = self.objects.below("files")?;
        let file = |object: &object_store::ObjectMeta| {
            let digest: Digest = object.location.filename()?.parse().ok()?;
            // Where it doesn't belong nobody finds it.
            (self.objects.inside(object) == file_path(&digest)).then_some((digest, object.size))
        };
        let mut files: Vec<(Digest, u64)> = listed.iter().filter_map(file).collect();
        files.sort();
        Ok(files)
    }

    fn append(&self, package: &PackageName, decide: &mut Decide<'_>) -> Result<usize, RegistryError> {
        let mut appended = 0;
        self.change_history(package, &mut |before| {
            let before = before.unwrap_or_default();
            let history = read_history(package, before, None, || self.place())?;
            let events = decide(&history)?;
            appended = events.len();
            let lines = lines_to_append(package, before.len(), &events)?;
            Ok((appended > 0).then(|| before.to_owned() + &lines))
        })?;
        Ok(appended)
    }

    fn append_text(&self, package: &PackageName, before: &str, lines: &str) -> Result<(), RegistryError> {
        let after = format!("{before}{lines}");
        read_history(package, &after, None, || self.place())?;
        self.change_history(package, &mut |there| {
            if there.unwrap_or_default() != before {
                return Err(RegistryError::NoMirror { package: package.clone() });
            }
            Ok((!lines.is_empty()).then(|| after.clone()))
        })
    }

    fn update_name_list(&self, packages: &[PackageName]) -> Result<(), RegistryError> {
        packages.chunks(MAX_NOTES_PER_OBJECT).try_for_each(|some| self.note(some))
    }

    fn check_changes(&self) -> Result<Option<&'static str>, RegistryError> {
        Ok(Some(match self.objects.conditions()? {
            Conditions::Quoted => "under conditions (If-Match)",
            Conditions::Bare => {
                "under conditions (If-Match, with entity tags without quotes, as this store wants them)"
            }
        }))
    }

    fn rebuild_name_list(&self) -> Result<usize, RegistryError> {
        let kept = self;
        let names = self.names()?;
        kept.complete_name_list(&names)?;
        Ok(names.len())
    }

    fn keep(&self, mut staged: Staged) -> Result<(Digest, u64), RegistryError> {
        let (digest, size, path) = (staged.digest(), staged.size(), file_path(&staged.digest()));
        let mut reader = staged.reader().at("read", self.scratch.path())?;
        if size <= MAX_FILE_SIZE {
            let mut bytes = Vec::new();
            reader.read_to_end(&mut bytes).at("read", self.scratch.path())?;
            let bytes = Bytes::from(bytes);
            let is_new = self.objects.create(&path, &bytes)?;
            if !is_new && self.file_size(&digest)? != Some(size) {
                self.objects.write(&path, size, &mut &bytes[..])?;
            }
            self.recent.put_file(digest, bytes);
        } else if self.file_size(&digest)? != Some(size) {
            self.objects.write(&path, size, &mut reader)?;
        }
        Ok((digest, size))
    }
}

impl UploadStorage for Bucket {
    fn uploaded(&self, digest: &Digest) -> Result<u64, RegistryError> {
        Ok(self.pieces(digest)?.last().map_or(0, |(_, to)| *to))
    }

    fn receive(
        &self,
        digest: &Digest,
        piece: UploadPiece,
        source: &mut dyn Read,
    ) -> Result<(), UploadProblem> {
        self.add_piece(digest, piece, source)
    }

    fn pending(&self) -> Result<Vec<Pending>, RegistryError> {
        self.all_pending()
    }

    fn pending_bytes(&self) -> Result<u64, RegistryError> {
        self.bytes_that_wait()
    }

    fn unreleased_file(&self, digest: &Digest) -> Result<Option<Pending>, RegistryError> {
        self.mark_of(digest)
    }

    fn mark(&self, digest: &Digest, size: u64) -> Result<(), RegistryError> {
        self.set_mark(digest, size)
    }

    fn file_status(&self, digest: &Digest, length: Option<u64>) -> Result<FileStatus, RegistryError> {
        self.standing(digest, length)
    }

    fn recent_file_status(&self, digest: &Digest) -> Result<FileStatus, RegistryError> {
        self.standing_a_moment_ago(digest)
    }

    fn discard_pending(&self, pending: &Pending, with_file: bool) -> Result<(), RegistryError> {
        self.forget(pending, with_file)
    }
}

impl ServerState for Bucket {
    fn read_private(&self, what: Private) -> Result<String, RegistryError> {
        match what {
            Private::Tokens => Ok(self.objects.read_text(TOKENS)?.map(|(text, _)| text).unwrap_or_default()),
            Private::Log => {
                let mut noted = self.objects.below(LOG)?;
                noted.sort_by(|one, other| one.location.cmp(&other.location));
                let line =
                    |object: &object_store::ObjectMeta| self.objects.read_text(self.objects.inside(object));
                noted
                    .iter()
                    .map(|object| Ok(line(object)?.map(|(text, _)| text).unwrap_or_default()))
                    .collect()
            }
        }
    }

    fn append_private(&self, what: Private, line: &str) -> Result<(), RegistryError> {
        match what {
            Private::Tokens => {
                let with_line = |before: Option<&str>| Ok(Some(before.unwrap_or_default().to_owned() + line));
                self.objects.change(TOKENS, None, &mut |before| with_line(before))?;
            }
            Private::Log => {
                let mut random = [0; 8];
                // Without random numbers the time alone tells two apart.
                let _ = SystemRandom::new().fill(&mut random);
                let path = format!("{LOG}/{}-{:016x}.json", Timestamp::now(), u64::from_le_bytes(random));
                self.objects.create(&path, &line.to_owned().into())?;
            }
        }
        Ok(())
    }
}

const TOKENS: &str = "private/tokens.jsonl";
const LOG: &str = "private/log";

#[cfg(test)]
mod tests;
