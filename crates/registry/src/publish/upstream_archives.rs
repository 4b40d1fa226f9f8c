//! Archives that a catalogue's cards point at: fetched to fill in what cards lack, checked, or kept.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::PathBuf;

use bibliotax_archive::inspect::{contents, leading_folder};
use bibliotax_core::card::{Archive, Card, FileRecord};
use bibliotax_core::digest::Digest;
use bibliotax_core::fault::Fault;
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener, Work};
use bibliotax_disk::DiskError;
use bibliotax_disk::error::At;
use rayon::prelude::*;
use serde_json::Value;
use toml_edit::{DocumentMut, Item, value};

use crate::catalogue::registry::Registry;
use crate::model::error::RegistryError;
use crate::model::inspect::{OpenArchive, check_all_archives};
use crate::model::storage::{ReadRegistryExt, RegistryStorage};
use crate::model::upstream_archives::UpstreamArchives;
use crate::publish::audit::Flaw;

/// What a card says of a file whose archive is elsewhere, as far as it says it.
struct SaidFile {
    url: String,
    sha256: Option<String>,
    format: Option<String>,
}

impl SaidFile {
    /// What a file's keys say; nothing of a file that is in the registry.
    fn of(text: impl Fn(&str) -> Option<String>) -> Option<Self> {
        Some(Self { url: text("url")?, sha256: text("sha256"), format: text("format") })
    }
}

/// Fills cards with what their archives tell: digest, size, format, and the folder that holds the package.
pub struct Filling<'u> {
    upstream: &'u dyn UpstreamArchives,
    /// The archives that were fetched, with where each is.
    fetched: BTreeMap<Digest, PathBuf>,
}

impl<'u> Filling<'u> {
    /// Nothing is fetched yet.
    pub fn new(upstream: &'u dyn UpstreamArchives) -> Self {
        Self { upstream, fetched: BTreeMap::new() }
    }

    /// The text of a card in TOML with all that its files lack; as it is where it can't be read, which its reader tells.
    pub fn card(&mut self, text: &str) -> Result<String, Fault> {
        let Ok(mut document) = text.parse::<DocumentMut>() else { return Ok(text.to_owned()) };
        let Some(package) = document.get("name").and_then(|name| name.as_str()?.parse().ok()) else {
            return Ok(text.to_owned());
        };
        let tables = document.get_mut("files").and_then(|files| files.as_array_of_tables_mut());
        for table in tables.into_iter().flat_map(|tables| tables.iter_mut()) {
            let Some(said) = SaidFile::of(|key| Some(table.get(key)?.as_str()?.to_owned())) else { continue };
            // Where the text has it, so that people see which file it is about.
            let span = text.find(&said.url).map(|start| start..start + said.url.len()).unwrap_or_default();
            let told = self.told(&package, &said);
            for (key, told) in told.map_err(|message| Fault::new("registry.bad-line", message, span))? {
                if !table.contains_key(key) {
                    table.insert(key, toml_of(&told));
                }
            }
        }
        Ok(document.to_string())
    }

    /// Fills in what the files of a card in JSON lack.
    pub fn json(&mut self, card: &mut Value) -> Result<(), String> {
        let Some(package) = card["name"].as_str().and_then(|name| name.parse().ok()) else { return Ok(()) };
        for file in card.get_mut("files").and_then(Value::as_array_mut).into_iter().flatten() {
            let Some(said) = SaidFile::of(|key| Some(file.get(key)?.as_str()?.to_owned())) else { continue };
            for (key, told) in self.told(&package, &said)? {
                if file.get(key).is_none() {
                    file[key] = told;
                }
            }
        }
        Ok(())
    }

