//! `registry follow`: what upstreams published that a catalogue lacks, as cards that are ready to be added.

mod license_change;
mod looking;

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use bibliotax_core::name::{PackageName, RoleName};
use bibliotax_core::version::Version;
use bibliotax_disk::DiskError;
use bibliotax_disk::write::{folder_of, write_whole};
use bibliotax_registry::catalogue::upstream_releases::Upstream;
use bibliotax_registry::model::storage::RegistryStorage;
use bibliotax_registry::publish::file_changes::FileChanges;
use bibliotax_registry::publish::next_release::NextRelease;
use bibliotax_registry::sources::direct_sources::DirectSources;
use jiff::Timestamp;
use serde_json::Value;

pub use self::license_change::LicenseChange;
use self::looking::Looking;
use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// What is followed.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The registry.
    pub place: String,
    /// Only these packages; none for all.
    pub packages: Vec<String>,
    /// Whether releases are added.
    pub applies: bool,
    /// Whether releases with another licence need no person, where their text leaves no doubt about it.
    pub accepts_licenses: bool,
    /// The file that the cards are written to that aren't added.
    pub cards: Option<PathBuf>,
}

/// What upstreams have.
pub struct Report {
    /// The registry's name.
    pub registry: String,
    /// The packages that say where their upstream's releases appear, by name.
    pub packages: Vec<Followed>,
    /// How many packages say nothing of that.
    pub unfollowed: usize,
    /// How many cards were written to a file.
    pub written: usize,
}

/// A package that follows its upstream.
pub struct Followed {
    /// The package.
    pub name: PackageName,
    /// The newest release that the catalogue has; `None` where what it has can't be read.
    pub has: Option<Version>,
    /// The URL of the place where releases appear; empty where it can't be read.
    pub place: String,
    /// What was found there, or why nothing could be found out.
    pub found: Result<Found, NotFollowed>,
}

/// Why the releases of a package are unknown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotFollowed {
    /// The stable code of the error.
    pub code: &'static str,
    /// What is wrong.
    pub message: String,
}

/// What an upstream has.
#[derive(Debug, Clone, Default)]
pub struct Found {
    /// The releases that the catalogue lacks, oldest first.
    pub new: Vec<NewRelease>,
    /// More of them that are older, for which no card was made.
    pub more: Vec<Version>,
}

/// A release that the catalogue lacks.
#[derive(Debug, Clone)]
pub struct NewRelease {
    /// Its version.
    pub version: Version,
    /// As upstream writes it.
    pub text: String,
    /// When upstream published it, as far as anybody says.
    pub at: Option<Timestamp>,
    /// How large its archives are together, in bytes.
    pub size: u64,
    /// What became of its licence.
    pub license: Option<LicenseChange>,
    /// How its files differ from those of the release whose card it got; `None` where that is unknown.
    pub files: Option<FileChanges>,
    /// The same, role by role.
    pub roles: BTreeMap<RoleName, FileChanges>,
    /// Where it stands.
    pub state: State,
    /// What may be added.
    pub next: Option<NextRelease>,
}

/// Where a new release stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum State {
    /// Its card is complete, and its archives hold what the card says.
    Ready,
    /// It was added.
    Added,
    /// A person has to look at it first.
    Held(String),
}

impl Report {
    /// The new releases of all packages.
    pub fn releases(&self) -> impl Iterator<Item = (&PackageName, &NewRelease)> {
        let found = self.packages.iter().filter_map(|one| Some((&one.name, one.found.as_ref().ok()?)));
        found.flat_map(|(name, found)| found.new.iter().map(move |release| (name, release)))
    }

    /// Whether all could be asked, and nothing waits for a person.
    pub fn is_smooth(&self) -> bool {
        self.packages.iter().all(|one| one.found.is_ok())
            && self.releases().all(|(_, release)| !matches!(release.state, State::Held(_)))
    }
}

/// Looks at all upstreams of a catalogue, and adds what is ready where that is asked. A package whose upstream can't be asked, or whose
/// release can't be added, doesn't stop the others.
pub fn follow(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let cards = request.cards.as_ref().map(|path| context.folder.join(path));
    if let Some(folder) = cards.as_ref().map(|path| folder_of(path)).filter(|folder| !folder.is_dir()) {
        // Nothing is asked and added first, only to fail then.
        return Err(DiskError::new("write in", folder, io::ErrorKind::NotFound.into()).into());
    }
    let registry = registry_storage::open(&request.place, context)?;
    let sources = DirectSources::undeclared(context.folder, &context.environment.network());
    // Who keeps a catalogue may follow servers of their own network.
    let upstream = Upstream { sources: &sources, is_inside: true };
    let names = wanted(request, &*registry)?;
    let looking = Looking {
        registry: &*registry,
        upstream: &upstream,
        listener: context.listener,
        accepts_licenses: request.accepts_licenses,
    };
    let (mut packages, unfollowed) = looking.look_at(&names);
    if request.applies {
        add(&registry, &mut packages, context.environment.now);
    }
    let mut report = Report { registry: registry.name().to_owned(), packages, unfollowed, written: 0 };
    if let Some(path) = cards {
        let cards: Vec<String> = report.releases().filter_map(|(_, release)| line_of(release)).collect();
        report.written = cards.len();
        write_whole(&path, cards.concat().as_bytes())?;
    }
    Ok(report)
}

/// The packages that are asked about.
fn wanted(request: &Request, registry: &dyn RegistryStorage) -> Result<BTreeSet<PackageName>, Failure> {
    let names: BTreeSet<PackageName> = registry.names()?.into_iter().collect();
    if request.packages.is_empty() {
        return Ok(names);
    }
    let known = |word: &String| {
        let name: PackageName = Failure::read_word(word)?;
        let unknown = || Failure::new("package.unknown", format!("the registry has no package {name}"));
        if names.contains(&name) { Ok(name) } else { Err(unknown()) }
    };
    request.packages.iter().map(known).collect()
}

/// Adds what is ready, oldest first; what the registry refuses stays for a person to look at.
fn add(registry: &Arc<dyn RegistryStorage>, packages: &mut [Followed], now: Timestamp) {
    let found = packages.iter_mut().filter_map(|one| one.found.as_mut().ok());
    for release in found.flat_map(|found| &mut found.new) {
        let (State::Ready, Some(next)) = (&release.state, &release.next) else { continue };
        release.state = match next.add_to(registry, now) {
            Ok(_) => State::Added,
            Err(error) => State::Held(error.to_string()),
        };
    }
}

/// The card of a release that wasn't added, as a line that `registry load` reads.
fn line_of(release: &NewRelease) -> Option<String> {
    let next = release.next.as_ref().filter(|_| release.state != State::Added)?;
    let mut card = serde_json::to_value(&next.card).ok()?;
    let files = card.get_mut("files").and_then(Value::as_array_mut);
    for (file, archive) in files.into_iter().flatten().zip(&next.archives) {
        if file.get("url").is_none() {
            file["path"] = archive.display().to_string().into();
        }
    }
    Some(format!("{card}\n"))
}
