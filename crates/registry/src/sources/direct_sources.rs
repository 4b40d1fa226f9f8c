//! Packages outside registries: git repositories and archives, as manifests declare them.
//!
//! A commit that the lock has is stayed with; `Freshness` says which packages are to be looked for again. What a package needs
//! and exposes is said by the manifest among its files, by a card that people wrote, or by nobody. Which bytes a package is, is
//! worked out only for what was chosen: `complete` does that, and what it made or fetched is kept, so that installing needs no
//! second fetch.

mod archive;
mod card;
mod locked;
mod releases;
mod remembered;

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use bibliotax_archive::format;
use bibliotax_core::card::{Archive, ArchiveFormat, FileRecord, main_part};
use bibliotax_core::facet::Fits;
use bibliotax_core::file_selection::{FileSelection, SelectsFiles as _};
use bibliotax_core::location::Location;
use bibliotax_core::lock::{LockedFile, LockedPackage};
use bibliotax_core::manifest::{DeclaredSource, GitPoint};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::{ChosenFile, ChosenPackage, Listing, Resolution};
use bibliotax_core::source::{GitSource, Source};
use bibliotax_core::tags::proposed;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::{DirectSources as Declared, Workspace};
use bibliotax_disk::error::At;
use jiff::Timestamp;

use self::archive::ArchivePlace;
use self::card::Found;
pub use self::remembered::FetchedArchive;
use crate::client::http::checked;
use crate::client::http::client::Client;
use crate::client::network::Network;
use crate::model::error::{Asked, RegistryError};
use crate::model::mutex::lock;
use crate::model::private_hosts::leads_inside;
use crate::model::staging::Staged;
use crate::model::upstream_archives::UpstreamArchives;
use crate::sources::git::{Refs, Repository, Wanted, WantedTree, submodule_url, write_tree};

/// Largest manifest among files that is read, in bytes.
const MAX_MANIFEST_SIZE: usize = 1 << 20;

/// Which packages are looked for again, instead of staying with the commit that the lock has.
#[derive(Debug, Clone, Default)]
pub enum Freshness {
    /// None.
    #[default]
    Locked,
    /// These.
    Anew(BTreeSet<PackageName>),
    /// These, and what their tags name now though it is another commit than the lock has.
    Moved(BTreeSet<PackageName>),
    /// All.
    AllAnew,
}

impl Freshness {
    pub(crate) fn is_anew(&self, package: &PackageName) -> bool {
        match self {
            Self::Locked => false,
            Self::Anew(packages) | Self::Moved(packages) => packages.contains(package),
            Self::AllAnew => true,
        }
    }

    /// What becomes of a tag that names another commit than the lock has.
    fn of_moved_tag(&self, package: &PackageName) -> OfMovedTag {
        match self {
            Self::Moved(packages) if packages.contains(package) => OfMovedTag::Follow,
            Self::Anew(packages) if packages.contains(package) => OfMovedTag::Refuse,
            _ => OfMovedTag::Stay,
        }
    }
}

/// What becomes of a tag that names another commit than the lock has.
#[derive(Clone, Copy, PartialEq, Eq)]
enum OfMovedTag {
    /// The lock's commit stays.
    Stay,
    /// People have to accept it.
    Refuse,
    /// They did.
    Follow,
}

/// The packages of a workspace that come from git repositories and archives.
#[derive(Clone)]
pub struct DirectSources {
    declared: BTreeMap<PackageName, Declared>,
    /// What the lock has of them.
    locked: HashMap<PackageName, LockedPackage>,
    freshness: Freshness,
    /// The workspace's folder, from which places are seen.
    root: PathBuf,
    cache: PathBuf,
    network: Network,
    /// What people should know of sources, by package.
    notes: Arc<Mutex<BTreeMap<PackageName, String>>>,
}

impl DirectSources {
    /// What a workspace that is in `root` takes from elsewhere, beside what is locked.
    pub fn of(
        workspace: &Workspace,
        root: &Path,
        locked: &[LockedPackage],
        freshness: Freshness,
        network: &Network,
    ) -> Self {
        let ours = locked.iter().filter(|package| workspace.elsewhere.contains_key(&package.name));
        Self {
            declared: workspace.elsewhere.clone(),
            locked: ours.map(|package| (package.name.clone(), package.clone())).collect(),
            freshness,
            root: root.to_owned(),
            cache: cache_of(network),
            network: network.clone(),
            notes: Arc::default(),
        }
    }

