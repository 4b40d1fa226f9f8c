//! `registry create`: an empty registry, wherever it is to be.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use bibliotax_core::facet::Facet;
use bibliotax_core::history::without_place;
use bibliotax_core::name::{FacetName, RegistryName, nearest_package_name};
use bibliotax_disk::read::read_text;
use bibliotax_registry::client::oci::{self, Oci};
use bibliotax_registry::storage::bucket;
use bibliotax_registry::storage::folder::Folder;
use serde_json::json;

use crate::codes::Exit;
use crate::failure::Failure;
use crate::kept;
use crate::project::network;
use crate::ui::Ui;

/// Largest file of facets that is read, in bytes.
const LARGEST_FACETS: usize = 1 << 20;

/// Make an empty registry in a folder that is new or empty, in a bucket, or in a registry of containers
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry create ../registry --name seedhouse\n  bibliotax registry create oci://containers.seedhouse.example/packages"
)]
pub struct Create {
    /// The folder, `s3://BUCKET/PREFIX`, or `oci://HOST/PREFIX`
    #[arg(value_name = "FOLDER")]
    place: String,
    /// The registry's name; without it, the folder's
    #[arg(long)]
    name: Option<String>,
    /// A JSON file with the facets that its cards speak of, as docs/formats.md shows
    #[arg(long, value_name = "FILE")]
    facets: Option<PathBuf>,
    /// Let a registry of containers be asked without encryption
    #[arg(long)]
    plain: bool,
    /// Check whether it could be made and write nothing
    #[arg(long)]
    dry_run: bool,
}

impl Create {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let facets = self.facets.as_ref().map(|file| read_facets(&here.join(file))).transpose()?;
        let (name, facets) = (self.name(here)?, facets.unwrap_or_default());
        if self.dry_run {
            self.can_be_created(here)?;
            ui.say("nothing was written");
        } else {
            let told = self.create(here, &name, facets)?;
            ui.say(format!("made the registry {name}; {told}"));
        }
        ui.report("registry create", || json!({ "name": name, "dry-run": self.dry_run }));
        Ok(Exit::Done)
    }

    fn name(&self, here: &Path) -> Result<RegistryName, Failure> {
        if let Some(name) = &self.name {
            return name.parse().map_err(|fault| Failure::in_words("--name", name, fault));
        }
        let place = here.join(&self.place);
        let nearest = nearest_package_name(&place.file_name().unwrap_or_default().to_string_lossy());
        Failure::read_word(nearest.as_ref().map_or("registry", |name| name.as_str()))
    }

    fn can_be_created(&self, here: &Path) -> Result<(), Failure> {
        let is_folder = [bucket::SCHEME, oci::SCHEME].iter().all(|scheme| !self.place.starts_with(scheme));
        if is_folder {
            Folder::can_be_created(&here.join(&self.place))?;
        }
        Ok(())
    }

    /// Makes it; what to do with it, for people.
    fn create(
        &self,
        here: &Path,
        name: &RegistryName,
        facets: BTreeMap<FacetName, Facet>,
    ) -> Result<String, Failure> {
        let place = &self.place;
        let declared = |place: &str| format!("\n  [registries]\n  {name} = {place}");
        if place.starts_with(oci::SCHEME) {
            Oci::create(name, place, self.plain, facets, &network())?;
            let url = if self.plain {
                format!("{{ url = \"{place}\", plain = true }}")
            } else {
                format!("\"{place}\"")
            };
            return Ok(format!("a manifest names it by its place:{}", declared(&url)));
        }
        kept::create(place, here, name.as_str(), facets)?;
        if place.starts_with(bucket::SCHEME) {
            return Ok(format!("`bibliotax registry serve --bucket {place}` serves it"));
        }
        let folder = format!("\"{}\"", here.join(place).display());
        Ok(format!("a manifest names it by its folder:{}", declared(&folder)))
    }
}

fn read_facets(file: &Path) -> Result<BTreeMap<FacetName, Facet>, Failure> {
    let text = read_text(file, LARGEST_FACETS)?.unwrap_or_default();
    let wrong = |what: String| {
        Failure::new("facet.file", format!("{} {what}", file.display()))
            .mend(r#"write it like {"orchard-runtime": {"kind": "ladder", "levels": ["1", "2"]}}"#)
    };
    let facets: BTreeMap<FacetName, Facet> = serde_json::from_str(&text)
        .map_err(|error| wrong(format!("defines no facets: {}", without_place(&error))))?;
    for (name, facet) in &facets {
        facet
            .check()
            .map_err(|problem| wrong(format!("defines `{name}` so that it makes no sense: {problem}")))?;
    }
    Ok(facets)
}
