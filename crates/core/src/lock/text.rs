//! The lock as text: written in one form, and read with a reason for each fault.

use std::collections::{BTreeMap, HashSet};
use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{FORMAT, Lock, LockedPackage, LockedProject};
use crate::charter::LockedCharter;
use crate::digest::{Digest, Hasher};
use crate::fault::{Fault, conflict_marker};
use crate::history::without_place;
use crate::name::{PackageName, RegistryName, TargetName};
use crate::version::Version;

const NOTE: &str =
    "Written by bibliotax from bibliotax.toml; `bibliotax resolve` writes it again. Commit it.";

#[derive(JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Document {
    format: u64,
    digests: Digests,
    registries: BTreeMap<RegistryName, Option<String>>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    charters: Vec<LockedCharter>,
    projects: Vec<LockedProject>,
    packages: Vec<LockedPackage>,
    note: String,
}

/// What a lock was resolved from, and all else in it. They stand in one line, the only one that two changes of different
/// packages have in common.
#[derive(JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct Digests {
    made_from: Digest,
    content: Digest,
}

/// Why a text is no lock that can be trusted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockFault {
    /// What is wrong, and where.
    pub fault: Fault,
    /// Whether `resolve` may write the lock again: not where a newer version wrote it.
    pub replaceable: bool,
}

impl fmt::Display for Lock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        writeln!(f, "{{")?;
        writeln!(f, "  \"format\": {FORMAT},")?;
        let digests = Digests { made_from: self.made_from, content: digest(self) };
        writeln!(f, "  \"digests\": {},", line(&digests))?;
        writeln!(f, "  \"registries\": {},", line(&self.registries))?;
        if !self.charters.is_empty() {
            writeln!(f, "  \"charters\": [")?;
            write_lines(f, &self.charters, line)?;
            writeln!(f, "  ],")?;
        }
        writeln!(f, "  \"projects\": [")?;
        write_lines(f, &self.projects, LockedProject::as_lines)?;
        writeln!(f, "  ],")?;
        writeln!(f, "  \"packages\": [")?;
        write_lines(f, &self.packages, line)?;
        writeln!(f, "  ],")?;
        writeln!(f, "  \"note\": {}", line(NOTE))?;
        writeln!(f, "}}")
    }
}

fn write_lines<T>(f: &mut fmt::Formatter<'_>, values: &[T], text: impl Fn(&T) -> String) -> fmt::Result {
    for (index, value) in values.iter().enumerate() {
        let comma = if index + 1 < values.len() { "," } else { "" };
        writeln!(f, "    {}{comma}", text(value))?;
    }
    Ok(())
}

impl LockedCharter {
    /// Its line in the lock, without what stands around it.
    pub fn as_line(&self) -> String {
        line(self)
    }
}

impl LockedProject {
    /// The first of its lines in the lock, without what stands around it.
    pub fn first_line(&self) -> String {
        self.as_lines().lines().next().unwrap_or_default().to_owned()
    }

    /// Its text in the lock: a line for each need, so that two people can add needs without touching one line.
    fn as_lines(&self) -> String {
        let head = line(&Self { needs: Vec::new(), ..self.clone() });
        let needs: Vec<String> = self.needs.iter().map(|need| format!("      {}", line(need))).collect();
        match head.strip_suffix('}') {
            Some(head) if !needs.is_empty() => format!("{head},\"needs\":[\n{}\n    ]}}", needs.join(",\n")),
            _ => head,
        }
    }
}

impl LockedPackage {
    /// Its line in the lock, without what stands around it.
    pub fn as_line(&self) -> String {
        line(self)
    }
}

fn line<T: Serialize + ?Sized>(value: &T) -> String {
    // Texts, lists and maps with names for keys: nothing in a lock can fail to be JSON.
    serde_json::to_string(value).unwrap_or_default()
}

/// The digest of all in a lock but itself.
pub fn digest(lock: &Lock) -> Digest {
    digest_with(lock, lock.packages.iter().map(line))
}

/// The digest of a lock whose packages are these lines.
fn digest_with(lock: &Lock, packages: impl Iterator<Item = impl AsRef<str>>) -> Digest {
    let mut hasher = Hasher::default();
    hasher.update(format!("{FORMAT}\n{}\n{}\n", lock.made_from, line(&lock.registries)).as_bytes());
    let mut add = |line: &str| {
        hasher.update(line.as_bytes());
        hasher.update(b"\n");
    };
    lock.charters.iter().for_each(|charter| add(&line(charter)));
    lock.projects.iter().for_each(|project| add(&line(project)));
    packages.for_each(|line| add(line.as_ref()));
    hasher.finish()
}

