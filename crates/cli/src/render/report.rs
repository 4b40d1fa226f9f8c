//! The page that `report` writes: everything in one HTML file, which needs no network and, to be read, no scripts.

mod changes;
mod charts;
mod findings;
mod fits;
mod numbers;
mod packages;
mod steps;

use std::collections::BTreeSet;

use bibliotax_app::report::{PackageFacts, Report};
use bibliotax_core::digest::Digest;
use bibliotax_core::graph::Node;
use bibliotax_core::lock::LockedProject;
use bibliotax_core::name::PackageName;
use bibliotax_present::dates::date;
use bibliotax_present::graph::{STYLE as GRAPH_STYLE, linked_svg};
use bibliotax_present::page::BASE_STYLE;
use bibliotax_present::words::{count, first_few};
use data_encoding::BASE64;
use jiff::Timestamp;
use minijinja::value::Value;
use minijinja::{Environment, Output, State, UndefinedBehavior};
use serde::Serialize;

use self::changes::Changes;
use self::charts::Bar;
use self::findings::FindingRow;
use self::fits::Matrix;
use self::numbers::Number;
use self::packages::{NeedsOfGraph, PackageRow};
use self::steps::StepRow;
use crate::ui::clean;

const STYLE: &str = include_str!("report/page.css");
const SCRIPT: &str = include_str!("report/page.js");
const TEMPLATE: &str = include_str!("report/page.html");

/// Most projects that are named in the title.
const MAX_NAMED: usize = 3;

/// Most packages whose table a browser lays out at once without a delay that people notice.
const MAX_SHORT: usize = 300;

/// When and by what a page was made, and what it compares with.
pub struct Made<'m> {
    /// When.
    pub at: Timestamp,
    /// The version of this program.
    pub by: &'m str,
    /// What names the lock before, where changes are shown.
    pub since: Option<&'m str>,
}

/// What the template shows.
#[derive(Serialize)]
struct Page {
    title: String,
    made: String,
    tool: String,
    styles: [&'static str; 3],
    script: &'static str,
    /// The only script that the page may run, as a policy names it (Content Security Policy Level 3, section 2.3.1).
    script_hash: String,
    warnings: Vec<String>,
    numbers: Vec<Number>,
    findings: Vec<FindingRow>,
    waived: Vec<FindingRow>,
    changes: Option<Changes>,
    projects: Vec<ProjectRow>,
    packages: Vec<PackageRow>,
    /// Whether there are so many packages that a browser should lay out only those in view.
    is_long: bool,
    graph: String,
    matrix: Matrix,
    licenses: Vec<Bar>,
    ages: Vec<Bar>,
    steps: Vec<StepRow>,
}

/// A project of the workspace.
#[derive(Serialize)]
struct ProjectRow {
    id: String,
    name: String,
    folder: String,
    targets: String,
    needs: usize,
}

/// A place in the page, by its name.
#[derive(Serialize)]
struct Link {
    href: String,
    name: String,
}

/// The page.
pub fn page(report: &Report<'_>, made: &Made<'_>) -> String {
    let mut templates = Environment::new();
    templates.set_undefined_behavior(UndefinedBehavior::Strict);
    templates.set_trim_blocks(true);
    templates.set_lstrip_blocks(true);
    templates.set_formatter(cleaned);
    // The name has an ending for which all values are escaped.
    let page = templates.add_template("page.html", TEMPLATE);
    let page = page.and_then(|()| templates.get_template("page.html")?.render(Page::of(report, made)));
    page.expect("the template goes with these values: a test renders it")
}

/// Writes a value into the page: without hidden characters, and escaped.
fn cleaned(out: &mut Output<'_>, state: &State<'_, '_>, value: &Value) -> Result<(), minijinja::Error> {
    match value.as_str() {
        Some(text) if !value.is_safe() => minijinja::escape_formatter(out, state, &Value::from(clean(text))),
        _ => minijinja::escape_formatter(out, state, value),
    }
}

impl Page {
    fn of(report: &Report<'_>, made: &Made<'_>) -> Self {
        let facts = report.packages();
        let (mut findings, mut waived) = (Vec::new(), Vec::new());
        for finding in &report.checked.findings {
            let rows = if finding.waived.is_some() { &mut waived } else { &mut findings };
            rows.push(FindingRow::of(finding, &facts));
        }
        Self {
            title: title(report),
            made: date(made.at),
            tool: format!("bibliotax {}", made.by),
            styles: [BASE_STYLE, STYLE, GRAPH_STYLE],
            script: SCRIPT,
            script_hash: format!("sha256-{}", BASE64.encode(Digest::of(SCRIPT.as_bytes()).as_bytes())),
            warnings: report.warnings.clone(),
            numbers: numbers::numbers(report, &facts),
            findings,
            waived,
            changes: made
                .since
                .zip(report.compared.as_ref())
                .map(|(since, compared)| Changes::of(since, compared)),
            projects: projects(report).map(ProjectRow::of).collect(),
            packages: package_rows(report, &facts, made.at),
            is_long: facts.len() > MAX_SHORT,
            graph: graph(report, facts.len()),
            matrix: Matrix::of(report, &facts),
            licenses: charts::licenses(&facts),
            ages: charts::ages(&facts, made.at),
            steps: steps::rows(&report.steps),
        }
    }
}

impl ProjectRow {
    fn of(project: &LockedProject) -> Self {
        Self {
            id: project_id(&project.name),
            name: project.name.to_string(),
            folder: project.path.clone(),
            targets: project.targets.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
            needs: project.needs.len(),
        }
    }
}

impl Link {
    fn to_node(node: &Node<'_>) -> Self {
        Self { href: format!("#{}", node_id(node)), name: node.name().to_string() }
    }
}

fn package_rows(report: &Report<'_>, facts: &[PackageFacts<'_>], now: Timestamp) -> Vec<PackageRow> {
    let needs = NeedsOfGraph::of(&report.graph);
    let counting = report.checked.findings.iter().filter(|finding| finding.waived.is_none());
    let with_findings: BTreeSet<&PackageName> = counting.filter_map(|one| one.package.as_ref()).collect();
    let row = |one: &PackageFacts<'_>| {
        PackageRow::of(one, &needs, report, now).flagged(with_findings.contains(&one.package.name))
    };
    facts.iter().map(row).collect()
}

fn projects<'r>(report: &'r Report<'_>) -> impl Iterator<Item = &'r LockedProject> {
    report.graph.nodes.iter().filter_map(|node| match node {
        Node::Project(project) => Some(*project),
        Node::Package(_) => None,
    })
}

/// The projects that it is about.
fn title(report: &Report<'_>) -> String {
    let names: Vec<&str> = projects(report).map(|project| project.name.as_str()).collect();
    format!("Dependencies of {}", first_few(&names, MAX_NAMED))
}

/// The picture of the graph, whose boxes lead to the rows of projects and packages.
fn graph(report: &Report<'_>, packages: usize) -> String {
    let label = format!("Dependency graph: {}", count(packages, "package"));
    linked_svg(&report.graph, &label, |node| format!("#{}", node_id(&report.graph.nodes[node])))
}

/// The name of a node's place in the page.
fn node_id(node: &Node<'_>) -> String {
    match node {
        Node::Project(project) => project_id(&project.name),
        Node::Package(package) => package_id(&package.name),
    }
}

fn package_id(name: &PackageName) -> String {
    format!("package-{name}")
}

fn project_id(name: &PackageName) -> String {
    format!("project-{name}")
}
