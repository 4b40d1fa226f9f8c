//! Checks a lock that somebody else may have written, against the manifests and the cards of its releases.

use bibliotax_core::card::Entry;
use bibliotax_core::charter::LockedCharter;
use bibliotax_core::facet::Facets;
use bibliotax_core::fault::Fault;
use bibliotax_core::lock::{self, Held, Line, Lock, LockedPackage, Mismatch};
use bibliotax_core::name::RegistryName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::source::Source;
use bibliotax_present::words::first_few;
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::checked_lines::CheckedLines;
use bibliotax_registry::catalogue::registries::{Registries, place_of};
use bibliotax_registry::client::http::Cards;
use bibliotax_registry::sources::direct_sources::Freshness;

use crate::environment::Environment;
use crate::failure::Failure;
use crate::locked_cards::LockedCards;
use crate::resolving::prefetch_locked;
use crate::search_options::SearchOptions;
use crate::workspace::WorkspaceFolder;

/// Most packages that are named in a message.
const MAX_SHOWN: usize = 5;

const ADVICE: &str =
    "check in version control who edited the lock, and run `bibliotax resolve` to write it again";

/// Checks locks of a workspace.
pub struct LockCheck<'w> {
    workspace: &'w WorkspaceFolder,
    environment: &'w Environment,
    options: &'w SearchOptions,
    /// Cards that are read already.
    cards: Option<&'w LockedCards>,
}

impl<'w> LockCheck<'w> {
    /// Checks locks of a workspace.
    pub fn new(
        workspace: &'w WorkspaceFolder,
        environment: &'w Environment,
        options: &'w SearchOptions,
    ) -> Self {
        Self { workspace, environment, options, cards: None }
    }

    /// The same with cards that are read already.
    #[must_use]
    pub fn with_cards(self, cards: &'w LockedCards) -> Self {
        Self { cards: Some(cards), ..self }
    }

    /// Fails unless a lock says what the manifests lead to, and of each release what its card says. What this machine checked
    /// before isn't checked again.
    pub fn check(&self, lock: &Lock) -> Result<(), Failure> {
        let held = Held::new(lock, &self.workspace.declared);
        if let Some(mismatch) = held.against_manifests() {
            return Err(mismatched(lock, &mismatch));
        }
        let lines = CheckedLines::of(&self.environment.network());
        let keyed = keyed(self.workspace, lock);
        let keys: Vec<[u8; 32]> = keyed.iter().map(|(_, key)| *key).collect();
        let known = lines.known(&keys);
        let new = || keyed.iter().filter(|(_, key)| !known.contains(key)).map(|(line, _)| *line);
        let packages: Vec<&LockedPackage> = new().filter_map(LockedLine::package).collect();
        let charters: Vec<&LockedCharter> = new().filter_map(LockedLine::charter).collect();
        if packages.is_empty() && charters.is_empty() {
            return Ok(());
        }
        self.check_charters(lock, &charters)?;
        self.check_packages(lock, &held, &packages)?;
        if self.workspace.is_held() {
            lines.note(&keys);
        }
        Ok(())
    }

    /// Compares charters with their cards: those that the store has, and for the rest what their registries say.
    fn check_charters(&self, lock: &Lock, charters: &[&LockedCharter]) -> Result<(), Failure> {
        let cards = Cards::of(&self.environment.registries_folder()?);
        let mut registries = None;
        for charter in charters {
            let entry = match cards.card(&charter.card) {
                Some(card) => Some(card.entry(charter.card)),
                None => {
                    let registries = match &registries {
                        Some(opened) => opened,
                        None => registries.insert(self.registries()?),
                    };
                    let listing = registries.listing(&charter.name)?;
                    let listing =
                        listing.filter(|listing| listing.source.registry() == Some(&charter.source));
                    let release =
                        listing.as_ref().and_then(|listing| listing.history.release(&charter.version));
                    release.map(|release| release.entry.clone())
                }
            };
            let is_of = |entry: &Entry| {
                (&entry.name, &entry.version, entry.card) == (&charter.name, &charter.version, charter.card)
                    && entry.charter.as_deref() == Some(&charter.charter)
            };
            if !entry.as_ref().is_some_and(is_of) {
                let what = format!("{} states something else in {}", charter.release(), charter.source);
                let line = Line::Charter(charter.name.clone());
                return Err(mismatched(lock, &Mismatch { line, what }));
            }
        }
        Ok(())
    }

