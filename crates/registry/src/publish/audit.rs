//! Checks everything that a registry holds: each event, card and file.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::sync::Arc;

use bibliotax_core::card::{Card, Entry};
use bibliotax_core::digest::{Digest, Hasher};
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener, Work};
use bibliotax_disk::error::At;
use rayon::prelude::*;
use serde::Serialize;

use crate::catalogue::registry::Registry;
use crate::model::card_check::check_card;
use crate::model::error::RegistryError;
use crate::model::names::Named;
use crate::model::storage::{ReadRegistryExt, RegistryStorage};

/// Something that is not as it should be.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Flaw {
    /// The package; none for a file that is of no package.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub package: Option<PackageName>,
    /// The version, where it is about one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// What is wrong.
    pub what: String,
}

/// What an audit found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Audit {
    /// How many packages were read.
    pub packages: usize,
    /// How many releases.
    pub releases: usize,
    /// How many files, cards included, with their bytes.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Files that no release names: of uploads that never became one, or of no use any more.
    pub unnamed: usize,
    /// What is wrong, by package and version.
    pub flaws: Vec<Flaw>,
}

/// Reads all that a registry holds.
pub fn audit(
    registry: &Arc<dyn RegistryStorage>,
    listener: &dyn ProgressListener,
) -> Result<Audit, RegistryError> {
    let source = Registry::of_storage(Arc::clone(registry));
    let listed = registry.listed_names()?;
    let mut names = registry.names()?;
    names.sort();
    let there: BTreeMap<Digest, u64> = registry.files()?.into_iter().collect();
    listener.on_event(&ProgressEvent::Counting { work: Work::Checking, packages: names.len() });
    let each: Vec<Found> = names
        .par_iter()
        .map(|name| {
            let found = of_package(&**registry, &source, &there, &listed, name);
            listener.on_event(&ProgressEvent::Counted { package: name.clone() });
            found
        })
        .collect();
    let named: BTreeSet<&Digest> = each.iter().flat_map(|found| &found.named).collect();
    let mut audit = Audit { packages: names.len(), ..Audit::default() };
    let read: Vec<(u64, Option<Flaw>)> = there
        .par_iter()
        .map(|(digest, size)| of_file(&**registry, digest, *size))
        .collect::<Result<_, _>>()?;
    for ((digest, _), (bytes, flaw)) in there.iter().zip(read) {
        audit.bytes += bytes;
        audit.unnamed += usize::from(!named.contains(digest));
        audit.flaws.extend(flaw);
    }
    audit.files = there.len();
    for found in &each {
        audit.releases += found.releases;
        audit.flaws.extend(found.flaws.iter().cloned());
    }
    audit.flaws.sort();
    Ok(audit)
}

/// What one package's history names, and what is wrong with it.
#[derive(Default)]
struct Found {
    releases: usize,
    named: Vec<Digest>,
    flaws: Vec<Flaw>,
}

fn of_package(
    registry: &dyn RegistryStorage,
    source: &Registry,
    files: &BTreeMap<Digest, u64>,
    listed: &BTreeMap<PackageName, Named>,
    name: &PackageName,
) -> Found {
    let mut found = Found::default();
    let history = match registry.history(name) {
        Ok(history) => history.unwrap_or_default(),
        Err(error) => {
            found.flaws.push(Flaw { package: Some(name.clone()), version: None, what: error.to_string() });
            return found;
        }
    };
    if listed.get(name) != Some(&registry.named(name, &history)) {
        let what = "the list of names differs; `--repair` rebuilds it".to_owned();
        found.flaws.push(Flaw { package: Some(name.clone()), version: None, what });
    }
    for release in history.releases() {
        found.releases += 1;
        let flaw = |what: String| Flaw {
            package: Some(name.clone()),
            version: Some(release.entry.version.to_string()),
            what,
        };
        for entry in release.entries() {
            found.named.extend(entry.files.iter().map(|file| file.sha256).chain([entry.card]));
            found.flaws.extend(of_release(files, source, entry).into_iter().map(flaw));
        }
    }
    found
}

fn of_release(files: &BTreeMap<Digest, u64>, source: &Registry, entry: &Entry) -> Vec<String> {
    let mut wrong = Vec::new();
    for file in entry.files.iter().filter(|file| !file.is_elsewhere()) {
        match files.get(&file.sha256) {
            None => wrong.push(format!("its {} archive {} is not there", file.part, file.sha256)),
            Some(found) if *found != file.size => {
                wrong.push(format!("its {} archive has {found} bytes, not {}", file.part, file.size));
            }
            Some(_) => {}
        }
    }
    let text = source.card_text(&entry.name, &entry.card).ok();
    match text.as_deref().map(serde_json::from_str::<Card>) {
        None => wrong.push(format!("its card {} is not there", entry.card)),
        Some(Err(_)) => wrong.push(format!("its card {} can't be read", entry.card)),
        Some(Ok(card)) => {
            if !is_of(&card, entry) {
                wrong.push("its line in the history differs from its card".to_owned());
            }
            wrong.extend(check_card(source.name(), &source.all_facets(), &card).err().map(|e| e.to_string()));
        }
    }
    wrong
}

/// Whether an entry is its card's.
fn is_of(card: &Card, entry: &Entry) -> bool {
    let as_text = |entry: &Entry| serde_json::to_string(entry).unwrap_or_default();
    as_text(&card.entry(entry.card)) == as_text(entry)
}

/// The length of a file, and whether its bytes are those of its name.
fn of_file(
    registry: &dyn RegistryStorage,
    digest: &Digest,
    size: u64,
) -> Result<(u64, Option<Flaw>), RegistryError> {
    let mut hasher = Hasher::default();
    let mut file = registry.read_file(digest, 0..size)?;
    let bytes = io::copy(&mut file, &mut hasher).at("read", registry.place())?;
    let found = hasher.finish();
    let what = || format!("the file {digest} has the digest {found}");
    Ok((bytes, (found != *digest).then(|| Flaw { package: None, version: None, what: what() })))
}