    /// What can be asked before anything is declared, with places seen from `root`.
    pub fn undeclared(root: &Path, network: &Network) -> Self {
        let (declared, locked) = (BTreeMap::new(), HashMap::new());
        let cache = cache_of(network);
        let (root, network) = (root.to_owned(), network.clone());
        Self { declared, locked, freshness: Freshness::AllAnew, root, cache, network, notes: Arc::default() }
    }

    /// How it uses the network.
    pub fn network(&self) -> &Network {
        &self.network
    }

    /// What the names in a repository lead to.
    pub fn refs_of(&self, package: &PackageName, place: &str) -> Result<Refs, RegistryError> {
        self.repository(package, place, false)?.refs()
    }

    /// Those files of a branch that are wanted of all its paths; of the branch that is taken where none is named, without one. At most
    /// so many files, each of at most so many bytes.
    pub fn texts_of_branch(
        &self,
        package: &PackageName,
        place: &str,
        branch: Option<&str>,
        wanted: &dyn Fn(&[&str]) -> Vec<String>,
        (most, most_bytes): (usize, u64),
    ) -> Result<Vec<(String, String)>, RegistryError> {
        let repository = self.repository(package, place, false)?;
        let refs = repository.refs()?;
        let branch = branch.map(str::to_owned).or(refs.default_branch).unwrap_or_else(|| "main".to_owned());
        let missing =
            || RegistryError::NoCommit { url: place.to_owned(), what: format!("it has no branch {branch}") };
        let commit = refs.branches.get(&branch).ok_or_else(missing)?;
        repository.fetch(&[commit], Wanted::Names)?;
        let listed = repository.names(commit, None)?.unwrap_or_default();
        let listed = String::from_utf8_lossy(&listed).into_owned();
        let paths: Vec<&str> = listed.split('\0').filter_map(|line| Some(line.split_once('\t')?.1)).collect();
        let mut found = Vec::new();
        for path in wanted(&paths).into_iter().take(most) {
            if let Some(text) = repository.text_up_to(commit, &path, most_bytes)? {
                found.push((path, text));
            }
        }
        Ok(found)
    }

    /// Fetches an archive whose digest nobody has said yet, packed in this format, or as its bytes tell; it, and where it lies now.
    pub fn fetch_archive(
        &self,
        package: &PackageName,
        url: &str,
        format: Option<ArchiveFormat>,
    ) -> Result<(Archive, PathBuf), RegistryError> {
        self.fetched(package, archive::open(package, url, false, &self.root, &self.network)?, format)
    }

    fn fetched(
        &self,
        package: &PackageName,
        opened: impl Read,
        format: Option<ArchiveFormat>,
    ) -> Result<(Archive, PathBuf), RegistryError> {
        let staged = archive::fetch(package, opened, &self.archives())?;
        let (sha256, size) = (staged.digest(), staged.size());
        self.keep(staged)?;
        let kept = self.kept(&sha256);
        let refused = |source| RegistryError::Archive { package: package.clone(), source };
        let format = format.map_or_else(|| format::of_file(&kept).map_err(refused), Ok)?;
        Ok((Archive::new(sha256, size, format), kept))
    }

    /// Whether nothing is declared to come from elsewhere.
    pub fn is_empty(&self) -> bool {
        self.declared.is_empty()
    }

    /// A package with the releases that its source has; `None` where it isn't declared to come from elsewhere.
    pub fn listing(&self, package: &PackageName) -> Result<Option<Listing>, RegistryError> {
        let Some(declared) = self.declared.get(package) else { return Ok(None) };
        let listing = match &declared.source {
            DeclaredSource::Git(git) => self.of_repository(package, declared, git),
            DeclaredSource::Archive(archive) => self.of_archive(package, declared, archive),
            DeclaredSource::Folder(_) => return Ok(None),
        };
        let listing = match listing {
            Err(error) if is_gone(&error) && !self.freshness.is_anew(package) => {
                let kept = self.listing_in_store(package)?.ok_or(error)?;
                self.note(package, format!("{package} stays as it is locked: its source can't be asked"));
                kept
            }
            listing => listing?,
        };
        Ok(Some(Listing { is_stand_in: declared.is_stand_in, ..listing }))
    }

