//! Errors of registries.

#![allow(missing_docs, reason = "each variant's message says what its fields are")]

use std::fmt;
use std::path::PathBuf;

use bibliotax_archive::error::{ArchiveError, PackError};
use bibliotax_archive::select::{LeftOut, in_words};
use bibliotax_core::digest::Digest;
use bibliotax_core::exposes::Exposed;
use bibliotax_core::facet::{Facet, FacetProblem};
use bibliotax_core::fault::Fault;
use bibliotax_core::history::BrokenLine;
use bibliotax_core::name::{FacetName, PackageName, PartName, RegistryName, RoleName};
use bibliotax_core::source::{CommitId, without_user};
use bibliotax_core::version::Version;
use bibliotax_disk::DiskError;
use jiff::Timestamp;

use crate::model::card_problem::CardProblem;

/// Who or what was asked over a network.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// A registry, by its name in the manifest.
    Registry(RegistryName),
    /// Where a package comes from that is in no registry.
    SourceOf(PackageName),
    /// Where advisories come from, by its place in the manifest.
    Feed(String),
}

impl fmt::Display for Asked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Registry(name) => write!(f, "the registry `{name}`"),
            Self::SourceOf(package) => write!(f, "the source of `{package}`"),
            Self::Feed(place) => write!(f, "the feed {place}"),
        }
    }
}