    /// What the archive of a file tells, by the keys of a card; an error where it isn't what the card says.
    fn told(&mut self, package: &PackageName, said: &SaidFile) -> Result<Vec<(&'static str, Value)>, String> {
        let SaidFile { url, sha256, format } = said;
        let format = format.as_deref().map(str::parse).transpose().map_err(|fault: Fault| fault.message)?;
        let fetched = self.upstream.fetch(package, url, format);
        let (archive, path) = fetched.map_err(|error| error.to_string())?;
        let Archive { sha256: found, size, format, .. } = archive;
        if let Some(said) = sha256.as_ref().filter(|said| **said != found.to_string()) {
            return Err(format!("the archive at {url} has the digest {found}, and the card says {said}"));
        }
        let files = contents(&path, format).map_err(|error| format!("the archive at {url}: {error}"))?;
        self.fetched.insert(found, path);
        let mut told = vec![
            ("sha256", found.to_string().into()),
            ("size", size.into()),
            ("format", format.to_string().into()),
        ];
        let is_on_top = files.iter().any(|file| file.path == FILE_NAME);
        let strip = leading_folder(&files).filter(|_| !is_on_top);
        told.extend(strip.map(|folder| ("strip", folder.to_string().into())));
        Ok(told)
    }

    /// Whether any archive was fetched.
    pub fn has_fetched(&self) -> bool {
        !self.fetched.is_empty()
    }

    /// Opens the archive of a file, if it was fetched.
    pub fn open(&self, file: &FileRecord) -> Option<Result<File, DiskError>> {
        let path = self.fetched.get(&file.sha256)?;
        Some(File::open(path).at("read", path))
    }
}

/// A text or a number in TOML.
fn toml_of(told: &Value) -> Item {
    told.as_i64().map_or_else(|| value(told.as_str().unwrap_or_default()), value)
}

/// Looks at every archive that the cards of a registry point at: whether it is there, is what its card says, and holds what the card
/// exposes. How many were looked at, and what is wrong.
pub fn check_upstream_archives(
    registry: &dyn RegistryStorage,
    source: &Registry,
    upstream: &dyn UpstreamArchives,
    listener: &dyn ProgressListener,
) -> Result<(usize, Vec<Flaw>), RegistryError> {
    let names = registry.names()?;
    listener.on_event(&ProgressEvent::Counting { work: Work::Checking, packages: names.len() });
    let of_package = |name: &PackageName| {
        let found = of_package(registry, source, upstream, name);
        listener.on_event(&ProgressEvent::Counted { package: name.clone() });
        found
    };
    let each = names.par_iter().map(of_package).collect::<Result<Vec<_>, RegistryError>>()?;
    let archives = each.iter().map(|(archives, _)| archives).sum();
    Ok((archives, each.into_iter().flat_map(|(_, flaws)| flaws).collect()))
}

fn of_package(
    registry: &dyn RegistryStorage,
    source: &Registry,
    upstream: &dyn UpstreamArchives,
    name: &PackageName,
) -> Result<(usize, Vec<Flaw>), RegistryError> {
    let (mut archives, mut flaws) = (0, Vec::new());
    let history = registry.history(name)?.unwrap_or_default();
    for release in history.releases() {
        let count = release.entry.files.iter().filter(|file| file.is_elsewhere()).count();
        if count == 0 || release.withdrawn.is_some() {
            continue;
        }
        archives += count;
        let checked = source.card_text(name, &release.entry.card).and_then(|text| {
            let wrong = |_| RegistryError::WrongCard { package: name.clone(), digest: release.entry.card };
            let card: Card = serde_json::from_str(&text).map_err(wrong)?;
            check_all_archives(&card, &std::env::temp_dir(), &opener(registry, upstream, name))
        });
        if let Err(error) = checked {
            let version = Some(release.entry.version.to_string());
            flaws.push(Flaw { package: Some(name.clone()), version, what: error.to_string() });
        }
    }
    Ok((archives, flaws))
}

fn opener<'o>(
    registry: &'o dyn RegistryStorage,
    upstream: &'o dyn UpstreamArchives,
    package: &'o PackageName,
) -> Box<OpenArchive<'o>> {
    Box::new(move |file: &FileRecord| match &file.url {
        Some(url) => upstream.open(package, url),
        None => registry.open_file(&file.sha256),
    })
}
