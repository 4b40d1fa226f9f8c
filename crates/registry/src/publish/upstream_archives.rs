//! Archives that a catalogue's cards point at: fetched to fill in what cards lack, checked, or kept.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_archive::inspect::{contents, leading_folder};
use bibliotax_core::card::{Archive, Card, FileRecord};
use bibliotax_core::digest::Digest;
use bibliotax_core::fault::Fault;
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener, Work};
use rayon::prelude::*;
use serde_json::Value;
use toml_edit::{DocumentMut, TableLike, value};

use crate::catalogue::registry::Registry;
use crate::model::error::RegistryError;
use crate::model::inspect::{OpenArchive, check_all_archives};
use crate::model::storage::{ReadRegistryExt, RegistryStorage};
use crate::model::upstream_archives::UpstreamArchives;
use crate::publish::audit::Flaw;

/// What a file of a card lacks, once its archive was fetched.
struct Filled {
    archive: Archive,
    strip: Option<String>,
}

/// Fills cards with what their archives tell: digest, size, format, and the folder that holds the package.
pub struct Filling<'u> {
    upstream: &'u dyn UpstreamArchives,
    /// The archives that were fetched, with where each is.
    pub fetched: BTreeMap<Digest, PathBuf>,
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
            let url = table.get("url").and_then(|url| url.as_str()).unwrap_or_default().to_owned();
            // Where the text has it, so that people see which file it is about.
            let span = text.find(&url).map(|start| start..start + url.len()).unwrap_or_default();
            self.fill(&package, table).map_err(|fault| Fault { span, ..fault })?;
        }
        Ok(document.to_string())
    }

    fn fill(&mut self, package: &PackageName, table: &mut dyn TableLike) -> Result<(), Fault> {
        let text = |key: &str| table.get(key).and_then(|item| item.as_str()).map(str::to_owned);
        let Some(url) = text("url") else { return Ok(()) };
        let (format, said) = (text("format"), text("sha256"));
        let filled = self.fetch(package, &url, format.as_deref(), said.as_deref())?;
        if said.is_none() {
            table.insert("sha256", value(filled.archive.sha256.to_string()));
        }
        if !table.contains_key("size") {
            table.insert("size", value(i64::try_from(filled.archive.size).unwrap_or(i64::MAX)));
        }
        if format.is_none() {
            table.insert("format", value(filled.archive.format.to_string()));
        }
        if let Some(strip) = filled.strip.filter(|_| !table.contains_key("strip")) {
            table.insert("strip", value(strip));
        }
        Ok(())
    }

    /// Fills in what the files of a card in JSON lack.
    pub fn json(&mut self, card: &mut Value) -> Result<(), String> {
        let Some(package) = card["name"].as_str().and_then(|name| name.parse().ok()) else { return Ok(()) };
        for file in card.get_mut("files").and_then(Value::as_array_mut).into_iter().flatten() {
            let text = |key: &str| file[key].as_str().map(str::to_owned);
            let Some(url) = text("url") else { continue };
            let (format, said) = (text("format"), text("sha256"));
            let filled = self.fetch(&package, &url, format.as_deref(), said.as_deref());
            let Filled { archive, strip } = filled.map_err(|fault| fault.message)?;
            for (key, value) in [
                ("sha256", Value::from(archive.sha256.to_string())),
                ("size", archive.size.into()),
                ("format", archive.format.to_string().into()),
            ] {
                if file.get(key).is_none() {
                    file[key] = value;
                }
            }
            if let Some(strip) = strip.filter(|_| file.get("strip").is_none()) {
                file["strip"] = strip.into();
            }
        }
        Ok(())
    }

    fn fetch(
        &mut self,
        package: &PackageName,
        url: &str,
        format: Option<&str>,
        said: Option<&str>,
    ) -> Result<Filled, Fault> {
        let wrong = |message: String| Fault::new("registry.bad-line", message, 0..0);
        let format = format.map(str::parse).transpose().map_err(|fault: Fault| wrong(fault.message))?;
        let fetched = self.upstream.fetch(package, url, format);
        let (archive, path) = fetched.map_err(|error| wrong(error.to_string()))?;
        if let Some(said) = said.filter(|said| *said != archive.sha256.to_string()) {
            return Err(wrong(format!(
                "the archive at {url} has the digest {}, and the card says {said}",
                archive.sha256
            )));
        }
        let files = contents(&path, archive.format);
        let files = files.map_err(|error| wrong(format!("the archive at {url}: {error}")))?;
        let is_on_top = files.iter().any(|file| file.path == FILE_NAME);
        let strip = leading_folder(&files).filter(|_| !is_on_top).map(|folder| folder.to_string());
        self.fetched.insert(archive.sha256, path);
        Ok(Filled { archive, strip })
    }
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

/// Opens archives that were fetched, by their digests.
pub fn open_fetched(
    fetched: &BTreeMap<Digest, PathBuf>,
    file: &FileRecord,
) -> Option<std::io::Result<std::fs::File>> {
    fetched.get(&file.sha256).map(|path: &PathBuf| std::fs::File::open(Path::new(path)))
}
