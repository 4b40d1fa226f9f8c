//! Looks at the upstreams of many packages: several hosts at once, and of each host one package after the other.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::path::PathBuf;
use std::sync::Mutex;
use std::thread;

use bibliotax_core::card::Card;
use bibliotax_core::fitting::newest;
use bibliotax_core::follow::{Follow, lacking};
use bibliotax_core::history::{History, Release};
use bibliotax_core::location::Location;
use bibliotax_core::name::PackageName;
use bibliotax_core::progress::{ProgressEvent, ProgressListener, Work};
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::upstream_releases::{Upstream, UpstreamRelease};
use bibliotax_registry::model::error::RegistryError;
use bibliotax_registry::model::storage::{ReadRegistryExt, RegistryStorage};
use bibliotax_registry::publish::file_changes::file_changes;
use bibliotax_registry::publish::next_release::{NextRelease, archives_of, next_release};

use super::license_change::{LicenseChange, license_change};
use super::{Followed, Found, NewRelease, NotFollowed, State};

/// How many hosts are asked at once.
const MAX_HOSTS: usize = 8;

/// Most new releases of a package that cards are made for.
const MAX_NEW: usize = 10;

/// What looks at upstreams.
pub struct Looking<'l> {
    pub registry: &'l dyn RegistryStorage,
    pub upstream: &'l Upstream<'l>,
    pub listener: &'l dyn ProgressListener,
    /// Whether releases with another licence need no person.
    pub accepts_licenses: bool,
}

/// A package with what its newest card says of its upstream.
struct Package {
    name: PackageName,
    history: History,
    newest: Card,
    follow: Follow,
}

