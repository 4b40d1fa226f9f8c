//! `export`: what of the lock goes into a product, for documents in open formats.

mod contents;

use std::collections::BTreeMap;

use bibliotax_bill::Bill;
use bibliotax_bill::bill::BillSource;
use bibliotax_bill::vulnerabilities::{Statement, statements};
use bibliotax_core::advisory::Affecting;
use bibliotax_core::license::License;
use bibliotax_core::lock::Scope;
use bibliotax_core::name::{PackageName, Purpose};
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::version::Version;
use bibliotax_core::workspace::Project;
use jiff::Timestamp;
use rayon::prelude::*;

use crate::context::Context;
use crate::failure::Failure;
use crate::lock_check::LockCheck;
use crate::locked_cards::locked_cards;
use crate::machine::this_machine;
use crate::resolving::Resolver;
use crate::search_options::SearchOptions;
use crate::shelf::{ShelfOptions, ShelfPart, ShelfWork};
use crate::workspace::{ProjectWords, WorkspaceFolder};

/// What goes into the product, and what the document says of it.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Only what these projects need; none for all.
    pub projects: ProjectWords,
    /// Only what these targets need; none for all.
    pub targets: Vec<String>,
    /// What is needed for these purposes only is left out.
    pub without: Vec<Purpose>,
    /// Whether the files in packages are listed.
    pub with_files: bool,
    /// Whether the licence texts in packages are taken along.
    pub with_license_texts: bool,
    /// Whether the advisories that affect it are looked up.
    pub with_advisories: bool,
    /// The time that is written down.
    pub time: Option<Timestamp>,
}

/// What is written down.
pub struct Export {
    /// What goes into the product.
    pub bill: Bill,
    /// What is said of advisories, where they are looked up.
    pub statements: Vec<Statement>,
    /// What people should know of it.
    pub warnings: Vec<String>,
}

/// What of the lock goes into a product. A lock that isn't made from the manifests as they are is refused: nobody would know what a
/// document of it is about.
pub fn export(
    request: &Request,
    tool_version: &'static str,
    context: &Context<'_>,
) -> Result<Export, Failure> {
    let workspace = WorkspaceFolder::find(context.folder)?;
    let lock = workspace.needed_lock()?;
    if !workspace.is_locked() {
        return Err(Failure::new("lock.stale", "manifests changed since the lock was written")
            .advice("`bibliotax install` updates it; then export again"));
    }
    let cards = locked_cards(&workspace, lock, context.environment)?;
    let options = SearchOptions::default();
    LockCheck::new(&workspace, context.environment, &options).with_cards(&cards).check(lock)?;
    workspace.check_purposes(&request.without)?;
    let part = ShelfPart {
        projects: request.projects.names(&workspace)?,
        targets: workspace.targets_named(&request.targets)?,
        without: request.without.clone(),
    };
    let machine = this_machine();
    let mut bill = Bill::new(BillSource {
        lock,
        scope: Scope {
            projects: &part.projects,
            targets: &part.targets,
            without: &part.without,
            machine: &machine,
        },
        projects: workspace.declared.projects.iter().map(of_project).collect(),
        cards,
        time: request.time,
        tool_version,
    });
    let mut warnings = Vec::new();
    if request.with_files || request.with_license_texts {
        let options = ShelfOptions { part, ..ShelfOptions::default() };
        ShelfWork::new(&workspace, lock, &options, context).fetch()?;
        warnings = contents::add(&mut bill, request, context)?;
    }
    let statements = if request.with_advisories {
        said_of_advisories(&workspace, &bill, &mut warnings, context)?
    } else {
        Vec::new()
    };
    Ok(Export { bill, statements, warnings })
}

/// What a project says of itself: its version and licence.
fn of_project(project: &Project) -> (PackageName, (Option<Version>, Option<License>)) {
    let declared = project.manifest.project.as_ref();
    let said = declared.map(|declared| (declared.version.clone(), declared.license.clone()));
    (project.name().clone(), said.unwrap_or_default())
}

/// What the rules say of the advisories that affect what goes into a product, and what isn't known of them.
fn said_of_advisories(
    workspace: &WorkspaceFolder,
    bill: &Bill,
    warnings: &mut Vec<String>,
    context: &Context<'_>,
) -> Result<Vec<Statement>, Failure> {
    let options = SearchOptions::default();
    let resolver = Resolver::open(workspace, &workspace.declared, context.environment, &options)?;
    let registries = &resolver.registries;
    let names: Vec<PackageName> =
        bill.components.iter().map(|component| component.package.name.clone()).collect();
    registries.prefetch(&names);
    let of_package = |name: &PackageName| -> Result<(PackageName, Vec<Affecting>), Failure> {
        let listing = registries.listing(name)?;
        let affecting = listing.map(|listing| registries.advisories(&listing)).transpose()?;
        Ok((name.clone(), affecting.map(|affecting| affecting.to_vec()).unwrap_or_default()))
    };
    let affecting: BTreeMap<PackageName, Vec<Affecting>> =
        names.par_iter().map(of_package).collect::<Result<_, Failure>>()?;
    let of = |name: &PackageName| affecting.get(name).cloned().unwrap_or_default();
    let waivers = &workspace.declared.rules.waivers;
    let said = statements(bill, of, waivers, context.environment.now);
    warnings.extend(registries.warnings());
    Ok(said)
}
