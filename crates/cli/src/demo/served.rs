//! The demo's registries behind servers on loopback, which end with the demo.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};

use bibliotax_disk::error::At;

use super::world::World;
use crate::ui::Ui;
use bibliotax_app::failure::Failure;

/// The servers.
pub struct Served {
    seedhouse: Server,
    fernhollow: Server,
}

impl Served {
    /// Serves both registries, and lets the projects that are there name the servers.
    pub fn start(ui: &Ui, world: &World) -> Result<Self, Failure> {
        let start = |name: &str| Server::start(&world.root.join("registries").join(name));
        let served = Self { seedhouse: start("seedhouse")?, fernhollow: start("fernhollow")? };
        for (name, url) in served.each() {
            ui.say(format!("serving {name} at {url}"));
        }
        let folder = world.root.join("fernhollow");
        for project in fs::read_dir(&folder).at("read", &folder)? {
            let path = project.at("read", &folder)?.path().join("bibliotax.toml");
            let Ok(mut text) = fs::read_to_string(&path) else { continue };
            for (name, url) in served.each() {
                text = text.replace(&format!("../../registries/{name}"), url);
            }
            fs::write(&path, text).at("write", &path)?;
        }
        Ok(served)
    }

    /// The registries' names with where they are served.
    pub fn each(&self) -> [(&'static str, &str); 2] {
        [("seedhouse", &self.seedhouse.url), ("fernhollow", &self.fernhollow.url)]
    }
}

struct Server {
    child: Child,
    url: String,
}

impl Server {
    fn start(registry: &Path) -> Result<Self, Failure> {
        let program = std::env::current_exe().at("find", "the program")?;
        let mut command = Command::new(&program);
        command.args([
            "registry",
            "serve",
            "--quiet",
            "--until-input-ends",
            "--format",
            "json",
            "--listen",
            "127.0.0.1:0",
        ]);
        // The server ends with this pipe, and so with this process, however it ends.
        command.arg(registry).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().at("run", &program)?;
        let mut line = String::new();
        if let Some(said) = child.stdout.take() {
            BufReader::new(said).read_line(&mut line).at("hear", &program)?;
        }
        let said: serde_json::Value = serde_json::from_str(&line).unwrap_or_default();
        let url = said["url"].as_str().unwrap_or_default().to_owned();
        Ok(Self { child, url })
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        // It may have ended by itself; then there is nothing to end.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