/// Why something with a registry, or with a package on its way there, could not be done.
#[derive(Debug, thiserror::Error)]
pub enum RegistryError {
    /// A feed of advisories can't be read.
    #[error("the feed {place} can't be read: {message}")]
    Feed { place: String, message: String },
    /// The folder is not there.
    #[error("there is no registry in {}: the folder doesn't exist", path.display())]
    Missing { path: PathBuf },
    /// The folder has no `registry.json`.
    #[error("{} isn't a registry: it has no registry.json", path.display())]
    NoRegistry { path: PathBuf },
    /// Nobody made a registry of packages at a place in one of containers.
    #[error("there is no registry at {place} yet")]
    NotMade { place: String },
    /// `registry.json` can't be read.
    #[error("the registry.json of {} can't be read: {message}", path.display())]
    BadDescription { path: PathBuf, message: String },
    /// A newer version made the registry.
    #[error("the registry in {} has format {format}, but this version of bibliotax reads only up to {known}", path.display())]
    Newer { path: PathBuf, format: u64, known: u64 },
    /// A folder that should become a registry is in use.
    #[error("{} isn't empty, so a registry can't be created in it", path.display())]
    NotEmpty { path: PathBuf },
    /// A kind of URL that this version doesn't speak.
    #[error("{asked} can't be at `{}`", without_user(url))]
    Scheme { asked: Asked, url: String },
    /// A registry that would be asked without encryption.
    #[error("{asked} is at `{}`, which isn't encrypted", without_user(url))]
    PlainHttp { asked: Asked, url: String },
    /// A commit holds a path that can't be installed.
    #[error("a commit of {} can't be installed: {what}", without_user(url))]
    BadTree { url: String, what: String },
    /// A registry sends us to another host, and the manifest doesn't say that this is right.
    #[error("{asked} refers to {url} {}, which is another host", if *key == "service" { "with our request" } else { "for a token" })]
    OtherHost { asked: Asked, key: &'static str, url: String },
    /// A card names a place that only this machine or its network reaches.
    #[error("the card of {package} names {}, which is inside this machine or its network", without_user(url))]
    InnerUrl { package: PackageName, url: String },
    /// Nobody may be asked, and what is wanted is not kept.
    #[error("{what} of {asked} isn't cached, and offline mode is on")]
    Offline { asked: Asked, what: String },
    /// There is no answer.
    #[error("{asked} at {url} can't be reached: {what}")]
    Unreachable { asked: Asked, url: String, what: String },
    /// The answer is a refusal.
    #[error("{asked} refuses ({status}): {detail}")]
    Refused { asked: Asked, status: u16, code: Option<String>, detail: String },
    /// The answer makes no sense.
    #[error("{asked} sent an invalid answer: {what}")]
    WrongAnswer { asked: Asked, what: String },
    /// There is no token to publish with.
    #[error("there is no token for the registry `{registry}`, which is at {origin}")]
    NoToken { registry: RegistryName, origin: String },
    /// What opens a host can't be used.
    #[error("{what}")]
    Credentials { what: String, advice: String },
    /// A registry that nothing can be sent to.
    #[error("the registry `{registry}` is read-only over the network")]
    OnlyFiles { registry: RegistryName },
    /// A line of a package's history is broken.
    #[error("the registry's history of {package} is broken: {}: {source}", path.display())]
    BrokenHistory { package: PackageName, path: PathBuf, source: BrokenLine },
    /// Two registries hold the name, and nothing says which one is meant.
    #[error("`{package}` is in two registries: {}", list(registries))]
    Ambiguous { package: PackageName, registries: Vec<String> },
    /// The manifest declares no registry of this name.
    #[error("the registry `{registry}` of {package} isn't declared in the manifest any more")]
    Undeclared { package: PackageName, registry: String },
    /// An archive or card that should be there is not.
    #[error("the registry has no file {digest}")]
    NoFile { digest: Digest, path: PathBuf },
    /// A card names files that were not uploaded.
    #[error("some files of the card were not uploaded")]
    MissingFiles { digests: Vec<Digest> },
    /// A card's bytes are not what the entry says.
    #[error("the card of {package} is not what the registry's list names ({digest})")]
    WrongCard { package: PackageName, digest: Digest },
    /// A release of this version exists, with other contents.
    #[error("{package} {version} is already published, with different {}", keys(differing))]
    Exists { package: PackageName, version: Version, differing: Vec<String> },
    /// Two definitions of one facet.
    #[error("the facet `{facet}` is defined twice: {} says {}, {} says {}", definitions[0].0, json(&definitions[0].1), definitions[1].0, json(&definitions[1].1))]
    FacetClash { facet: FacetName, definitions: [(String, Box<Facet>); 2] },
    /// What a manifest says of a facet makes no sense.
    #[error("{}: {problem}", target.as_ref().map_or("`[fits]`".to_owned(), |target| format!("the target `{target}`")))]
    Facet { target: Option<String>, problem: FacetProblem },
    /// A name can't stand for a package and for a capability.
    #[error("{name} is a {there} in this registry, so it can't be a {wanted}")]
    NameTaken { name: PackageName, there: &'static str, wanted: &'static str },
    /// A project without a version can't be published.
    #[error("{project} has no version, so it can't be published")]
    NoVersion { project: PackageName },
    /// Nothing is left to publish.
    #[error("there are no files to publish in {}{}", path.display(), but_left_out(left_out))]
    NoFiles { path: PathBuf, left_out: Vec<LeftOut> },
    /// A path of `[card.exposes]` is not among the files.
    #[error("`{role}` exposes `{path}`, which isn't among the published files")]
    ExposesNothing { role: RoleName, path: Exposed },
    /// Two parts of a release hold the same path.
    #[error("both parts `{one}` and `{other}` have the file `{file}`")]
    PartsClash { file: String, one: PartName, other: PartName },
    /// A folder can't become an archive.
    #[error(transparent)]
    Pack(#[from] PackError),
    /// A registry can't take a card.
    #[error(transparent)]
    Card(#[from] CardProblem),
    /// A history is not what it was when it was seen before.
    #[error("the registry `{registry}` changed published data of {package}")]
    ChangedHistory { registry: RegistryName, package: PackageName, seen: Timestamp, what: Vec<String> },
    /// A mirror lacks what was seen of a package before.
    #[error("{url}, a mirror of `{registry}`, lacks data of {package} that was seen before")]
    MirrorBehind { registry: RegistryName, url: String, package: PackageName },
    /// A mirror has events that the registry hasn't.
    #[error("the mirror's history of {package} isn't the beginning of the registry's")]
    NoMirror { package: PackageName },
    /// Bytes are not those of their digest.
    #[error("the data sent for {package} doesn't have the digest {digest}")]
    WrongBytes { package: PackageName, digest: Digest },
    /// A registry has no list of its packages.
    #[error("the registry `{registry}` has no list of its packages")]
    NoList { registry: String },
    /// A registry of containers doesn't say what it holds.
    #[error("the registry `{registry}` doesn't list its packages")]
    NotListed { registry: RegistryName },
    /// What is to be changed is not there.
    #[error("{package}: {what}")]
    NothingThere { package: PackageName, what: String },
    /// A withdrawal or deprecation without a reason.
    #[error("a reason is required; users of the release will read it")]
    NoReason,
    /// A withdrawal's or deprecation's reason is not one that everybody can be shown.
    #[error("the reason can't be published: {why}")]
    WrongReason { why: String },
    /// A package's history would become longer than everybody can read.
    #[error("the history of {package} has no room for this: {why}")]
    NoRoom { package: PackageName, why: String },
    /// Lines of a file to load are wrong.
    #[error("{} of {} can't be loaded", count(faults.len()), path.display())]
    BadLines { path: PathBuf, text: String, faults: Vec<Fault> },
    /// Neither a registry nor its mirrors answer.
    #[error("neither the registry nor its mirrors can be reached")]
    NoMirrorAnswers,
    /// Something can only be read.
    #[error("this is a cache of {place}, and read-only")]
    ReadOnly { place: String },
    /// A bucket refuses, or can't be reached.
    #[error("the bucket {place}: {what}")]
    Bucket {
        place: String,
        what: String,
        /// What its store says.
        #[source]
        cause: Option<Box<object_store::Error>>,
    },
    /// `git` isn't on this machine.
    #[error("git isn't installed, but a package comes from a git repository")]
    NoGit,
    /// `git` failed.
    #[error("the git repository {}: {what}", without_user(url))]
    Git { url: String, what: String },
    /// Nobody may be asked, and what is wanted of a repository was never fetched.
    #[error("{what} of the git repository {} isn't cached, and offline mode is on", without_user(url))]
    GitOffline { url: String, what: String },
    /// A repository has no such commit, branch or tag, or a commit no such folder.
    #[error("the git repository {}: {what}", without_user(url))]
    NoCommit { url: String, what: String },
    /// A tag leads to another commit than when it was locked.
    #[error("{tag} of {package} was moved: it was commit {was}, and now is {now}")]
    MovedTag { package: PackageName, tag: String, was: CommitId, now: CommitId },
    /// A file that people wrote, in a repository or an archive, is wrong.
    #[error("the manifest of {package} in its source is wrong")]
    BadManifest { package: PackageName, place: String, text: String, faults: Vec<Fault> },
    /// A source is of another package.
    #[error("the package in {place} is called `{found}`, not `{package}`")]
    OtherName { package: PackageName, place: String, found: PackageName },
    /// There is no archive any more where one was locked.
    #[error("there is no archive of {package} at {url}")]
    NoArchive { package: PackageName, url: String },
    /// An archive is not the one whose digest the manifest has.
    #[error(
        "the archive of {package} at {url} changed: its digest is {found}, but the manifest has {expected}"
    )]
    ChangedArchive { package: PackageName, url: String, expected: Digest, found: Digest },
    /// An archive can't be looked into.
    #[error("the archive of {package}: {source}")]
    Archive { package: PackageName, source: ArchiveError },
    /// An archive of a release can't be installed.
    #[error("the archive {digest} can't be installed: {source}")]
    NotInstallable { digest: Digest, source: ArchiveError },
    /// A place where releases are said to appear has none.
    #[error("{url}: {what}")]
    NothingToFollow { url: String, what: String },
    /// A page can't be read.
    #[error("there is no page at {url}")]
    NoPage { url: String },
    /// A disk refused.
    #[error(transparent)]
    Disk(#[from] DiskError),
}

/// What was left out where nothing is left.
fn but_left_out(left_out: &[LeftOut]) -> String {
    if left_out.is_empty() { String::new() } else { format!("; left out: {}", in_words(left_out)) }
}

impl RegistryError {
    /// The stable code of the error, for programs; docs/errors.md lists all.
    pub fn code(&self) -> &'static str {
        match self {
            Self::Feed { .. } => "advisories.feed",
            Self::ExposesNothing { .. } => "card.exposes-nothing",
            Self::Card(CardProblem::CharterWith { .. }) => "card.charter",
            Self::Card(CardProblem::Facet { .. }) => "card.facet",
            Self::Card(CardProblem::FileUrl { .. }) => "card.file",
            Self::Card(CardProblem::FollowUrl { .. }) => "card.follow",
            Self::Card(CardProblem::HiddenLetter { .. }) => "card.hidden-letter",
            Self::Card(CardProblem::NoPart { .. }) => "card.no-part",
            Self::Pack(PackError::BadPattern { .. }) => "card.no-pattern",
            Self::Card(CardProblem::ManyTags { .. }) => "card.tags",
            Self::Card(CardProblem::Variant(_)) => "card.tie",
            Self::Card(CardProblem::TwoSteps { .. }) => "card.two-steps",
            Self::Card(CardProblem::ManySteps { .. } | CardProblem::LongStep { .. }) => "card.steps",
            Self::FacetClash { .. } => "facet.clash",
            Self::Facet { .. } => "facet.value",
            Self::NoVersion { .. } => "manifest.no-version",
            Self::Ambiguous { .. } => "package.ambiguous",
            Self::Pack(PackError::Clash { .. }) | Self::PartsClash { .. } => "publish.clash",
            Self::Pack(PackError::Link { .. }) => "publish.link",
            Self::NoFiles { .. } => "publish.nothing",
            Self::Pack(PackError::Unpackable { .. }) => "publish.path",
            Self::BadDescription { .. } | Self::BrokenHistory { .. } => "registry.broken",
            Self::Exists { .. } => "registry.exists",
            Self::Missing { .. } | Self::NoRegistry { .. } | Self::NotMade { .. } => "registry.missing",
            Self::NameTaken { .. } => "registry.name-taken",
            Self::Newer { .. } => "registry.newer",
            Self::NoFile { .. } => "registry.no-file",
            Self::MissingFiles { .. } => "upload.missing",
            Self::NotEmpty { .. } => "registry.not-empty",
            Self::Scheme { .. } => "registry.scheme",
            Self::Undeclared { .. } => "registry.undeclared",
            Self::WrongCard { .. } => "registry.wrong-card",
            Self::ChangedHistory { .. } => "registry.changed-history",
            Self::MirrorBehind { .. } => "mirror.behind",
            Self::NoMirror { .. } => "mirror.other-history",
            Self::WrongBytes { .. } => "mirror.wrong-bytes",
            Self::NoList { .. } | Self::NotListed { .. } => "registry.no-list",
            Self::NothingThere { .. } => "package.unknown",
            Self::NoReason => "event.no-reason",
            Self::WrongReason { .. } => "event.wrong-reason",
            Self::NoRoom { .. } => "event.no-room",
            Self::PlainHttp { .. } => "registry.plain",
            Self::Offline { .. } => "registry.offline",
            Self::Unreachable { .. } | Self::NoMirrorAnswers => "registry.unreachable",
            Self::Refused { .. } => "registry.refused",
            Self::WrongAnswer { .. } => "registry.wrong-answer",
            Self::NoToken { .. } => "token.missing",
            Self::Credentials { .. } => "credentials.unusable",
            Self::OnlyFiles { .. } => "registry.only-files",
            Self::BadLines { .. } => "registry.bad-line",
            Self::ReadOnly { .. } => "registry.read-only",
            Self::Bucket { .. } => "bucket.failed",
            Self::NoGit => "git.missing",
            Self::OtherHost { .. } => "registry.other-host",
            Self::InnerUrl { .. } => "card.inner-url",
            Self::BadTree { .. } => "git.bad-tree",
            Self::Git { .. } => "git.failed",
            Self::GitOffline { .. } => "git.offline",
            Self::NoCommit { .. } => "git.no-commit",
            Self::MovedTag { .. } => "git.moved-tag",
            Self::BadManifest { .. } => "source.manifest",
            Self::OtherName { .. } => "source.other-name",
            Self::NoArchive { .. } => "archive.gone",
            Self::ChangedArchive { .. } => "archive.changed",
            Self::NothingToFollow { .. } | Self::NoPage { .. } => "follow.nothing",
            Self::Archive { .. } | Self::NotInstallable { .. } => "archive.refused",
            Self::Pack(PackError::Disk(_)) | Self::Disk(_) => "disk.failed",
        }
    }
}

/// Keys of a card as a sentence lists them: `files`, `summary` and `steps`.
fn keys(keys: &[String]) -> String {
    let quoted: Vec<String> = keys.iter().map(|key| format!("`{key}`")).collect();
    match quoted.split_last() {
        Some((last, rest)) if !rest.is_empty() => format!("{} and {last}", rest.join(", ")),
        _ => quoted.concat(),
    }
}

fn json(facet: &Facet) -> String {
    // Texts and lists: nothing in a facet can fail to be JSON.
    serde_json::to_string(facet).unwrap_or_default()
}

fn list(registries: &[String]) -> String {
    registries.join(" and ")
}

fn count(lines: usize) -> String {
    if lines == 1 { "one line".into() } else { format!("{lines} lines") }
}
