//! `registry create`: an empty registry in a folder, a bucket or a container registry.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::facet::Facet;
use bibliotax_core::history::without_place;
use bibliotax_core::name::{FacetName, RegistryName, nearest_package_name};
use bibliotax_disk::read::read_text;
use bibliotax_registry::client::oci::{self, Oci};
use bibliotax_registry::storage::bucket;
use bibliotax_registry::storage::folder::Folder;

use crate::context::Context;
use crate::failure::Failure;
use crate::registry_storage;

/// Largest file of facets that is read, in bytes.
const MAX_FACETS_SIZE: usize = 1 << 20;

/// What is made.
#[derive(Debug, Clone, Default)]
pub struct Request {
    /// The folder, `s3://BUCKET/PREFIX`, or `oci://HOST/PREFIX`.
    pub place: String,
    /// The registry's name; the folder's where it isn't said.
    pub name: Option<String>,
    /// A JSON file with the facets that its cards speak of.
    pub facets: Option<PathBuf>,
    /// Whether a registry of containers is asked without encryption.
    pub is_plain: bool,
}

/// A registry, not yet made.
pub struct Plan<'r> {
    request: &'r Request,
    /// Its name.
    pub name: RegistryName,
    facets: BTreeMap<FacetName, Facet>,
}

/// What a registry that was made is good for.
pub enum Made {
    /// Manifests name it by this value under `[registries]`.
    Named(String),
    /// It has to be served first.
    ToServe,
}

/// Works out what would be made.
pub fn plan<'r>(request: &'r Request, context: &Context<'_>) -> Result<Plan<'r>, Failure> {
    let facets = request.facets.as_ref().map(|file| read_facets(&context.folder.join(file))).transpose()?;
    let name = name(request, context.folder)?;
    Ok(Plan { request, name, facets: facets.unwrap_or_default() })
}

fn name(request: &Request, here: &Path) -> Result<RegistryName, Failure> {
    if let Some(name) = &request.name {
        return name.parse().map_err(|fault| Failure::in_words("--name", name, fault));
    }
    let place = here.join(&request.place);
    let nearest = nearest_package_name(&place.file_name().unwrap_or_default().to_string_lossy());
    Failure::read_word(nearest.as_ref().map_or("registry", |name| name.as_str()))
}

impl Plan<'_> {
    /// Fails where it can't be made.
    pub fn check(&self, context: &Context<'_>) -> Result<(), Failure> {
        let place = &self.request.place;
        let is_folder = [bucket::SCHEME, oci::SCHEME].iter().all(|scheme| !place.starts_with(scheme));
        if is_folder {
            Folder::can_be_created(&context.folder.join(place))?;
        }
        Ok(())
    }

    /// Makes it.
    pub fn apply(self, context: &Context<'_>) -> Result<Made, Failure> {
        let (place, is_plain) = (&self.request.place, self.request.is_plain);
        if place.starts_with(oci::SCHEME) {
            Oci::create(&self.name, place, is_plain, self.facets, &context.environment.network())?;
            return Ok(Made::Named(if is_plain {
                format!("{{ url = \"{place}\", plain = true }}")
            } else {
                format!("\"{place}\"")
            }));
        }
        registry_storage::create(place, context, self.name.as_str(), self.facets)?;
        if place.starts_with(bucket::SCHEME) {
            return Ok(Made::ToServe);
        }
        Ok(Made::Named(format!("\"{}\"", context.folder.join(place).display())))
    }
}

fn read_facets(file: &Path) -> Result<BTreeMap<FacetName, Facet>, Failure> {
    let text = read_text(file, MAX_FACETS_SIZE)?.unwrap_or_default();
    let wrong = |what: String| {
        Failure::new("facet.file", format!("{} {what}", file.display()))
            .advice(r#"write it like {"orchard-runtime": {"kind": "ladder", "levels": ["1", "2"]}}"#)
    };
    let facets: BTreeMap<FacetName, Facet> = serde_json::from_str(&text)
        .map_err(|error| wrong(format!("defines no facets: {}", without_place(&error))))?;
    for (name, facet) in &facets {
        facet
            .check()
            .map_err(|problem| wrong(format!("has an invalid definition of `{name}`: {problem}")))?;
    }
    Ok(facets)
}
