//! The table of packages.

use bibliotax_app::report::{Freshness, PackageFacts, Report};
use bibliotax_core::facet::Fit;
use bibliotax_core::graph::{Graph, Node};
use bibliotax_core::newer::Newer as News;
use bibliotax_present::dates::{age, date};
use bibliotax_present::words::{first_few, size};
use jiff::Timestamp;
use serde::Serialize;

use super::{Link, package_id};
use crate::render::newer::{about_locked, held_back, update_version};

/// Most packages that need another that are named without unfolding; most places that are named.
const MAX_NAMED: usize = 5;

/// A package.
#[derive(Serialize)]
pub struct PackageRow {
    id: String,
    name: String,
    version: String,
    newest: String,
    /// How current it is: `yes` at the newest release, `unsure` behind it, nothing where nobody knows.
    newest_look: &'static str,
    /// What is to be said of that.
    notes: Vec<String>,
    /// When it was published, and how long ago that is.
    published: String,
    age: String,
    /// The same in seconds, to sort by.
    published_at: i64,
    license: String,
    source: String,
    needed_by: Vec<Link>,
    more_needed_by: Vec<Link>,
    size: String,
    bytes: u64,
    fits: String,
    fits_look: &'static str,
    /// The words that the table can be narrowed to.
    flags: String,
}

/// Which node of a graph needs which.
pub struct NeedsOfGraph<'g> {
    graph: &'g Graph<'g>,
    needing: Vec<Vec<usize>>,
}

impl<'g> NeedsOfGraph<'g> {
    /// The needs of a graph.
    pub fn of(graph: &'g Graph<'g>) -> Self {
        let mut needing: Vec<Vec<usize>> = vec![Vec::new(); graph.nodes.len()];
        for (from, needed) in graph.needed().into_iter().enumerate() {
            needed.into_iter().for_each(|to| needing[to].push(from));
        }
        Self { graph, needing }
    }

    /// Those that need a node: projects first.
    fn links(&self, node: usize) -> Vec<Link> {
        self.needing[node].iter().map(|one| Link::to_node(&self.graph.nodes[*one])).collect()
    }

    /// Whether a project needs a node itself.
    pub fn is_direct(&self, node: usize) -> bool {
        self.needing[node].iter().any(|one| matches!(self.graph.nodes[*one], Node::Project(_)))
    }
}

impl PackageRow {
    /// The row of a package.
    pub fn of(
        facts: &PackageFacts<'_>,
        needs: &NeedsOfGraph<'_>,
        report: &Report<'_>,
        now: Timestamp,
    ) -> Self {
        let package = facts.package;
        let node = facts.node;
        let mut needed_by = needs.links(node);
        let more_needed_by = needed_by.split_off(MAX_NAMED.min(needed_by.len()));
        let (newest, newest_look, notes) = freshness(facts, report);
        let (fits, fits_look) = fits(facts, &report.fits.places);
        let is_direct = needs.is_direct(node);
        let flags =
            [(is_direct, "direct"), (newest_look == "unsure", "outdated"), (fits_look == "no", "misfit")];
        let flags: Vec<&str> = flags.into_iter().filter(|(has, _)| *has).map(|(_, flag)| flag).collect();
        Self {
            id: package_id(&package.name),
            name: package.name.to_string(),
            version: package.shown_version(),
            newest,
            newest_look,
            notes,
            published: facts.published.map(date).unwrap_or_default(),
            age: facts.published.map(|at| age(at, now)).unwrap_or_default(),
            published_at: facts.published.map(Timestamp::as_second).unwrap_or_default(),
            license: package.license.as_ref().map_or_else(|| "not declared".to_owned(), ToString::to_string),
            source: package.source.to_string(),
            needed_by,
            more_needed_by,
            size: if package.files.is_empty() { String::new() } else { size(package.size()) },
            bytes: package.size(),
            fits,
            fits_look,
            flags: flags.join(" "),
        }
    }

    /// The same, of a package that there are findings about.
    pub fn flagged(mut self, has_findings: bool) -> Self {
        if has_findings {
            self.flags += " problem";
        }
        self
    }
}

/// The newest version, how that looks, and what is to be said of it.
fn freshness(facts: &PackageFacts<'_>, report: &Report<'_>) -> (String, &'static str, Vec<String>) {
    let at_newest = (facts.package.version.to_string(), "yes");
    let news: &News<'_> = match facts.freshness {
        Freshness::Newest => return (at_newest.0, at_newest.1, Vec::new()),
        Freshness::Unknown => return ("not known".to_owned(), "", Vec::new()),
        Freshness::News(news) => news,
    };
    let mut notes = about_locked(news);
    let update = update_version(news);
    let (newest, look) = match (&news.beyond, &update) {
        (Some((version, holds)), _) => {
            let facets = report.newer.as_ref().map(|newer| &newer.facets);
            notes.extend(update.iter().map(|version| format!("update to {version}")));
            notes.extend(facets.map(|facets| held_back(holds, facets)));
            (version.to_string(), "unsure")
        }
        (None, Some(version)) => (version.clone(), "unsure"),
        (None, None) => at_newest,
    };
    (newest, look, notes)
}

/// How a package fits all places where it is needed, and how that looks.
fn fits(facts: &PackageFacts<'_>, places: &[String]) -> (String, &'static str) {
    let on = |is_such: fn(&Fit) -> bool| -> Vec<&str> {
        let fits = facts.fits.iter().zip(places);
        fits.filter(|(fit, _)| fit.as_ref().is_some_and(is_such)).map(|(_, place)| place.as_str()).collect()
    };
    let no = on(|fit| matches!(fit, Fit::No(_)));
    let undeclared = on(|fit| matches!(fit, Fit::NotDeclared(_)));
    let yes = on(|fit| matches!(fit, Fit::Yes));
    let part = |word: &str, on: &[&str]| match on.len() {
        0 => None,
        1 if places.len() == 1 => Some(word.trim_end_matches(',').to_owned()),
        all if all == places.len() => Some(format!("{word} on all {all} targets")),
        _ => Some(format!("{word} on {}", first_few(on, MAX_NAMED))),
    };
    if no.is_empty() && undeclared.is_empty() {
        return part("yes,", &yes).map_or_else(|| (String::new(), ""), |words| (words, "yes"));
    }
    let parts: Vec<String> =
        [part("no", &no), part("not declared", &undeclared)].into_iter().flatten().collect();
    (parts.join("; "), if no.is_empty() { "unsure" } else { "no" })
}