    fn note(&self, package: &PackageName, text: String) {
        lock(&self.notes).insert(package.clone(), text);
    }

    /// What people should know of sources.
    pub fn warnings(&self) -> Vec<String> {
        lock(&self.notes).values().cloned().collect()
    }

    /// The repository that a package is declared to come from.
    pub fn repository_of(&self, package: &PackageName) -> Option<String> {
        match &self.declared.get(package)?.source {
            DeclaredSource::Git(git) => Some(git.url.clone()),
            _ => None,
        }
    }

    /// The newest release by the tags of a repository, and when its commit was made.
    pub fn newest_of(
        &self,
        package: &PackageName,
        place: &str,
    ) -> Result<Option<(Version, Timestamp)>, RegistryError> {
        let repository = self.repository(package, place, self.allows_plain(package))?;
        let refs = repository.refs()?;
        let declared = match self.declared.get(package).map(|declared| &declared.source) {
            Some(DeclaredSource::Git(git)) => match &git.at {
                GitPoint::Releases(pattern) => Some(pattern.clone()),
                _ => None,
            },
            _ => None,
        };
        let suggested =
            || proposed(refs.tags.keys().map(String::as_str), package.as_str()).into_iter().next();
        let pattern = declared.or_else(|| suggested().map(|(pattern, _)| pattern.to_string()));
        let releases = pattern.map(|pattern| refs.releases(&pattern)).unwrap_or_default();
        let newest = releases.into_iter().rev().find(|(version, ..)| !version.is_pre());
        let Some((version, _, commit)) = newest else { return Ok(None) };
        repository.fetch(&[commit], Wanted::Names)?;
        Ok(Some((version, repository.time(commit)?)))
    }

    /// Works out which bytes the chosen packages from elsewhere are.
    pub fn complete(&self, resolution: &mut Resolution) -> Result<(), RegistryError> {
        for package in &mut resolution.packages {
            let is_elsewhere = matches!(package.source, Source::Git(_) | Source::Archive(_));
            if is_elsewhere && package.files.is_empty() {
                let file = self.file_of(package)?;
                package.files = vec![ChosenFile { file, targets: package.targets.clone() }];
            }
        }
        Ok(())
    }

    fn file_of(&self, package: &ChosenPackage) -> Result<FileRecord, RegistryError> {
        let name = &package.release.entry.name;
        let locked = self.locked.get(name).filter(|locked| locked.source == package.source);
        let (strip, selection) = match self.declared.get(name).map(|declared| &declared.source) {
            Some(DeclaredSource::Archive(archive)) => (archive.strip.clone(), archive.selection.clone()),
            Some(DeclaredSource::Git(git)) => (None, git.selection.clone()),
            _ => Default::default(),
        };
        // What is left out may be a submodule, which isn't even fetched then.
        let is_same =
            |file: &&LockedFile| !matches!(package.source, Source::Git(_)) || file.selection() == selection;
        let known = locked.and_then(|locked| locked.files.first()).filter(is_same);
        let (sha256, size, format) = match (&package.source, known) {
            (Source::Git(_), Some(file)) => (file.sha256, file.size, file.format),
            (Source::Git(source), None) => {
                let staged = self.packed(name, source)?;
                let known = (staged.digest(), staged.size(), ArchiveFormat::Tar);
                self.keep(staged)?;
                known
            }
            (source, _) => {
                let place = self.archive_place(name, source)?;
                (place.sha256, place.size(self)?, place.format(self)?)
            }
        };
        let (part, only_for, url) = (main_part(), Fits::new(), None);
        let FileSelection { include, exclude } = selection;
        Ok(FileRecord { part, only_for, sha256, size, format, strip, include, exclude, url })
    }

