//! A temporary folder with a registry `seedhouse` and a project in `gate`.

use std::fs;
use std::path::{Path, PathBuf};

use bibliotax_app::context::Context;
use bibliotax_app::environment::Environment;
use bibliotax_app::registry::create;
use bibliotax_app::registry::load::{Input, Request, load};
use bibliotax_core::progress::NoProgress;

/// The project of each test, but for its needs.
pub const PROJECT: &str = "[project]\nname = \"gate-kiosk\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n\n\
    [registries]\nseedhouse = \"../seedhouse\"\n\n[needs]\n";

pub struct Garden {
    folder: tempfile::TempDir,
    environment: Environment,
}

impl Garden {
    /// A garden with releases such as `rain-ledger 2.4.0: dew-point 1`, whose project declares these needs.
    pub fn new(releases: &[&str], needs: &str) -> Self {
        let folder = tempfile::Builder::new().prefix("garden").tempdir().unwrap();
        let environment = Environment {
            store: Some(folder.path().join("store")),
            now: "2026-06-01T09:00:00Z".parse().unwrap(),
            ..Environment::default()
        };
        let garden = Self { folder, environment };
        garden.write("gate/bibliotax.toml", &format!("{PROJECT}{needs}\n"));
        let request = create::Request { place: "../seedhouse".to_owned(), ..create::Request::default() };
        let context = garden.context();
        create::plan(&request, &context).unwrap().apply(&context).unwrap();
        garden.publish(releases);
        garden
    }

    /// Loads more releases, each with one file.
    pub fn publish(&self, releases: &[&str]) {
        let cards: Vec<String> = releases.iter().map(|release| self.card(release)).collect();
        self.write("cards.jsonl", &cards.join("\n"));
        let cards = Input { path: PathBuf::from("../cards.jsonl"), beside: None };
        load("../seedhouse", &[cards], &Request::default(), &self.context()).unwrap();
    }

    fn card(&self, release: &str) -> String {
        let (title, needs) = release.split_once(": ").unwrap_or((release, ""));
        let (name, version) = title.split_once(' ').unwrap();
        let needs: Vec<_> = needs.split(", ").filter_map(|need| need.split_once(' ')).collect();
        let needs: Vec<_> =
            needs.iter().map(|(name, range)| serde_json::json!({ "name": name, "range": range })).collect();
        let archive = format!("archives/{name}-{version}.tar");
        self.write_tar(&archive, name, version);
        let card = serde_json::json!({ "name": name, "version": version, "published": "2026-03-01T09:00:00Z",
            "license": "MIT", "needs": needs, "files": [{ "path": archive }] });
        card.to_string()
    }

    fn write_tar(&self, path: &str, name: &str, version: &str) {
        let mut header = tar::Header::new_gnu();
        header.set_size(version.len() as u64);
        header.set_mode(0o644);
        let mut archive = tar::Builder::new(Vec::new());
        archive.append_data(&mut header, format!("{name}.txt"), version.as_bytes()).unwrap();
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, archive.into_inner().unwrap()).unwrap();
    }

    pub fn path(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    pub fn write(&self, path: &str, text: &str) {
        let path = self.path(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub fn read(&self, path: &str) -> String {
        fs::read_to_string(self.path(path)).unwrap()
    }

    /// What use cases run with, in the project's folder.
    pub fn context(&self) -> Context<'_> {
        let folder: &Path = Box::leak(self.path("gate").into_boxed_path());
        Context { environment: &self.environment, folder, listener: &NoProgress }
    }

    /// The versions on the shelf, by package.
    pub fn shelf(&self) -> Vec<String> {
        let entries = fs::read_dir(self.path("gate/shelf")).into_iter().flatten().flatten();
        let version = |entry: fs::DirEntry| {
            let name = entry.file_name().into_string().unwrap();
            let file = entry.path().join(format!("{name}.txt"));
            fs::read_to_string(file).ok().map(|version| format!("{name} {version}"))
        };
        let mut found: Vec<String> = entries.filter_map(version).collect();
        found.sort();
        found
    }
}
