//! `report`: all that is known of what is locked, for one page that people look at.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::facet::Fit;
use bibliotax_core::graph::Graph;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::name::PackageName;
use bibliotax_core::newer::Newer as News;
use bibliotax_core::steps::Todo;
use jiff::Timestamp;

use crate::codes::{Kind, kind_of};
use crate::context::Context;
use crate::failure::Failure;
use crate::graph::Shown;
use crate::search_options::SearchOptions;
use crate::workspace::{ProjectWords, WorkspaceFolder};
use crate::{check, compare, fit, graph, newer, steps};

/// What is reported.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// Only what these projects need; none for all.
    pub projects: ProjectWords,
    /// What changed since the lock in this file or git revision is reported, too.
    pub since: Option<String>,
}

/// All that is known of what is locked.
pub struct Report<'w> {
    /// Projects, packages, and which needs which.
    pub graph: Graph<'w>,
    /// What `check` finds.
    pub checked: check::Report,
    /// How the packages fit targets and promises.
    pub fits: fit::Report,
    /// What is newer; `None` where that isn't known, of which a warning tells why.
    pub newer: Option<newer::Report<'w>>,
    /// What is to be done by hand, and what was.
    pub steps: Vec<Todo<'w>>,
    /// The difference to the lock before, where that was asked.
    pub compared: Option<compare::Report>,
    /// What people should know of registries and feeds.
    pub warnings: Vec<String>,
}

/// A locked package with what is known of its release.
pub struct PackageFacts<'r> {
    /// The number of its node in the graph.
    pub node: usize,
    /// The package.
    pub package: &'r LockedPackage,
    /// When its release was published, where somebody did.
    pub published: Option<Timestamp>,
    /// How current it is.
    pub freshness: Freshness<'r>,
    /// How it fits each place; `None` where it isn't needed, and nothing at all where its release isn't known.
    pub fits: &'r [Option<Fit>],
}

impl PackageFacts<'_> {
    /// Whether there is a newer release, within the ranges or beyond them.
    pub fn is_outdated(&self) -> bool {
        matches!(self.freshness, Freshness::News(news) if news.update.is_some() || news.beyond.is_some())
    }
}

/// How current a locked release is.
#[derive(Clone, Copy)]
pub enum Freshness<'r> {
    /// There is nothing newer.
    Newest,
    /// There are news of it, such as a newer release.
    News(&'r News<'r>),
    /// Nobody knows.
    Unknown,
}

/// Finds out what is known of a workspace's lock, with the registries that it names.
pub fn report<'w>(
    workspace: &'w WorkspaceFolder,
    request: &Request,
    context: &Context<'_>,
) -> Result<Report<'w>, Failure> {
    let projects = &request.projects.or_all();
    let of_graph = graph::Request { projects: projects.clone(), ..graph::Request::default() };
    let shown = Shown::of(workspace, &of_graph)?;
    let compared = request.since.as_ref().map(|since| compared(since, context)).transpose()?;
    let options = SearchOptions { asks_anew: true, ..SearchOptions::default() };
    let resolver = check::resolver(workspace, shown.lock(), &options, context)?;
    let of_check = check::Request { projects: projects.clone(), ..check::Request::default() };
    let checked = check::report(&of_check, workspace, Some(&resolver), context)?;
    let fits = fit::of_lock(workspace, projects, &resolver.registries)?;
    let (newer, unknown) = newer_or_why(workspace, projects, context)?;
    let warnings = checked.warnings.iter().chain(newer.iter().flat_map(|newer| &newer.warnings));
    let about_compared = compared.iter().filter_map(|compared| compared.known.as_ref());
    let warnings = warnings.chain(about_compared.flat_map(|known| &known.warnings)).chain(&unknown);
    Ok(Report {
        graph: shown.graph(),
        warnings: each_once(warnings),
        checked,
        fits,
        newer,
        steps: steps::steps_of(workspace, shown.lock(), projects, &[])?,
        compared,
    })
}

impl Report<'_> {
    /// The packages that the projects reach and that are no projects of the workspace, with what is known of their releases.
    pub fn packages(&self) -> Vec<PackageFacts<'_>> {
        let rows: BTreeMap<&PackageName, &fit::Row> =
            self.fits.rows.iter().map(|row| (&row.name, row)).collect();
        let newer = self.newer.as_ref();
        let news: BTreeMap<&PackageName, &News<'_>> = newer
            .iter()
            .flat_map(|newer| &newer.packages)
            .map(|one| (&one.news.package.name, &one.news))
            .collect();
        let unknown: BTreeSet<&PackageName> = newer.iter().flat_map(|newer| &newer.unknown).collect();
        let freshness = |package: &LockedPackage| match news.get(&package.name) {
            Some(news) => Freshness::News(news),
            None if newer.is_none() || unknown.contains(&package.name) => Freshness::Unknown,
            None if package.source.path().is_some() => Freshness::Unknown,
            None => Freshness::Newest,
        };
        let nodes = self.graph.nodes.iter().enumerate();
        let packages = nodes.filter_map(|(node, one)| Some((node, one.package()?)));
        let packages = packages.map(|(node, package)| {
            let row = rows.get(&package.name);
            PackageFacts {
                node,
                package,
                published: row.and_then(|row| row.release.entry.dated()),
                freshness: freshness(package),
                fits: row.map_or(&[], |row| &row.fits),
            }
        });
        packages.collect()
    }
}

/// What changed since an earlier lock, with what registries and feeds say of that.
fn compared(since: &str, context: &Context<'_>) -> Result<compare::Report, Failure> {
    let request = compare::Request { old: since.to_owned(), asks: true, ..compare::Request::default() };
    compare::report(&request, context)
}

/// What is newer, or why nobody can say. Where bytes aren't what was promised, there is no report.
fn newer_or_why<'w>(
    workspace: &'w WorkspaceFolder,
    projects: &ProjectWords,
    context: &Context<'_>,
) -> Result<(Option<newer::Report<'w>>, Option<String>), Failure> {
    let request = newer::Request { projects: projects.clone(), ..newer::Request::default() };
    match newer::report(workspace, &request, context) {
        Ok(newer) => {
            let stuck = newer.why_stuck();
            Ok((Some(newer), stuck))
        }
        Err(failure) if matches!(kind_of(failure.code), Kind::Unreachable | Kind::Unsolved) => {
            Ok((None, Some(format!("newer releases aren't known: {}", failure.message))))
        }
        Err(failure) => Err(failure),
    }
}

/// Texts in their order, each once.
fn each_once<'t>(texts: impl Iterator<Item = &'t String>) -> Vec<String> {
    let mut seen = BTreeSet::new();
    texts.filter(|text| seen.insert(*text)).cloned().collect()
}