    fn registries(&self) -> Result<Registries, Failure> {
        let network = self.environment.network_for(self.options);
        Ok(self.workspace.open_registries(&self.workspace.declared, Freshness::Locked, &network)?)
    }

    /// Compares packages with their cards: those that the store has, and for the rest what their sources say.
    fn check_packages(
        &self,
        lock: &Lock,
        held: &Held<'_>,
        packages: &[&LockedPackage],
    ) -> Result<(), Failure> {
        let cards = Cards::of(&self.environment.registries_folder()?);
        let card = |package: &LockedPackage| {
            let digest = package.card?;
            // What comes from no registry is held against its source, too.
            let cards_of_registries = self.cards.filter(|_| package.source.registry().is_some());
            if let Some(card) = cards_of_registries.and_then(|cards| cards.get(&package.name)) {
                return Some(card.entry(digest));
            }
            Some(cards.card(&digest)?.entry(digest))
        };
        let mut left = Vec::new();
        for package in packages {
            match card(package) {
                Some(entry) => self.compare(lock, held, package, &entry, None)?,
                None => left.push(*package),
            }
        }
        if left.is_empty() {
            return Ok(());
        }
        self.check_with_sources(lock, held, &left).map_err(|failure| match failure.code {
            "lock.mismatch" => failure,
            // Why there is no answer says nothing of what the answer was for.
            _ => failure.because([without_cards(&left)]),
        })
    }

    fn check_with_sources(
        &self,
        lock: &Lock,
        held: &Held<'_>,
        packages: &[&LockedPackage],
    ) -> Result<(), Failure> {
        let registries = self.registries()?;
        prefetch_locked(&registries, packages.iter().copied());
        let facets = registries.facets();
        for package in packages {
            let entry = self.entry_of(package, &registries)?;
            let Some(entry) = entry else {
                let what = format!("{} has no {} {}", package.source, package.name, package.version);
                return Err(mismatched(lock, &of_package(package, what)));
            };
            self.compare(lock, held, package, &entry, Some(&facets))?;
        }
        if self.workspace.is_held() {
            registries.remember();
        }
        Ok(())
    }

    /// What the source of a package says of the release that is locked.
    fn entry_of(&self, package: &LockedPackage, registries: &Registries) -> Result<Option<Entry>, Failure> {
        if let Source::Git(source) = &package.source {
            match registries.has_commit(&package.name, source) {
                Ok(true) => {}
                Ok(false) => return Ok(None),
                // What is on this machine was checked when it came.
                Err(error) if matches!(error, RegistryError::MovedTag { .. }) => return Err(error.into()),
                Err(error) => {
                    let kept = registries.listing_in_store(&package.name)?.ok_or(error)?;
                    let release = kept.history.release(&package.version);
                    return Ok(release.map(|release| release.entry.clone()));
                }
            }
        }
        let listing = registries
            .listing(&package.name)?
            .filter(|listing| listing.source == package.source || package.source.registry().is_none());
        let release = listing.as_ref().and_then(|listing| listing.history.release(&package.version));
        Ok(release.map(|release| release.entry.clone()))
    }

    fn compare(
        &self,
        lock: &Lock,
        held: &Held<'_>,
        package: &LockedPackage,
        entry: &Entry,
        facets: Option<&Facets>,
    ) -> Result<(), Failure> {
        match held.against_entry(package, entry, facets) {
            Some(what) => Err(mismatched(lock, &of_package(package, what))),
            None => Ok(()),
        }
    }
}