/// Whether a lock is what its digest says, and its text what is written of it: sooner known than its digest, which is still
/// right where only the text's layout is another.
fn is_as_written(lock: &Lock, text: &str, digest: &Digest) -> bool {
    let Some((_, packages)) = text.split_once("\n  \"packages\": [\n") else { return false };
    let lines = packages.lines().take_while(|line| line.starts_with("    {")).map(stripped);
    lines.clone().count() == lock.packages.len() && digest_with(lock, lines) == *digest
}

impl Lock {
    /// Reads a lock; a [`LockFault`] where it was cut short, merged, edited, or written by a newer version.
    pub fn read(text: &str) -> Result<Self, LockFault> {
        // Also where it is one side of a merge, nothing is written over it.
        if let Some(fault) = newer_format(text) {
            return Err(LockFault { fault, replaceable: false });
        }
        if let Some(fault) = conflict_fault(text) {
            return Err(LockFault { fault, replaceable: true });
        }
        let document: Document = serde_json::from_str(text)
            .map_err(|error| LockFault { fault: broken(text, &error), replaceable: true })?;
        let Document {
            digests: Digests { made_from, content },
            registries,
            charters,
            projects,
            packages,
            ..
        } = document;
        let lock = Self { made_from, registries, charters, projects, packages };
        let is_sound = is_as_written(&lock, text, &content) || digest(&lock) == content;
        let is_sorted = sorted(&lock.packages, |package| &package.name)
            && sorted(&lock.charters, |charter| &charter.name);
        if !is_sound || !is_sorted {
            return Err(LockFault { fault: edited(text), replaceable: true });
        }
        match lock.packages.iter().find(|package| !lock.has_targets_of(package)) {
            Some(package) => Err(LockFault { fault: inconsistent(text, package), replaceable: true }),
            None => Ok(lock),
        }
    }

    /// Whether a package is for targets that projects have, for some where they have any, and its files and steps for these.
    fn has_targets_of(&self, package: &LockedPackage) -> bool {
        let known = self.targets();
        let is_within =
            |targets: &[TargetName], all: &[TargetName]| targets.iter().all(|one| all.contains(one));
        let is_for_known = package.targets.iter().all(|target| known.contains(&target.as_str()));
        is_for_known
            && package.targets.is_empty() == known.is_empty()
            && package.files.iter().all(|file| is_within(&file.targets, &package.targets))
            && package.steps.iter().all(|step| is_within(&step.targets, &package.targets))
    }
}

fn sorted<T>(lines: &[T], name: impl Fn(&T) -> &PackageName) -> bool {
    lines.windows(2).all(|pair| name(&pair[0]) < name(&pair[1]))
}

/// The packages whose lines can be read in a text that is no sound lock: what resolving should keep if it can.
pub fn salvage(text: &str) -> Vec<LockedPackage> {
    let read = |line: &str| serde_json::from_str::<LockedPackage>(stripped(line)).ok();
    let mut packages: Vec<LockedPackage> = text.lines().filter_map(read).collect();
    // Of two sides of a merge, the newer release of a package.
    packages.sort_by(|a, b| a.name.cmp(&b.name).then_with(|| b.version.cmp(&a.version)));
    packages.dedup_by(|later, first| later.name == first.name);
    packages
}

/// The names and versions of the packages and charters whose lines can be read in a text, even where the rest of it is broken.
pub fn listed(text: &str) -> Vec<(PackageName, Version)> {
    #[derive(serde::Deserialize)]
    struct Listed {
        name: PackageName,
        version: Version,
    }
    let read = |line: &str| serde_json::from_str::<Listed>(stripped(line)).ok();
    text.lines().filter_map(read).map(|listed| (listed.name, listed.version)).collect()
}

/// The charters whose lines can be read in a text that is no sound lock.
pub fn salvage_charters(text: &str) -> Vec<LockedCharter> {
    let read = |line: &str| serde_json::from_str::<LockedCharter>(stripped(line)).ok();
    let mut charters: Vec<LockedCharter> = text.lines().filter_map(read).collect();
    charters.sort_by(|a, b| a.name.cmp(&b.name).then_with(|| b.version.cmp(&a.version)));
    charters.dedup_by(|later, first| later.name == first.name);
    charters
}