    /// Whether a commit is what its tag names, or is on its branch; an error where the tag names another commit now.
    pub fn has_commit(&self, package: &PackageName, source: &GitSource) -> Result<bool, RegistryError> {
        let Some(at) = &source.at else { return Ok(true) };
        let repository = self.repository(package, &source.git, self.allows_plain(package))?;
        let refs = repository.refs()?;
        match (at.strip_prefix("tag "), at.strip_prefix("branch ")) {
            (Some(tag), _) => match refs.tags.get(tag) {
                Some(now) if *now != source.commit => Err(RegistryError::MovedTag {
                    package: package.clone(),
                    tag: at.clone(),
                    was: source.commit.clone(),
                    now: now.clone(),
                }),
                now => Ok(now.is_some()),
            },
            (_, Some(branch)) => match refs.branches.get(branch) {
                Some(head) if *head == source.commit => Ok(true),
                Some(head) => repository.is_on_branch(&source.commit, branch, head),
                None => Ok(false),
            },
            _ => Ok(false),
        }
    }

    /// The commit that a package comes from, and all that it was built on.
    pub(crate) fn history_of(
        &self,
        package: &PackageName,
        source: &GitSource,
    ) -> Result<BTreeSet<String>, RegistryError> {
        let repository = self.repository(package, &source.git, self.allows_plain(package))?;
        repository.history(&source.commit)
    }

    /// Whether the commit that a package comes from was followed by another one.
    pub(crate) fn is_before(
        &self,
        package: &PackageName,
        source: &GitSource,
        later: &str,
    ) -> Result<bool, RegistryError> {
        let repository = self.repository(package, &source.git, self.allows_plain(package))?;
        repository.is_before(&source.commit, later)
    }

    /// Opens the archive of a package that is locked to a source elsewhere, whose bytes are yet to be checked.
    pub fn open_archive(
        &self,
        package: &PackageName,
        source: &Source,
        archive: &Archive,
    ) -> Result<Box<dyn Read + Send>, RegistryError> {
        let kept = self.kept(&archive.sha256);
        if kept.is_file() {
            return Ok(Box::new(File::open(&kept).at("read", &kept)?));
        }
        match source {
            Source::Git(source) => {
                let mut file = self.packed(package, source)?.into_file();
                std::io::Seek::rewind(&mut file).at("read", &kept)?;
                Ok(Box::new(file))
            }
            source => self.archive_place(package, source)?.open(self),
        }
    }

    /// Opens an archive that a registry's card says to be elsewhere; inside only for a registry that `is_inside` itself.
    pub fn open_url(
        &self,
        package: &PackageName,
        url: &str,
        is_inside: bool,
    ) -> Result<Box<dyn Read + Send>, RegistryError> {
        archive::download(package, self.client_for(package, url, is_inside)?, url)
    }

    /// A client for a URL that a registry's card names; inside only for a registry that `is_inside` itself.
    fn client_for(&self, package: &PackageName, url: &str, is_inside: bool) -> Result<Client, RegistryError> {
        let asked = Asked::SourceOf(package.clone());
        // Nothing of this machine is opened because a registry says so.
        let base = checked(&asked, url, false)?;
        if is_inside {
            return Ok(Client::new(asked, base, &self.network));
        }
        if leads_inside(&base) {
            return Err(RegistryError::InnerUrl { package: package.clone(), url: url.to_owned() });
        }
        Ok(Client::outside(asked, base, &self.network))
    }

    /// A commit as an archive.
    fn packed(&self, package: &PackageName, source: &GitSource) -> Result<Staged, RegistryError> {
        let allows_plain = self.allows_plain(package);
        let repository = self.repository(package, &source.git, allows_plain)?;
        let mut staged = Staged::in_folder(&self.archives())?;
        let open = |within: &Repository, url: &str| self.submodule(package, within, url, allows_plain);
        let selection = match self.declared.get(package).map(|declared| &declared.source) {
            Some(DeclaredSource::Git(git)) => git.selection.clone(),
            _ => FileSelection::default(),
        };
        let wanted = WantedTree {
            commit: &source.commit,
            subfolder: source.subfolder.as_ref(),
            selection: &selection,
            open: &open,
        };
        write_tree(&repository, &wanted, &mut staged)?;
        Ok(staged)
    }

    /// The archive on this disk that the files of a commit become; kept, as what is fetched.
    pub fn commit_as_archive(
        &self,
        package: &PackageName,
        source: &GitSource,
    ) -> Result<PathBuf, RegistryError> {
        let staged = self.packed(package, source)?;
        let kept = self.kept(&staged.digest());
        self.keep(staged)?;
        Ok(kept)
    }