impl Looking<'_> {
    /// Looks at the upstreams of these packages; what was found, by name, and how many of them have no upstream to follow.
    pub fn look_at(&self, names: &BTreeSet<PackageName>) -> (Vec<Followed>, usize) {
        let mut hosts: BTreeMap<String, Vec<Package>> = BTreeMap::new();
        let (mut followed, mut unfollowed) = (Vec::new(), 0);
        for name in names {
            match self.package(name) {
                Ok(Some(package)) => {
                    hosts.entry(host_of(package.follow.place.url())).or_default().push(package);
                }
                Ok(None) => unfollowed += 1,
                Err(error) => {
                    let found = Err(NotFollowed::of(&error));
                    followed.push(Followed { name: name.clone(), has: None, place: String::new(), found });
                }
            }
        }
        let count = hosts.values().map(Vec::len).sum();
        self.listener.on_event(&ProgressEvent::Counting { work: Work::Following, packages: count });
        let (hosts, found) =
            (Mutex::new(VecDeque::from_iter(hosts.into_values())), Mutex::new(&mut followed));
        let work = || {
            loop {
                // A lock is poisoned only where a thread panicked, which the scope reports.
                let next = hosts.lock().ok().and_then(|mut hosts| hosts.pop_front());
                let Some(packages) = next else { return };
                let mut is_down = false;
                for package in packages {
                    let followed = self.followed(&package, &mut is_down);
                    self.listener.on_event(&ProgressEvent::Counted { package: package.name });
                    if let Ok(mut found) = found.lock() {
                        found.push(followed);
                    }
                }
            }
        };
        thread::scope(|scope| (0..MAX_HOSTS).for_each(|_| drop(scope.spawn(work))));
        followed.sort_by(|one, other| one.name.cmp(&other.name));
        (followed, unfollowed)
    }

    /// A package that says where its upstream's releases appear.
    fn package(&self, name: &PackageName) -> Result<Option<Package>, RegistryError> {
        let history = self.registry.history(name)?.unwrap_or_default();
        let Some(newest) = newest(history.releases()) else { return Ok(None) };
        let newest = self.card(newest)?;
        let follow = newest.follow.clone();
        Ok(follow.map(|follow| Package { name: name.clone(), newest, follow, history }))
    }

    fn card(&self, release: &Release) -> Result<Card, RegistryError> {
        let (package, digest) = (&release.entry.name, release.entry.card);
        let wrong = || RegistryError::WrongCard { package: package.clone(), digest };
        let text = self.registry.card_text(&digest)?.ok_or_else(wrong)?;
        serde_json::from_str(&text).map_err(|_| wrong())
    }

    /// What was found of a package; nobody is asked where its host `is_down`, which it notes for those that come next.
    fn followed(&self, package: &Package, is_down: &mut bool) -> Followed {
        let place = package.follow.place.url();
        let found = if *is_down {
            let message = format!("not asked, since {} can't be reached", host_of(place));
            Err(NotFollowed { code: "registry.unreachable", message })
        } else {
            self.found(package).map_err(|error| {
                *is_down = matches!(error, RegistryError::Unreachable { .. });
                NotFollowed::of(&error)
            })
        };
        let (name, has) = (package.name.clone(), Some(package.newest.version.clone()));
        Followed { name, has, place: place.to_owned(), found }
    }

    fn found(&self, package: &Package) -> Result<Found, RegistryError> {
        let releases = self.upstream.releases(&package.newest, &package.follow)?;
        let has = package.history.releases().iter().map(|release| &release.entry.version);
        let has: Vec<&Version> = has.collect();
        let new = lacking(&has, releases.iter().map(|release| &release.version));
        let more = new.iter().skip(MAX_NEW).map(|version| (*version).clone()).collect();
        let prepared = new.iter().take(MAX_NEW).rev();
        let prepared =
            prepared.filter_map(|version| releases.iter().find(|release| release.version == **version));
        Ok(Found { new: prepared.map(|release| self.new_release(package, release)).collect(), more })
    }

    /// A release that the catalogue lacks, with the card that it would get.
    fn new_release(&self, package: &Package, release: &UpstreamRelease) -> NewRelease {
        let mut new = NewRelease {
            version: release.version.clone(),
            text: release.text.clone(),
            at: release.at,
            size: 0,
            license: None,
            files: None,
            roles: BTreeMap::new(),
            state: State::Ready,
            next: None,
        };
        let prepared = self.before(package, &release.version).and_then(|before| {
            let next = next_release(self.upstream, &before, &package.follow, release)?;
            Ok((before, next))
        });
        match prepared {
            Ok((before, next)) => self.complete(&mut new, &before, next),
            Err(error) => new.state = State::Held(error.to_string()),
        }
        new
    }

    /// The card of the release that a new one follows on: the newest that is older, else the newest of all.
    fn before(&self, package: &Package, version: &Version) -> Result<Card, RegistryError> {
        let mut older = package.history.releases().iter().rev();
        let is_before = |release: &&Release| release.withdrawn.is_none() && release.entry.version < *version;
        older.find(is_before).map_or_else(|| Ok(package.newest.clone()), |release| self.card(release))
    }

    /// Takes in what was prepared, and what differs from the release before.
    fn complete(&self, new: &mut NewRelease, before: &Card, mut next: NextRelease) {
        new.at = next.at;
        new.size = next.card.files.iter().map(|file| file.size).sum();
        let archives = archives_of(self.registry, self.upstream, before);
        let archives: Option<Vec<PathBuf>> = archives.into_iter().collect();
        if let Some(archives) = archives {
            let (old, now) = ((before, &archives[..]), (&next.card, &next.archives[..]));
            if let Ok((files, roles)) = file_changes(old, now) {
                (new.files, new.roles) = (Some(files), roles);
            }
            let changed =
                if next.card.license == before.license { license_change(old, now) } else { Ok(None) };
            if let Ok(Some((change, sure))) = changed {
                next.card.license = sure.or(next.card.license);
                new.license = Some(change);
            }
        }
        if new.license.is_none() && next.card.license != before.license {
            let to = next.card.license.iter().map(ToString::to_string).collect();
            new.license = Some(LicenseChange { from: before.license.clone(), to });
        }
        // Where nothing was said of a licence, nobody relies on it.
        let is_accepted = self.accepts_licenses && next.card.license != before.license;
        let is_doubtful = before.license.is_some() && !is_accepted;
        if let Some(change) = new.license.as_ref().filter(|_| is_doubtful) {
            new.state = State::Held(in_words(change));
        }
        if let Err(error) = next.check(self.registry) {
            new.state = State::Held(error.to_string());
        }
        new.next = Some(next);
    }
}

/// Why a person has to look at a licence.
fn in_words(change: &LicenseChange) -> String {
    let was = change.from.as_ref().map_or("nothing".to_owned(), ToString::to_string);
    match change.to.as_slice() {
        [] => format!("its licence text changed and isn't known; the card before says {was}"),
        ids => format!("its licence is {} now; the card before says {was}", ids.join(" or ")),
    }
}

impl NotFollowed {
    fn of(error: &RegistryError) -> Self {
        Self { code: error.code(), message: error.to_string() }
    }
}

/// The host of a URL.
fn host_of(url: &str) -> String {
    match Location::of(url) {
        Location::Url { rest, .. } => rest.split('/').next().unwrap_or_default().to_owned(),
        _ => String::new(),
    }
}
