//! `find`: packages by words, in every registry at once.

pub mod while_typing;

use bibliotax_core::name::RegistryName;
use bibliotax_registry::search::{Found, Hit, Query, ReadAs};

use crate::context::Context;
use crate::failure::Failure;
use crate::lookup;
use crate::resolving::{Resolver, no_registry};
use crate::search_options::SearchOptions;
use crate::workspace::ProjectWords;

/// What is looked for.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The words.
    pub words: Vec<String>,
    /// Only these registries; none for all that are declared.
    pub registries: Vec<String>,
    /// Only what these projects run in; none for all.
    pub projects: ProjectWords,
    /// Only these targets; none for all.
    pub targets: Vec<String>,
    /// Which page of what is found, from 1.
    pub page: u8,
}

/// What all registries found, the best first.
pub struct Report {
    /// What was asked.
    pub query: Query,
    /// How many registries answered.
    pub answers: usize,
    /// What was found, with where.
    pub hits: Vec<(RegistryName, Hit)>,
    /// Words that nothing has, with those that were searched instead.
    pub read_as: Vec<ReadAs>,
    /// Whether there is another page.
    pub has_more: bool,
    /// Whether nothing has all of the words.
    pub is_loose: bool,
    /// What people should know of the registries.
    pub warnings: Vec<String>,
    /// Why nobody answered, where nobody did.
    pub failure: Option<Failure>,
}

/// Finds packages.
pub fn report(request: &Request, context: &Context<'_>) -> Result<Report, Failure> {
    let workspace = lookup::workspace(&request.registries, context)?;
    let options = SearchOptions::default();
    let resolver = Resolver::open(&workspace, &workspace.declared, context.environment, &options)?;
    let registries = resolver.registries;
    if registries.is_empty() {
        return Err(no_registry());
    }
    let places = workspace.places(&request.projects, &request.targets)?;
    let query = Query { words: request.words.join(" "), places, page: usize::from(request.page) - 1 };
    let cache = context.environment.registries_folder()?;
    let answers = registries.find(&query, &cache, context.environment.now);
    let (mut report, mut failed) = (Report::of(query), Vec::new());
    for (registry, answer) in answers {
        match answer {
            Ok(found) => report.add(&registry, found),
            Err(error) => failed.push(error),
        }
    }
    if report.answers == 0 {
        report.failure = failed.pop().map(Failure::from);
    }
    report.warnings.extend(failed.iter().map(ToString::to_string).chain(registries.warnings()));
    report.sort();
    Ok(report)
}

impl Report {
    fn of(query: Query) -> Self {
        let (hits, read_as, warnings) = (Vec::new(), Vec::new(), Vec::new());
        Self { query, answers: 0, hits, read_as, has_more: false, is_loose: false, warnings, failure: None }
    }

    fn add(&mut self, registry: &RegistryName, found: Found) {
        self.answers += 1;
        // What one registry has as it was written is better than what another has nearly so.
        let slips = (found.read_as.len(), found.is_loose);
        let slips_before = (self.read_as.len(), self.is_loose);
        if found.hits.is_empty() || !self.hits.is_empty() && slips > slips_before {
            return;
        }
        if self.hits.is_empty() || slips < slips_before {
            self.hits.clear();
            (self.read_as, self.is_loose, self.has_more) = (found.read_as, found.is_loose, false);
        }
        self.has_more |= found.more;
        self.hits.extend(found.hits.into_iter().map(|hit| (registry.clone(), hit)));
    }

    fn sort(&mut self) {
        self.hits.sort_by(|(_, one), (_, other)| one.rank(other));
    }
}
