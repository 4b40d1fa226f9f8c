//! Packages by what somebody has typed so far: the registries are opened once for all that is typed.

use bibliotax_core::license::License;
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Catalogue;
use bibliotax_core::version::Version;
use bibliotax_registry::catalogue::registries::Registries;
use bibliotax_registry::search::{FitWord, Hit, Query};

use crate::context::Context;
use crate::environment::Environment;
use crate::failure::Failure;
use crate::lookup;
use crate::resolving::{Resolver, no_registry};
use crate::search_options::SearchOptions;
use crate::workspace::ProjectWords;

/// Most packages that are found at once.
const MAX_FOUND: usize = 12;

/// Finds packages while somebody types.
pub struct Finder {
    registries: Registries,
    query: Query,
    environment: Environment,
}

/// A package that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundPackage {
    /// The package.
    pub name: PackageName,
    /// The newest release that fits; the newest, where none does.
    pub version: Option<Version>,
    /// Its licence.
    pub license: Option<License>,
    /// What it says of itself in a line.
    pub summary: Option<String>,
    /// Whether it works on all targets; `None` where it doesn't say so.
    pub fits: Option<bool>,
}

impl Finder {
    /// What finds packages for projects.
    pub fn open(projects: &ProjectWords, context: &Context<'_>) -> Result<Self, Failure> {
        let workspace = lookup::workspace(&[], context)?;
        let options = SearchOptions::default();
        let resolver = Resolver::open(&workspace, &workspace.declared, context.environment, &options)?;
        if resolver.registries.is_empty() {
            return Err(no_registry());
        }
        let places = workspace.places(projects, &[])?;
        let query = Query { places, ..Query::default() };
        Ok(Self { registries: resolver.registries, query, environment: context.environment.clone() })
    }

    /// The packages that are meant by what is typed so far, the likeliest first. Registries that don't answer have none.
    pub fn find(&self, words: &str) -> Vec<FoundPackage> {
        let Ok(cache) = self.environment.registries_folder() else { return Vec::new() };
        let query = Query { words: words.to_owned(), ..self.query.clone() };
        let answers = self.registries.find(&query, &cache, self.environment.now);
        let mut hits: Vec<Hit> =
            answers.into_iter().filter_map(|(_, found)| found.ok()).flat_map(|found| found.hits).collect();
        hits.sort_by(Hit::rank);
        hits.dedup_by(|later, first| later.name == first.name);
        hits.into_iter().take(MAX_FOUND).map(|hit| self.known(hit)).collect()
    }

    fn known(&self, hit: Hit) -> FoundPackage {
        let version = hit.newest_fitting.or(hit.newest);
        let listing = self.registries.listing(&hit.name).ok().flatten();
        let release = listing
            .zip(version.clone())
            .and_then(|(listing, version)| listing.history.release(&version).cloned());
        let fits = match hit.fits.as_slice() {
            [] => Some(true),
            fits if fits.contains(&FitWord::No) => Some(false),
            fits if fits.iter().all(|fit| *fit == FitWord::Yes) => Some(true),
            _ => None,
        };
        let license = release.and_then(|release| release.entry.license);
        FoundPackage { name: hit.name, version, license, summary: hit.summary, fits }
    }
}
