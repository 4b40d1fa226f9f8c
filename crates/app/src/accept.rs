//! `accept`: records in the manifest that a person accepted the licence of a package for the team.

use std::collections::BTreeMap;

use bibliotax_core::compliance::{LockBreach, breaches};
use bibliotax_core::license::License;
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::manifest::ManifestText;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::rules::{NO_LICENSE, Reason, Rules};
use bibliotax_core::version::Version;
use bibliotax_disk::read::read_text;
use bibliotax_store::store::Store;
use jiff::Timestamp;

use crate::context::Context;
use crate::failure::Failure;
use crate::resolving::locked_name;
use crate::workspace::edits::{EditedManifest, Edits, compared};
use crate::workspace::{ManifestEdits, WorkspaceFolder};

/// Largest licence text that is shown, in bytes.
const MAX_TEXT: usize = 256 << 10;

/// How files begin that hold a licence, in small letters; the most telling first.
const LICENSE_FILES: [&str; 4] = ["license", "licence", "copying", "unlicense"];

/// What is accepted.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Packages in the lock; none for all whose licences wait for it.
    pub packages: Vec<String>,
    /// Whether nothing is going to be written.
    pub is_dry_run: bool,
}

/// A locked package whose licence nobody accepted yet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unaccepted {
    /// The package.
    pub package: PackageName,
    /// Its version.
    pub version: Version,
    /// Its licence; `None` where it declares none.
    pub license: Option<License>,
}

impl Unaccepted {
    /// The licence as people read it.
    pub fn license_text(&self) -> String {
        self.license.as_ref().map_or(NO_LICENSE.to_owned(), ToString::to_string)
    }

    /// Writes down that the licence was accepted, for this version and all later ones that have the same licence.
    pub fn record(&self, manifest: &mut ManifestText) {
        manifest.set_accepted(&self.package, &self.license_text(), &Range::from_lowest(&self.version));
    }
}

/// The licence of a package as it comes with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LicenseFile {
    /// The file, inside the package.
    pub path: String,
    /// Its text.
    pub text: String,
}

/// Licences that are going to be accepted.
pub struct Plan {
    /// Those that nobody had accepted.
    pub accepted: Vec<Unaccepted>,
    /// How the manifest changes.
    pub edited: Vec<EditedManifest>,
    workspace: WorkspaceFolder,
    edits: Edits,
}

impl Plan {
    /// Writes the manifest.
    pub fn apply(&self) -> Result<(), Failure> {
        self.workspace.write_manifests(&self.edits)
    }
}

/// The licences of a lock's packages that a person has to accept and nobody did.
pub fn unaccepted(lock: &Lock, rules: &Rules, now: Timestamp) -> Vec<Unaccepted> {
    unaccepted_among(&breaches(lock, rules, |_| None, now))
}

fn unaccepted_among(breaches: &[LockBreach<'_>]) -> Vec<Unaccepted> {
    let waiting = breaches.iter().filter_map(|breach| {
        let Reason::UnacceptedLicense(license) = &breach.breach.reason else { return None };
        let LockedPackage { name, version, .. } = breach.package;
        let (package, version, license) = (name.clone(), version.clone(), license.clone());
        breach.waiver.is_none().then_some(Unaccepted { package, version, license })
    });
    // The rules of several purposes may ask for the same.
    let by_package: BTreeMap<PackageName, Unaccepted> =
        waiting.map(|waiting| (waiting.package.clone(), waiting)).collect();
    by_package.into_values().collect()
}

/// Works out what accepting licences comes to.
pub fn plan(request: &Request, context: &Context<'_>) -> Result<Plan, Failure> {
    let workspace = WorkspaceFolder::open(context.folder, request.is_dry_run, context.listener)?;
    let lock = workspace.needed_lock()?;
    let rules = &workspace.declared.rules;
    let breaches = breaches(lock, rules, |_| None, context.environment.now);
    let waiting = unaccepted_among(&breaches);
    let named = request.packages.iter().map(|word| locked_name(lock, word));
    let named: Vec<PackageName> = named.collect::<Result<_, _>>()?;
    for name in &named {
        if !waiting.iter().any(|waiting| waiting.package == *name) {
            check_allowed(&breaches, name)?;
        }
    }
    let is_meant = |waiting: &Unaccepted| named.is_empty() || named.contains(&waiting.package);
    let accepted: Vec<Unaccepted> = waiting.into_iter().filter(is_meant).collect();
    let mut texts = ManifestEdits::of(&workspace);
    for accepted in &accepted {
        accepted.record(texts.open("")?);
    }
    let edits = texts.edits();
    let edited = compared(&workspace, &edits);
    Ok(Plan { accepted, edited, workspace, edits })
}

/// Fails where the rules refuse the licence of a package, which nobody can accept then.
fn check_allowed(breaches: &[LockBreach<'_>], name: &PackageName) -> Result<(), Failure> {
    let refused = breaches.iter().find(|breach| {
        breach.package.name == *name && matches!(breach.breach.reason, Reason::RefusedLicense(_))
    });
    let Some(refused) = refused else { return Ok(()) };
    let who = format!("{name} {}", refused.package.version);
    let message = refused.breach.sentence(refused.scope, &who, true);
    Err(Failure::new("rules.forbidden", message).advice(
        "`bibliotax update --comply` moves to what the rules allow; to change them, edit `[rules] licenses`",
    ))
}

/// The licence text that comes with a package; `None` where it has none, or isn't in the store.
pub fn license_file(package: &LockedPackage, store: &Store) -> Result<Option<LicenseFile>, Failure> {
    for file in &package.files {
        let tree = file.tree();
        let Some(listing) = store.listing(&tree)? else { continue };
        let mut found: Vec<(usize, usize, &str)> = listing
            .files
            .iter()
            .filter_map(|file| {
                let path = file.path.as_str();
                let name = path.rsplit('/').next().unwrap_or(path).to_lowercase();
                let rank = LICENSE_FILES.iter().position(|start| name.starts_with(start))?;
                Some((path.matches('/').count(), rank, path))
            })
            .collect();
        found.sort_unstable();
        let Some((_, _, path)) = found.first() else { continue };
        // What is too large, or no text, is no licence that a person could read.
        if let Ok(Some(text)) = read_text(&store.tree(&tree).join(path), MAX_TEXT) {
            return Ok(Some(LicenseFile { path: (*path).to_owned(), text }));
        }
    }
    Ok(None)
}