/// Remembers that this lock was made here, from what cards say.
pub fn remember(workspace: &WorkspaceFolder, lock: &Lock, environment: &Environment) {
    let keys: Vec<[u8; 32]> = keyed(workspace, lock).into_iter().map(|(_, key)| key).collect();
    CheckedLines::of(&environment.network()).note(&keys);
}

/// Remembers what the lock of a kit says of packages that are in no registry: they have no card with a digest that they could be
/// compared with, so the kit's maker vouches for them.
pub fn remember_kit(lock: &Lock, environment: &Environment) {
    let packages =
        lock.packages.iter().filter(|package| matches!(package.source, Source::Git(_) | Source::Archive(_)));
    let keys: Vec<[u8; 32]> = packages.map(|package| CheckedLines::key("", &package.as_line())).collect();
    CheckedLines::of(&environment.network()).note(&keys);
}

/// A line of a lock that a card vouches for.
#[derive(Clone, Copy)]
enum LockedLine<'l> {
    Package(&'l LockedPackage),
    Charter(&'l LockedCharter),
}

impl<'l> LockedLine<'l> {
    fn package(self) -> Option<&'l LockedPackage> {
        if let Self::Package(package) = self { Some(package) } else { None }
    }

    fn charter(self) -> Option<&'l LockedCharter> {
        if let Self::Charter(charter) = self { Some(charter) } else { None }
    }

    fn text(self) -> String {
        match self {
            Self::Package(package) => package.as_line(),
            Self::Charter(charter) => charter.as_line(),
        }
    }

    fn registry(self) -> Option<&'l RegistryName> {
        match self {
            Self::Package(package) => package.source.registry(),
            Self::Charter(charter) => Some(&charter.source),
        }
    }
}

/// The lines that are remembered, each with its key: not those of packages in folders, which anybody edits.
fn keyed<'l>(workspace: &WorkspaceFolder, lock: &'l Lock) -> Vec<(LockedLine<'l>, [u8; 32])> {
    let place = |line: LockedLine<'_>| {
        let name = line.registry()?;
        let declared = workspace.declared.registries.iter().find(|declared| declared.name == *name)?;
        Some(place_of(declared, &workspace.root))
    };
    let packages = lock.packages.iter().filter(|package| package.source.path().is_none());
    let lines = packages.map(LockedLine::Package).chain(lock.charters.iter().map(LockedLine::Charter));
    lines.map(|line| (line, CheckedLines::key(&place(line).unwrap_or_default(), &line.text()))).collect()
}

/// That the store has no cards yet of packages.
fn without_cards(packages: &[&LockedPackage]) -> String {
    let packages: Vec<String> =
        packages.iter().map(|package| format!("{} {}", package.name, package.version)).collect();
    let shown = first_few(&packages, MAX_SHOWN);
    format!("This machine hasn't seen the lock before, and the store has no cards for {shown}.")
}

fn of_package(package: &LockedPackage, what: String) -> Mismatch {
    Mismatch { line: Line::Package(package.name.clone()), what }
}

/// The failure of a lock that says something else than what it is made from, at its line.
fn mismatched(lock: &Lock, mismatch: &Mismatch) -> Failure {
    let text = lock.to_string();
    let line = match &mismatch.line {
        Line::Registries => text.lines().find(|line| line.starts_with("  \"registries\"")).map(str::to_owned),
        Line::Charter(name) => lock.charter(name).map(LockedCharter::as_line),
        Line::Project(name) => {
            lock.projects.iter().find(|project| project.name == *name).map(lock::LockedProject::first_line)
        }
        Line::Package(name) => lock.package(name).map(LockedPackage::as_line),
    };
    let at = line.as_ref().and_then(|line| text.find(line.as_str())).unwrap_or(0);
    // The beginning of a line says which one it is; all of it would fill the terminal.
    let end = (at + 40).min(at + line.map_or(0, |line| line.len()));
    let message = format!("the lock contradicts manifests or cards: {}", mismatch.what);
    let fault = Fault::new("lock.mismatch", message, at..end).label("this line").advice(ADVICE);
    Failure::in_text(lock::FILE_NAME, &text, vec![fault])
}
