//! What the commands under `registry` print.

use bibliotax_app::registry::check::Report;
use bibliotax_core::name::RegistryName;
use bibliotax_registry::publish::audit::Flaw;
use bibliotax_registry::publish::load::Loaded;
use bibliotax_registry::publish::mirror::Mirrored;
use bibliotax_registry::storage::tokens::{Action, Token};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::finding::{Finding, Level};

/// What `registry create` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Created {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The registry's name.
    pub name: RegistryName,
    /// Its place.
    pub registry: String,
}

impl Document for Created {
    const COMMAND: &'static str = "registry create";
}

/// What `registry load` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct LoadedEvents {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The registry.
    pub registry: String,
    /// Events added.
    pub added: usize,
    /// Events that were there already.
    pub already: usize,
    /// Archives added.
    pub archives: usize,
}

impl Document for LoadedEvents {
    const COMMAND: &'static str = "registry load";
}

impl LoadedEvents {
    /// What was loaded, or would be.
    pub fn of(loaded: Loaded, registry: &str, dry_run: bool) -> Self {
        let Loaded { added, already, archives } = loaded;
        Self { dry_run, registry: registry.to_owned(), added, already, archives }
    }
}

/// What `registry check` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct CheckedRegistry {
    /// Whether repairing was only tried.
    pub dry_run: bool,
    /// The registry.
    pub registry: String,
    /// Packages read.
    pub packages: usize,
    /// Releases read.
    pub releases: usize,
    /// Files read.
    pub files: usize,
    /// Their bytes.
    pub bytes: u64,
    /// Archives elsewhere that were fetched and checked; null without `--archives`.
    pub upstream_archives: Option<usize>,
    /// Files of no release.
    pub unnamed: usize,
    /// Uploads without a release yet.
    pub uploads: usize,
    /// Bytes of temporary files that were left behind.
    pub left_behind: u64,
    /// The problems.
    pub findings: Vec<Finding<AboutRelease>>,
    /// Names in the list of names that was rebuilt; null without `--repair`.
    pub rebuilt: Option<usize>,
}

impl Document for CheckedRegistry {
    const COMMAND: &'static str = "registry check";
}

/// The release that a finding is about.
#[derive(Serialize, JsonSchema)]
pub struct AboutRelease {
    /// Its version.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
}

impl CheckedRegistry {
    /// What was found in a registry.
    pub fn of(report: &Report, registry: &str, dry_run: bool) -> Self {
        let audit = &report.audit;
        let finding = |flaw: &Flaw| Finding {
            package: flaw.package.clone(),
            ..Finding::new(
                "registry.flaw",
                Level::Error,
                &flaw.what,
                AboutRelease { version: flaw.version.clone() },
            )
        };
        Self {
            dry_run,
            registry: registry.to_owned(),
            packages: audit.packages,
            releases: audit.releases,
            files: audit.files,
            bytes: audit.bytes,
            upstream_archives: report.upstream_archives,
            unnamed: audit.unnamed,
            uploads: report.pending.len(),
            left_behind: report.remaining_bytes,
            findings: audit.flaws.iter().map(finding).collect(),
            rebuilt: report.repaired.as_ref().map(|repaired| repaired.names),
        }
    }
}

/// What `registry mirror` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct MirroredRegistry {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The registry that was copied.
    pub registry: String,
    /// Packages compared.
    pub packages: usize,
    /// Events that the copy lacked.
    pub events: usize,
    /// Files that it lacked.
    pub files: usize,
    /// Their bytes; in a dry run those of archives only.
    pub bytes: u64,
}

impl Document for MirroredRegistry {
    const COMMAND: &'static str = "registry mirror";
}

impl MirroredRegistry {
    /// What was copied, or would be.
    pub fn of(mirrored: Mirrored, registry: &str, dry_run: bool) -> Self {
        let Mirrored { packages, events, files, bytes } = mirrored;
        Self { dry_run, registry: registry.to_owned(), packages, events, files, bytes }
    }
}

/// What `registry serve` prints when it listens.
#[derive(Serialize, JsonSchema)]
pub struct Serving {
    /// Where it can be reached.
    pub url: String,
}

impl Document for Serving {
    const COMMAND: &'static str = "registry serve";
}

/// What `registry token issue` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct IssuedToken {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The token's id; null in a dry run.
    pub id: Option<String>,
    /// The token itself, which is shown only here; null in a dry run.
    pub token: Option<String>,
    /// When it ends; null if never.
    pub expires: Option<Timestamp>,
}

impl Document for IssuedToken {
    const COMMAND: &'static str = "registry token issue";
}

/// What `registry token show` prints.
#[derive(Serialize, JsonSchema)]
pub struct Tokens {
    /// The tokens.
    pub tokens: Vec<TokenAbout>,
}

impl Document for Tokens {
    const COMMAND: &'static str = "registry token show";
}

/// What is known of a token.
#[derive(Serialize, JsonSchema)]
pub struct TokenAbout {
    /// Its id.
    pub id: String,
    /// What it is for.
    pub name: String,
    /// What it allows.
    pub actions: Vec<Action>,
    /// The packages that it is for: names, or beginnings of names before a `*`.
    pub packages: Vec<String>,
    /// When it ends; null if never.
    pub expires: Option<Timestamp>,
    /// When it was issued.
    pub issued: Timestamp,
}

impl From<&Token> for TokenAbout {
    fn from(token: &Token) -> Self {
        Self {
            id: token.id.clone(),
            name: token.name.clone(),
            actions: token.actions.clone(),
            packages: token.packages.clone(),
            expires: token.expires,
            issued: token.at,
        }
    }
}

/// What `registry token end` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct EndedToken {
    /// Whether nothing was written.
    pub dry_run: bool,
    /// The token's id.
    pub id: String,
}

impl Document for EndedToken {
    const COMMAND: &'static str = "registry token end";
}

/// What `registry sign-in` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SignedIn {
    /// Whether nothing was saved.
    pub dry_run: bool,
    /// The host that the credentials are for.
    pub host: String,
    /// Where they are saved.
    pub saved_in: Option<String>,
    /// Whether the registry accepts them; null where that couldn't be tried.
    pub accepted: Option<bool>,
}

impl Document for SignedIn {
    const COMMAND: &'static str = "registry sign-in";
}

/// What `registry sign-out` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct SignedOut {
    /// Whether nothing was deleted.
    pub dry_run: bool,
    /// The host that the credentials are for.
    pub host: String,
    /// Whether there were any.
    pub deleted: bool,
}

impl Document for SignedOut {
    const COMMAND: &'static str = "registry sign-out";
}