    fn allows_plain(&self, package: &PackageName) -> bool {
        match self.declared.get(package).map(|declared| &declared.source) {
            Some(DeclaredSource::Git(git)) => git.allows_plain,
            Some(DeclaredSource::Archive(archive)) => archive.allows_plain,
            _ => false,
        }
    }

    /// The repository at a place that a manifest or a lock names.
    fn repository(
        &self,
        package: &PackageName,
        place: &str,
        allows_plain: bool,
    ) -> Result<Repository, RegistryError> {
        let asked = Asked::SourceOf(package.clone());
        let url = match Location::of(place) {
            Location::Url { scheme: "https" | "ssh", .. } => place.to_owned(),
            Location::Url { scheme: "http", .. } => checked(&asked, place, allows_plain)?.to_string(),
            Location::Url { scheme: "git", rest } => {
                // Neither is encrypted; the same hosts may be asked.
                checked(&asked, &format!("http://{rest}"), allows_plain)?;
                place.to_owned()
            }
            Location::Url { .. } => return Err(RegistryError::Scheme { asked, url: place.to_owned() }),
            Location::OnHost { .. } => place.to_owned(),
            Location::Relative(path) | Location::Absolute(path) => {
                let folder = self.root.join(&*path);
                std::path::absolute(&folder).at("find", &folder)?.to_string_lossy().into_owned()
            }
        };
        Ok(Repository::at(url, &self.cache, self.network.offline, self.network.silence))
    }

    /// The repository of a submodule.
    fn submodule(
        &self,
        package: &PackageName,
        within: &Repository,
        url: &str,
        allows_plain: bool,
    ) -> Result<Repository, RegistryError> {
        let refuse = |why: String| {
            let what = format!("its submodule at `{url}` {why}");
            RegistryError::Git { url: within.url().to_owned(), what }
        };
        self.repository(package, &submodule_url(within.url(), url).map_err(refuse)?, allows_plain)
    }

    /// Keeps an archive until it is installed, and for as long as the store's cache is.
    fn keep(&self, staged: Staged) -> Result<(), RegistryError> {
        let place = self.kept(&staged.digest());
        staged.into_file().persist(&place).map_err(|error| error.error).at("write", &place)?;
        Ok(())
    }

    fn kept(&self, archive: &bibliotax_core::digest::Digest) -> PathBuf {
        self.archives().join(archive.to_string())
    }

    fn archives(&self) -> PathBuf {
        self.cache.join("archives")
    }

    /// Where the archive of a locked package is.
    fn archive_place(&self, package: &PackageName, source: &Source) -> Result<ArchivePlace, RegistryError> {
        let declared = self.declared.get(package).map(|declared| &declared.source);
        match (source, declared) {
            (Source::Archive(source), Some(DeclaredSource::Archive(archive)))
                if source.archive == archive.url =>
            {
                Ok(ArchivePlace::new(package, archive))
            }
            _ => {
                let registry = source.to_string();
                Err(RegistryError::Undeclared { package: package.clone(), registry })
            }
        }
    }
}

impl UpstreamArchives for DirectSources {
    fn open(&self, package: &PackageName, url: &str) -> Result<Box<dyn Read + Send>, RegistryError> {
        self.open_url(package, url, true)
    }

    fn fetch(
        &self,
        package: &PackageName,
        url: &str,
        format: Option<ArchiveFormat>,
    ) -> Result<(Archive, PathBuf), RegistryError> {
        self.fetched(package, self.open_url(package, url, true)?, format)
    }
}

/// Whether a source isn't there, or isn't what it was.
fn is_gone(error: &RegistryError) -> bool {
    use RegistryError as E;
    matches!(
        error,
        E::Unreachable { .. }
            | E::Offline { .. }
            | E::GitOffline { .. }
            | E::Git { .. }
            | E::NoGit
            | E::NoCommit { .. }
            | E::NoArchive { .. }
            | E::ChangedArchive { .. }
    )
}

/// Where what is fetched is kept; without a place for it, where the system will clear it away.
fn cache_of(network: &Network) -> PathBuf {
    network.cache.clone().unwrap_or_else(|| std::env::temp_dir().join("bibliotax"))
}