/// The packages whose lines are in one of two locks only, each side sorted by name; what can't be read is passed over.
pub fn changed_lines(old: &str, new: &str) -> [Vec<LockedPackage>; 2] {
    let [before, after] = [old, new].map(|text| text.lines().map(stripped).collect::<HashSet<_>>());
    let only = |text: &str, other: &HashSet<&str>| {
        let lines = text.lines().map(stripped).filter(|line| !other.contains(line));
        let mut packages: Vec<LockedPackage> =
            lines.filter_map(|line| serde_json::from_str::<LockedPackage>(line).ok()).collect();
        packages.sort_by(|a, b| a.name.cmp(&b.name));
        packages.dedup_by(|later, first| later.name == first.name);
        packages
    };
    [only(old, &after), only(new, &before)]
}

/// The charters whose lines are in one of two locks only, each side sorted by name.
pub fn changed_charters(old: &str, new: &str) -> [Vec<LockedCharter>; 2] {
    let [before, after] = [old, new].map(salvage_charters);
    let only = |charters: &[LockedCharter], other: &[LockedCharter]| {
        charters.iter().filter(|charter| !other.contains(charter)).cloned().collect()
    };
    [only(&before, &after), only(&after, &before)]
}

/// A line without what stands around it.
fn stripped(line: &str) -> &str {
    line.trim().trim_end_matches(',')
}

const ADVICE: &str =
    "run `bibliotax resolve`: it keeps the versions that can be read, and writes the lock again";

const MERGE_ADVICE: &str = "run `bibliotax merge`: it keeps what both sides chose, and writes the lock again";

fn conflict_fault(text: &str) -> Option<Fault> {
    let span = conflict_marker(text)?;
    let fault = Fault::new("lock.conflict", "the lock has unresolved merge conflicts", span);
    Some(fault.label("a conflict marker").advice(MERGE_ADVICE))
}

/// Reads just the format, which stands near the top of each side, so that nothing newer is misread.
fn newer_format(text: &str) -> Option<Fault> {
    const KEY: &str = "\"format\":";
    let lines = text.match_indices(KEY).filter(|(at, _)| {
        let line = text[..*at].rfind('\n').map_or(0, |end| end + 1);
        text[line..*at].trim().is_empty()
    });
    let formats = lines.filter_map(|(key, _)| {
        let number = text[key + KEY.len()..].trim_start();
        let start = text.len() - number.len();
        let digits = number.find(|c: char| !c.is_ascii_digit()).unwrap_or(number.len());
        Some((number[..digits].parse::<u64>().ok()?, start..start + digits))
    });
    formats.into_iter().find(|(format, _)| *format > FORMAT).map(|(format, span)| {
        let message =
            format!("the lock has format {format}, but this version of bibliotax reads only up to {FORMAT}");
        Fault::new("lock.newer", message, span)
            .label("written by a newer version")
            .advice("use the version of bibliotax that your team uses; nothing was changed")
    })
}

fn broken(text: &str, error: &serde_json::Error) -> Fault {
    let at = offset(text, error.line(), error.column());
    if error.is_eof() {
        return Fault::new("lock.cut-short", "the lock ends too early", at..at)
            .label("the text ends here")
            .advice(ADVICE);
    }
    Fault::new("lock.broken", "the lock can't be read", at..at).label(without_place(error)).advice(ADVICE)
}

/// The byte at a line and column that both count from 1; the column counts bytes.
fn offset(text: &str, line: usize, column: usize) -> usize {
    let before: usize = text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
    let mut at = (before + column.saturating_sub(1)).min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

/// That what the lock says of a package doesn't go with what it says of projects; the place is the package's line.
fn inconsistent(text: &str, package: &LockedPackage) -> Fault {
    let beginning = format!("{{\"name\":{},\"version\"", line(&package.name));
    let at = text.find(&beginning).unwrap_or(0);
    let end = text[at..].find('\n').map_or(text.len(), |length| at + length);
    let message = format!("the lock has {} for targets that its projects don't have", package.name);
    Fault::new("lock.inconsistent", message, at..end).label("this package").advice(ADVICE)
}

fn edited(text: &str) -> Fault {
    const KEY: &str = "\"digests\"";
    let at = text.find(KEY).unwrap_or(0);
    let message = "the lock doesn't match its digest: it was changed by hand or by a merge";
    Fault::new("lock.edited", message, at..at + KEY.len().min(text.len() - at))
        .label("the digest of the rest")
        .advice(ADVICE)
}
