//! The garden states once which versions and rules all of its repositories use.

use bibliotax_app::failure::Failure;
use bibliotax_disk::write::{folder_of, make_folder, write_whole};

use super::story::COLLEAGUE;
use super::team::{KIOSK, UNIT};
use super::teller::Teller;
use super::world::TOGETHER;

/// The folder of the charter.
const SEASON: &str = "season";

/// The manifest of the charter.
const CHARTER: &str = r#"[project]
name = "fernhollow/season"
version = "2026.1.0"
license = "MIT"

[registries]
fernhollow = "../registries/fernhollow"

[charter.ranges]
rain-ledger = "2.4 .. 3"
dew-point = "1.3 .. 1.4"

[charter.rules]
withdrawn = "refuse"
"#;

impl Teller<'_> {
    /// A charter is tried in two workspaces, published, and followed.
    pub fn follow_a_charter(&self) -> Result<(), Failure> {
        self.heading("One set for many repositories");
        self.text("A charter states versions and rules for all repositories of the garden. It is a project like any other.");
        let place = self.path(SEASON).join("bibliotax.toml");
        make_folder(folder_of(&place))?;
        write_whole(&place, CHARTER.as_bytes())?;
        self.show(SEASON, "bibliotax.toml", 14)?;
        self.text("Before anybody has it, it is tried in the workspaces that are to follow it.");
        let followers = [format!("../{TOGETHER}"), format!("../{COLLEAGUE}")];
        self.run(SEASON, &["publish", "--dry-run", "--used-by", &followers[0], &followers[1]], 0)?;
        self.run(SEASON, &["publish"], 0)?;
        self.text("A workspace follows it with `need`; the lock has the release that binds it.");
        self.run(TOGETHER, &["need", "fernhollow/season"], 0)?;
        self.run(TOGETHER, &["explain", "fernhollow/season"], 0)?;
        self.run(TOGETHER, &["check"], 0)?;
        self.text("Projects use the charter's range in place of their own.");
        for project in [KIOSK, UNIT] {
            self.replace_in(project, "bibliotax.toml", "\"shared\"", "\"charter\"")?;
        }
        self.run(TOGETHER, &["install"], 0)?;
        self.run(TOGETHER, &["check"], 0)?;
        self.text("Who follows it, and who uses what it doesn't allow?");
        let colleague = format!("../{COLLEAGUE}");
        self.run(TOGETHER, &["survey", ".", &colleague, "--charter", "fernhollow/season", "--outside"], 0)
    }
}
