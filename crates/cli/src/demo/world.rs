//! Creates Fernhollow from the data in the program: projects, and registries filled by publishing.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bibliotax_core::card::CardNeed;
use bibliotax_core::facet::Facet;
use bibliotax_core::manifest::{FILE_NAME, Manifest};
use bibliotax_core::name::FacetName;
use bibliotax_disk::error::At;
use bibliotax_disk::write::make_folder;
use bibliotax_present::words::count;
use bibliotax_registry::model::storage::RegistryStorage;
use bibliotax_registry::publish::load::{LoadOptions, load};
use bibliotax_registry::publish::pack::prepare;
use bibliotax_registry::storage::folder::Folder;
use include_dir::{Dir, include_dir};
use jiff::Timestamp;

use super::sources;
use crate::run::Run;
use bibliotax_app::failure::Failure;
use bibliotax_app::installed_programs;

/// The folders of the projects, from the demo's.
pub const GATE: &str = "fernhollow/gate-kiosk";
pub const HAND: &str = "fernhollow/hand-unit";
pub const CORE: &str = "fernhollow/valve-core";
/// The workspace.
pub const TOGETHER: &str = "together";

static DATA: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

/// The folders of the demo.
pub struct World {
    pub root: PathBuf,
    /// Whether there is a git repository among the sources, for which git is wanted.
    pub has_repository: bool,
    /// Whether the projects can be built here.
    pub has_build_tools: bool,
}

impl World {
    /// Where the demo keeps its packages, apart from the person's own store.
    pub fn store(&self) -> PathBuf {
        self.root.join("store")
    }
}

/// Writes the projects and builds the registries in `root`.
pub fn build(run: &Run<'_>, root: &Path) -> Result<World, Failure> {
    let scratch = tempfile::tempdir().at("write in", std::env::temp_dir())?;
    let data = scratch.path();
    write_out(&DATA, DATA.path(), data)?;
    let projects = DATA.get_dir("fernhollow").map_or_else(|| Err(incomplete("fernhollow")), Ok)?;
    write_out(projects, DATA.path(), root)?;
    let facets = DATA.get_file("facets.json").and_then(include_dir::File::contents_utf8).unwrap_or_default();
    let facets: BTreeMap<FacetName, Facet> =
        serde_json::from_str(facets).map_err(|_| incomplete("facets.json"))?;
    let [seedhouse, fernhollow] = ["seedhouse", "fernhollow"]
        .map(|name| Folder::create(&root.join("registries").join(name), name, facets.clone()));
    let registries: [Arc<dyn RegistryStorage>; 2] = [Arc::new(seedhouse?), Arc::new(fernhollow?)];
    let releases = publish_all(&registries, data)?;
    for file in ["events.jsonl", "more-cards.jsonl"] {
        load(&*registries[0], &data.join(file), None, run.environment.now, false, &LoadOptions::default())?;
    }
    run.ui.say(format!("published {} into two registries", count(releases, "release")));
    let has = |program: &str| has_program(program, run);
    let (has_repository, has_build_tools) = (has("git"), has("make") && has("cc"));
    sources::make(data, &root.join("sources"), has_repository)?;
    Ok(World { root: root.to_owned(), has_repository, has_build_tools })
}

/// Whether a program is on this machine.
fn has_program(program: &str, run: &Run<'_>) -> bool {
    let folders = &run.environment.program_folders;
    program.parse().is_ok_and(|tool| installed_programs::find(&tool, folders).is_some())
}

/// Publishes every release in the order of `releases.txt`, whose lines hold date, registry and folder.
fn publish_all(registries: &[Arc<dyn RegistryStorage>], sources: &Path) -> Result<usize, Failure> {
    let list = DATA.get_file("releases.txt").and_then(include_dir::File::contents_utf8);
    let list = list.ok_or_else(|| incomplete("releases.txt"))?;
    let mut published = 0;
    for line in list.lines().filter(|line| !line.starts_with('#')) {
        let [date, registry, folder] = line.split(' ').collect::<Vec<_>>()[..] else {
            return Err(incomplete(line));
        };
        let registry =
            registries.iter().find(|known| known.name() == registry).ok_or_else(|| incomplete(line))?;
        let at: Timestamp = format!("{date}T09:00:00Z").parse().map_err(|_| incomplete(line))?;
        publish(registry, &sources.join(folder), at)?;
        published += 1;
    }
    Ok(published)
}

fn publish(registry: &Arc<dyn RegistryStorage>, folder: &Path, at: Timestamp) -> Result<(), Failure> {
    let path = folder.join(FILE_NAME);
    let text = fs::read_to_string(&path).at("read", &path)?;
    let manifest = Manifest::read(&text).map_err(|faults| Failure::in_text(&path, &text, faults))?;
    let project = manifest.project.as_ref().ok_or_else(|| incomplete(FILE_NAME))?;
    let needs = manifest.needs.iter().map(CardNeed::from).collect();
    prepare(&manifest, project, needs, folder, at)?.publish(registry)?;
    Ok(())
}

/// Writes embedded files below `target`, their paths taken from `base` on; scripts can be run.
fn write_out(folder: &Dir<'_>, base: &Path, target: &Path) -> Result<(), Failure> {
    for file in folder.files() {
        let path = target.join(file.path().strip_prefix(base).unwrap_or(file.path()));
        if let Some(above) = path.parent() {
            make_folder(above)?;
        }
        fs::write(&path, file.contents()).at("write", &path)?;
        if file.contents().starts_with(b"#!") {
            make_runnable(&path)?;
        }
    }
    folder.dirs().try_for_each(|below| write_out(below, base, target))
}

#[cfg(unix)]
fn make_runnable(path: &Path) -> Result<(), Failure> {
    use std::os::unix::fs::PermissionsExt;
    Ok(fs::set_permissions(path, fs::Permissions::from_mode(0o755)).at("make runnable", path)?)
}

#[cfg(not(unix))]
fn make_runnable(_: &Path) -> Result<(), Failure> {
    Ok(())
}

fn incomplete(what: &str) -> Failure {
    Failure::new("defect", format!("the demo's data is incomplete: {what}"))
}
