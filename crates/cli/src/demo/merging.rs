//! Two people change the workspace on two branches, and git merges.

use std::process::{Command, Stdio};

use bibliotax_app::failure::Failure;
use bibliotax_disk::error::At;
use bibliotax_disk::write::write_whole;

use super::teller::{Teller, words};
use super::world::TOGETHER;

/// What a repository of the workspace leaves out.
const IGNORED: &str = "shelf\nlinks\nbuild\nbefore\n*.svg\n";

impl Teller<'_> {
    /// Two branches that both need something new become one.
    pub fn merge_branches(&self) -> Result<(), Failure> {
        self.heading("Merge two branches");
        if !self.world.has_repository {
            self.text("There is no git on this machine, so nothing is merged.");
            return Ok(());
        }
        self.text("One command makes git merge manifests and locks by their meaning.");
        write_whole(&self.path(TOGETHER).join(".gitignore"), IGNORED.as_bytes())?;
        self.git(&["init", "--quiet", "--initial-branch=main"], false)?;
        self.run(TOGETHER, &["merge", "--set-up"], 0)?;
        self.save("the workspace")?;
        self.text("One person fills the pond on a branch, another one follows the sun.");
        self.git(&["switch", "--quiet", "--create", "pond"], true)?;
        self.run(TOGETHER, &["need", "pond-level", "--in", "gate-kiosk", "--quiet"], 0)?;
        self.save("fill the pond")?;
        self.git(&["switch", "--quiet", "main"], true)?;
        self.run(TOGETHER, &["need", "sun-arc", "--in", "gate-kiosk", "--quiet"], 0)?;
        self.save("follow the sun")?;
        self.text("Both changed the same lines of the manifest and of the lock. Nobody has to mend them.");
        self.git(&["merge", "--no-edit", "pond"], true)?;
        self.run(TOGETHER, &["install", "--sealed"], 0)?;
        self.run(TOGETHER, &["compare", "HEAD~1"], 0)
    }

    fn save(&self, message: &str) -> Result<(), Failure> {
        self.git(&["add", "--all"], false)?;
        self.git(&["commit", "--quiet", "--message", message], true)
    }

    /// Runs git in the workspace as a person of the garden, without this machine's git settings.
    fn git(&self, args: &[&str], is_shown: bool) -> Result<(), Failure> {
        if is_shown {
            self.shell(&format!("git {}", words(args)));
        }
        let mut command = Command::new("git");
        command.args(["-c", "user.name=leaf", "-c", "user.email=leaf@fernhollow.example"]).args(args);
        command.current_dir(self.path(TOGETHER)).env("BIBLIOTAX_STORE", self.world.store());
        command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1").env_remove("GIT_DIR");
        if self.ui.is_json() || self.ui.is_quiet() || self.is_silent.get() || !is_shown {
            command.stdout(Stdio::null()).stderr(Stdio::null());
        }
        let status = command.stdin(Stdio::null()).status().at("run", "git")?;
        if status.success() {
            return Ok(());
        }
        Err(self.defect(&format!("`git {}` ended with {status}", words(args))))
    }
}
