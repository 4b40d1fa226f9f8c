//! What `registry follow` prints.

use std::collections::BTreeMap;

use bibliotax_app::registry::follow::{self, Report, State};
use bibliotax_core::license::License;
use bibliotax_core::name::{PackageName, RoleName};
use bibliotax_core::version::Version;
use bibliotax_registry::publish::file_changes;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;

/// Most paths of files that are listed of one kind.
const MAX_PATHS: usize = 100;

/// What `registry follow` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FollowedRegistry {
    /// The registry.
    pub registry: String,
    /// Whether releases were to be added.
    pub applied: bool,
    /// The packages whose cards say where releases appear.
    pub packages: Vec<FollowedPackage>,
    /// How many packages don't say it.
    pub unfollowed: usize,
}

impl Document for FollowedRegistry {
    const COMMAND: &'static str = "registry follow";
}

/// A package that follows its upstream.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FollowedPackage {
    /// Its name.
    pub name: PackageName,
    /// The newest release that the registry had; null if its card can't be read.
    pub has: Option<Version>,
    /// Where releases appear.
    pub place: String,
    /// The releases that the registry lacked, oldest first.
    pub releases: Vec<FollowedRelease>,
    /// Older ones that it lacks, for which no card was made.
    pub more: Vec<Version>,
    /// Why the place couldn't be looked at; null where it could.
    pub failed: Option<NotFollowed>,
}

/// Why the releases of a package are unknown.
#[derive(Serialize, JsonSchema)]
pub struct NotFollowed {
    /// The stable code of the error.
    pub code: String,
    /// What is wrong.
    pub message: String,
}

/// A release that the registry lacked.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct FollowedRelease {
    /// Its version.
    pub version: Version,
    /// The version as upstream writes it.
    pub upstream_version: String,
    /// When upstream published it; null if it isn't known.
    pub released: Option<Timestamp>,
    /// The size of its archives, in bytes.
    pub size: u64,
    /// How its licence changed; null if it didn't.
    pub license: Option<FollowedLicense>,
    /// How its files differ from those of the release before; null if it isn't known.
    pub files: Option<FileChanges>,
    /// The same for each role in which files differ.
    pub roles: BTreeMap<RoleName, FileChanges>,
    /// Where it stands.
    pub state: FollowedState,
    /// Why a person has to look at it; null if nobody has to.
    pub held: Option<String>,
}

/// That the licence of a release is another than that of the release before.
#[derive(Serialize, JsonSchema)]
pub struct FollowedLicense {
    /// What the card before says.
    pub from: Option<License>,
    /// What the new licence may be; empty if its text isn't known.
    pub to: Vec<String>,
}

/// Where a new release stands.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FollowedState {
    /// It can be added.
    Ready,
    /// It was added.
    Added,
    /// A person has to look at it.
    Held,
}

/// Files that differ between two releases, at most a hundred of each kind.
#[derive(Serialize, JsonSchema)]
pub struct FileChanges {
    /// New files.
    pub added: Vec<String>,
    /// Files that are gone.
    pub gone: Vec<String>,
    /// Files with other contents.
    pub changed: Vec<String>,
}

impl From<&file_changes::FileChanges> for FileChanges {
    fn from(changes: &file_changes::FileChanges) -> Self {
        let first = |paths: &[String]| paths.iter().take(MAX_PATHS).cloned().collect();
        Self { added: first(&changes.added), gone: first(&changes.gone), changed: first(&changes.changed) }
    }
}

impl FollowedRegistry {
    /// What upstreams have.
    pub fn of(report: &Report, applied: bool) -> Self {
        let packages = report.packages.iter().map(|one| {
            let found = one.found.as_ref();
            FollowedPackage {
                name: one.name.clone(),
                has: one.has.clone(),
                place: one.place.clone(),
                releases: found.map(|found| found.new.iter().map(release).collect()).unwrap_or_default(),
                more: found.map(|found| found.more.clone()).unwrap_or_default(),
                failed: found.err().map(|failed| NotFollowed {
                    code: failed.code.to_owned(),
                    message: failed.message.clone(),
                }),
            }
        });
        Self {
            registry: report.registry.clone(),
            applied,
            packages: packages.collect(),
            unfollowed: report.unfollowed,
        }
    }
}

fn release(new: &follow::NewRelease) -> FollowedRelease {
    let (state, held) = match &new.state {
        State::Ready => (FollowedState::Ready, None),
        State::Added => (FollowedState::Added, None),
        State::Held(why) => (FollowedState::Held, Some(why.clone())),
    };
    let license = new
        .license
        .as_ref()
        .map(|change| FollowedLicense { from: change.from.clone(), to: change.to.clone() });
    FollowedRelease {
        version: new.version.clone(),
        upstream_version: new.text.clone(),
        released: new.at,
        size: new.size,
        license,
        files: new.files.as_ref().map(FileChanges::from),
        roles: new.roles.iter().map(|(role, changes)| (role.clone(), changes.into())).collect(),
        state,
        held,
    }
}
