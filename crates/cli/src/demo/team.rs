//! The second half of the demo: the projects in one workspace.

use bibliotax_disk::write::write_whole;

use super::teller::{Teller, words};
use super::world::{CORE, GATE, HAND, TOGETHER};
use bibliotax_app::failure::Failure;

pub const KIOSK: &str = "together/gate-kiosk";
pub const UNIT: &str = "together/hand-unit";

impl Teller<'_> {
    /// Three projects become projects of one workspace.
    pub fn work_together(&self) -> Result<(), Failure> {
        self.heading("Several projects share one lock");
        self.text("Copies of the three projects are put into one folder, without their locks.");
        let core = "together/valve-core";
        self.copy(GATE, KIOSK, &["bibliotax.toml", "Makefile", "src/kiosk.c"])?;
        self.copy(HAND, UNIT, &["bibliotax.toml"])?;
        self.copy(HAND, TOGETHER, &["bibliotax.steps/soil-probe+calibrate+hand-3"])?;
        self.copy(CORE, core, &["bibliotax.toml", "src/valve_core.c", "include/valve_core.h"])?;
        self.copy(GATE, TOGETHER, &["links/packages.mk"])?;
        let registries = self.served.each().map(|(name, url)| format!("{name}={url}"));
        self.run(
            TOGETHER,
            &["init", "--workspace", "--registry", &registries[0], "--registry", &registries[1]],
            0,
        )?;
        self.text("The workspace declares the registries once. One project is still being developed, so another uses it from its folder.");
        [KIOSK, UNIT, core].iter().try_for_each(|project| self.leave_registries_to_the_root(project))?;
        self.replace_in(KIOSK, "Makefile", "ROOT = .", "ROOT = ..")?;
        self.run(UNIT, &["need", "fernhollow/valve-core", "--path", "../valve-core"], 0)?;
        self.text("Two projects need the same package with different ranges. They can share one range.");
        self.run(UNIT, &["need", "rain-ledger", "2.4 .. 3"], 0)?;
        self.run(TOGETHER, &["check", "--unify"], 0)?;
        self.copy(TOGETHER, "together/before", &["bibliotax.lock"])?;
        if self.world.has_build_tools {
            self.run(KIOSK, &["task", "show"], 0)?;
        }
        Ok(())
    }

    /// Packages from a git repository and an archive.
    pub fn take_from_elsewhere(&self) -> Result<(), Failure> {
        self.heading("Packages from git and archives");
        if self.world.has_repository {
            self.text("A newer palette is in a git repository, whose tags are releases.");
            self.run(KIOSK, &["need", "leaf-palette", "--git", "../../sources/leaf-palette"], 0)?;
            self.text("All sources of a package, side by side.");
            self.run(KIOSK, &["describe", "leaf-palette"], 0)?;
        } else {
            self.text("There is no git on this machine, so no repository is used.");
        }
        self.text("A table is only an archive at a URL. Its contents are shown, and its digest is locked.");
        self.run(KIOSK, &["need", "frost-table", "--archive", "../../sources/frost-table-1.2.tar.zst"], 0)?;
        self.text(
            "The card that the archive lacks was begun from its files; people say what these don't tell.",
        );
        let (card, role) = ("cards/frost-table.toml", "include = [\"include\"] # 1 header");
        let license = "# license = \"…\" # an SPDX expression; no licence text was recognised";
        self.replace_in(KIOSK, card, license, "license = \"CC0-1.0\"")?;
        self.replace_in(KIOSK, card, role, &format!("{role}\nassets = [\"data\"]"))?;
        self.run(TOGETHER, &["install"], 0)
    }

    /// The whole of what is locked, and what changed.
    pub fn look_at_the_whole(&self) -> Result<(), Failure> {
        self.heading("Show the graph");
        self.run(TOGETHER, &["graph"], 0)?;
        let picture = ["graph", "--format", "svg"];
        self.shell(&format!("bibliotax {} > garden.svg", words(&picture)));
        let path = self.path(TOGETHER).join("garden.svg");
        write_whole(&path, self.said(TOGETHER, &picture)?.as_bytes())?;
        self.run(TOGETHER, &["newer", "--in", "gate-kiosk"], 0)?;
        self.run(UNIT, &["need", "rain-ledger", "2.6 .. 3", "--in", "gate-kiosk,hand-unit", "--shared"], 0)?;
        self.text("What changed since the projects were put together, for a review.");
        self.run(TOGETHER, &["compare", "before/bibliotax.lock", "bibliotax.lock"], 0)
    }

    /// Takes the registries out of a project's manifest, as somebody would in an editor.
    fn leave_registries_to_the_root(&self, project: &str) -> Result<(), Failure> {
        self.edit(project, "bibliotax.toml", |text| {
            let Some(start) = text.find("[registries]") else { return Ok(text) };
            let end = text[start..].find("\n\n").map_or(text.len(), |end| start + end + 2);
            Ok(text[..start].to_owned() + &text[end..])
        })
    }
}
