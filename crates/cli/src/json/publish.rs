//! What `publish`, `withdraw` and `deprecate` print.

use bibliotax_app::publish::{self, Outcome};
use bibliotax_app::release_status;
use bibliotax_archive::select::{LeftOut, PackFile};
use bibliotax_core::card::FileRecord;
use bibliotax_core::facet::Fits;
use bibliotax_core::name::{PackageName, PartName};
use bibliotax_core::version::Version;
use bibliotax_registry::model::release::Published;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};

use super::Document;
use super::change::{self, Change};

/// What `publish` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Publish {
    /// Whether nothing was published.
    pub dry_run: bool,
    /// The package.
    pub name: PackageName,
    /// The version.
    pub version: Version,
    /// The registry.
    pub registry: String,
    /// The card, without what is only known once the archives are packed: see `files`.
    pub card: Map<String, Value>,
    /// The contents of each archive.
    pub contents: Vec<Contents>,
    /// What was not packed, and why.
    pub left_out: Vec<NotPacked>,
    /// The archives that were published; empty in a dry run.
    pub files: Vec<FileRecord>,
    /// Whether this very release was published before.
    pub already: bool,
    /// What a charter would do in the workspaces that were named (`--used-by`).
    pub followers: Vec<Follower>,
}

/// What a charter would do in a workspace.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Follower {
    /// The workspace's folder, as it was named.
    pub folder: String,
    /// How the workspace takes the charter on; null where it can't be read.
    pub follows: Option<Follows>,
    /// The packages that would come, go or move.
    pub changes: Vec<Change>,
    /// What the charter's rules forbid of what stays.
    pub forbidden: Vec<String>,
    /// Why there is no set of releases that goes with the charter; null where there is one.
    pub problem: Option<String>,
    /// The sentences that lead to that.
    pub because: Vec<String>,
}

/// How a workspace takes a charter on.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Follows {
    /// In a range that accepts the release.
    Already,
    /// In a range that doesn't accept the release.
    OtherRange,
    /// Not yet.
    NotYet,
}

impl From<&publish::Follower> for Follower {
    fn from(follower: &publish::Follower) -> Self {
        let follows = follower.follows.as_ref().map(|follows| match follows {
            publish::Follows::Already => Follows::Already,
            publish::Follows::OtherRange(_) => Follows::OtherRange,
            publish::Follows::NotYet => Follows::NotYet,
        });
        let (folder, none) = (follower.folder.clone(), Vec::new);
        match &follower.outcome {
            Outcome::Resolved(resolved) => Self {
                folder,
                follows,
                changes: change::of(&resolved.changes(), resolved.lock()),
                forbidden: resolved.forbidden.clone(),
                problem: None,
                because: none(),
            },
            Outcome::Failed(failure) => Self {
                folder,
                follows,
                changes: Vec::new(),
                forbidden: none(),
                problem: Some(failure.message.clone()),
                because: failure.reasons(),
            },
        }
    }
}

impl Document for Publish {
    const COMMAND: &'static str = "publish";
}

/// What an archive contains.
#[derive(Serialize, JsonSchema)]
pub struct Contents {
    /// The part of the release.
    pub part: PartName,
    /// The targets that it is for.
    #[serde(rename = "for")]
    pub only_for: Fits,
    /// The files.
    pub files: Vec<PackedFile>,
}

/// A file of an archive.
#[derive(Serialize, JsonSchema)]
pub struct PackedFile {
    /// Its path inside the package.
    pub path: String,
    /// Its bytes.
    pub size: u64,
    /// Whether it can be run.
    pub executable: bool,
}

/// A file that was not packed.
#[derive(Serialize, JsonSchema)]
pub struct NotPacked {
    /// Its path in the project.
    pub path: String,
    /// Why.
    pub reason: String,
}

impl Publish {
    /// A release that is going to be published.
    pub fn planned(plan: &publish::Plan) -> Self {
        let (release, registry) = (&*plan.release, plan.registry());
        let parts = release.card.files.iter().zip(&release.parts).map(|(record, contents)| Contents {
            part: record.part.clone(),
            only_for: record.only_for.clone(),
            files: contents.iter().map(PackedFile::from).collect(),
        });
        let left_out =
            |left: &LeftOut| NotPacked { path: left.path.clone(), reason: left.why.in_words().to_owned() };
        // Texts, lists and maps with names for keys: nothing in a card can fail to be JSON.
        let mut card = serde_json::to_value(&release.card).unwrap_or_default();
        let mut card = card.as_object_mut().map(std::mem::take).unwrap_or_default();
        card.remove("files");
        Self {
            dry_run: true,
            name: release.card.name.clone(),
            version: release.card.version.clone(),
            registry: registry.to_owned(),
            card,
            contents: parts.collect(),
            left_out: release.left_out.iter().map(left_out).collect(),
            files: Vec::new(),
            already: false,
            followers: plan.followers.iter().map(Follower::from).collect(),
        }
    }

    /// The same, once it is published.
    pub fn done(self, published: &Published) -> Self {
        Self { dry_run: false, files: published.files.clone(), already: published.already, ..self }
    }
}

impl From<&PackFile> for PackedFile {
    fn from(file: &PackFile) -> Self {
        Self { path: file.path.as_str().to_owned(), size: file.size, executable: file.executable }
    }
}

/// How the status of releases changed.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Status {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The package.
    pub package: PackageName,
    /// The version or range.
    pub releases: String,
    /// What they are now.
    pub status: NewStatus,
    /// The registry.
    pub registry: String,
    /// Whether they were that before.
    pub already: bool,
}

/// What releases are.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum NewStatus {
    Withdrawn,
    Restored,
    Deprecated,
    NoLongerDeprecated,
}

impl Status {
    /// A change of status; whether it had been made before, where it was made.
    pub fn of(plan: &release_status::Plan, status: NewStatus, already: Option<bool>) -> Self {
        Self {
            dry_run: already.is_none(),
            package: plan.package.clone(),
            releases: plan.change.what(),
            status,
            registry: plan.registry().to_owned(),
            already: already == Some(true),
        }
    }
}

/// What `withdraw` prints.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Withdraw(pub Status);

impl Document for Withdraw {
    const COMMAND: &'static str = "withdraw";
}

/// What `deprecate` prints.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub struct Deprecate(pub Status);

impl Document for Deprecate {
    const COMMAND: &'static str = "deprecate";
}
