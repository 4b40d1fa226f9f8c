//! How the lock differs from a bill of materials that somebody has.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use bibliotax_bill::bill::BillSource;
use bibliotax_bill::listed::{ListedBill, ListedPackage, MAX_BILL, Unreadable, read};
use bibliotax_bill::{Bill, BillComponent};
use bibliotax_core::lock::{Lock, Scope};
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::version::Version;
use bibliotax_disk::read::read_text;

use super::{Finding, Level, Place, Subject};
use crate::failure::Failure;
use crate::machine::this_machine;
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// A bill of materials to compare with, and what of the lock it is about.
#[derive(Debug, Clone, Default)]
pub struct ComparedBill {
    /// The file.
    pub file: PathBuf,
    /// What people call the file.
    pub shown: String,
    /// Only for these targets; none for all.
    pub targets: Vec<String>,
    /// Without what is needed for these purposes only.
    pub without: Vec<Purpose>,
}

const ADVICE: &str =
    "`bibliotax export` writes it anew; or say with --in, --target and --leave-out what it is about";

/// What differs, and how much was compared.
pub struct Comparison {
    /// What the file lists that the lock doesn't have, and the other way round.
    pub findings: Vec<Finding>,
    /// How many projects of the lock it is about.
    pub projects: usize,
    /// How many packages of the lock.
    pub packages: usize,
}

/// Compares the lock with what a file lists.
pub fn compare(
    compared: &ComparedBill,
    projects: &ProjectWords,
    workspace: &WorkspaceFolder,
) -> Result<Comparison, Failure> {
    let listed = listed(&compared.file, &compared.shown)?;
    let lock = workspace.needed_lock()?;
    workspace.check_purposes(&compared.without)?;
    let scope = Scope {
        projects: &projects.names(workspace)?,
        targets: &workspace.targets_named(&compared.targets)?,
        without: &compared.without,
        machine: &this_machine(),
    };
    let Bill { projects, components, .. } = bill_of(lock, scope);
    let mut by_name: BTreeMap<&str, Vec<&ListedPackage>> = BTreeMap::new();
    for package in &listed.packages {
        by_name.entry(&package.name).or_default().push(package);
    }
    let file = &compared.shown;
    let finding = |component: &BillComponent| {
        let listed = by_name.get(component.package.name.as_str()).map_or(&[][..], Vec::as_slice);
        of_component(component, listed, file)
    };
    let mut found: Vec<Finding> = components.iter().filter_map(finding).collect();
    let known: BTreeSet<&str> = components.iter().map(|component| component.package.name.as_str()).collect();
    let is_project = |name: &str| lock.projects.iter().any(|project| project.name.as_str() == name);
    let unknown = listed.packages.iter().filter(|package| !known.contains(package.name.as_str()));
    found.extend(
        unknown.filter(|package| !is_project(&package.name)).map(|package| of_unknown(package, file)),
    );
    Ok(Comparison { findings: found, projects: projects.len(), packages: components.len() })
}

/// What of the lock the file is to list.
fn bill_of(lock: &Lock, scope: Scope<'_>) -> Bill {
    Bill::new(BillSource {
        lock,
        scope,
        projects: BTreeMap::new(),
        cards: BTreeMap::new(),
        time: None,
        tool_version: "",
    })
}

/// What a file lists.
fn listed(path: &Path, shown: &str) -> Result<ListedBill, Failure> {
    let limit = usize::try_from(MAX_BILL).unwrap_or(usize::MAX);
    let text = read_text(path, limit)?.ok_or_else(|| {
        Failure::new("bill.none", format!("there is no file {shown}"))
            .advice("`bibliotax export cyclonedx --output FILE` writes one")
    })?;
    read(&text).map_err(|error| {
        let why = match error {
            Unreadable::Json(why) => format!("{shown} can't be read: {why}"),
            Unreadable::Format => format!("{shown} is no CycloneDX or SPDX document in JSON"),
        };
        Failure::new("bill.unreadable", why).advice("name a file in CycloneDX, SPDX 2 or SPDX 3, in JSON")
    })
}

/// How what is locked differs from what is listed under its name.
fn of_component(component: &BillComponent, listed: &[&ListedPackage], file: &str) -> Option<Finding> {
    let (name, version) = (&component.package.name, &component.package.version);
    let finding = |code, message: String, listed: Vec<String>| {
        let place = (Place::Lock(Some(name.clone())), Subject::Bill { listed });
        Some(Finding::new(code, Level::Error, message, ADVICE, place).about(name))
    };
    if listed.is_empty() {
        return finding("bill.missing", format!("{file} doesn't list {name} {version}"), Vec::new());
    }
    let is_locked = |text: &String| text.parse::<Version>().is_ok_and(|listed| listed == *version);
    let versions = || listed.iter().filter_map(|package| package.version.clone());
    let of_version: Vec<&&ListedPackage> =
        listed.iter().filter(|package| package.version.as_ref().is_none_or(is_locked)).collect();
    if of_version.is_empty() {
        let versions: Vec<String> = versions().collect();
        let message = format!("{file} lists {name} {}, but {version} is locked", versions.join(", "));
        return finding("bill.version", message, versions);
    }
    let locked: BTreeSet<String> =
        component.archives().iter().map(|archive| archive.sha256.to_string()).collect();
    let digests: BTreeSet<&String> = of_version.iter().flat_map(|package| &package.sha256).collect();
    if locked.is_empty() || digests.is_empty() || digests.iter().any(|digest| locked.contains(*digest)) {
        return None;
    }
    let message = format!("{file} lists {name} {version} with other bytes than the locked ones");
    finding("bill.bytes", message, versions().collect())
}

/// That the lock has nothing of a name.
fn of_unknown(package: &ListedPackage, file: &str) -> Finding {
    let version = package.version.as_ref().map(|version| format!(" {version}")).unwrap_or_default();
    let message = format!("{file} lists {}{version}, which the lock doesn't have", package.name);
    let subject = Subject::Bill { listed: package.version.iter().cloned().collect() };
    let finding = Finding::new("bill.extra", Level::Error, message, ADVICE, (Place::Lock(None), subject));
    match package.name.parse::<PackageName>() {
        Ok(name) => finding.about(&name),
        Err(_) => finding,
    }
}
