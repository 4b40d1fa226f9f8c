//! The short story: declare, see what came, a conflict and its way out, the same for a colleague, verify.

use std::fs;

use bibliotax_app::failure::Failure;
use bibliotax_disk::error::At;
use bibliotax_disk::tree::remove;

use super::story::COLLEAGUE;
use super::teller::Teller;
use super::world::GATE;

impl Teller<'_> {
    /// Tells the short story.
    pub fn short(&self) -> Result<(), Failure> {
        self.heading("Declare what a project needs");
        let registries = self.served.each().map(|(name, url)| format!("{name}={url}"));
        self.run(
            GATE,
            &["init", "--name", "gate-kiosk", "--registry", &registries[0], "--registry", &registries[1]],
            0,
        )?;
        self.text("Typing mistakes in searches are corrected.");
        self.run(GATE, &["find", "soil", "sensr"], 0)?;
        self.run(GATE, &["need", "rain-ledger", "2", "soil-curve", "1.7"], 0)?;
        self.text("What was declared, and what came with it:");
        self.run(GATE, &["graph"], 0)?;
        self.run(GATE, &["explain", "dew-point"], 0)?;

        self.heading("A conflict, and the way out");
        self.text("The error explains the conflict. Each command that it lists was tried and works.");
        self.run(GATE, &["need", "moss-map", "3"], 4)?;
        self.run(GATE, &["need", "moss-map", "2.3 .. 3"], 0)?;

        self.heading("The same for a colleague");
        self.text("A colleague gets only the manifest, the lock and the project's template for links.");
        self.copy(GATE, COLLEAGUE, &["bibliotax.toml", "bibliotax.lock", "links/packages.mk"])?;
        self.run(COLLEAGUE, &["install", "--sealed"], 0)?;
        self.compare_shelves(GATE, COLLEAGUE)?;

        self.heading("Verify what is installed");
        self.shell("cd shelf; rm soil-curve/src/soil_curve.c; echo extra > soil-curve/notes.txt");
        let package = self.path(GATE).join("shelf/soil-curve");
        remove(&package.join("src/soil_curve.c"))?;
        fs::write(package.join("notes.txt"), "extra\n").at("write", &package)?;
        self.run(GATE, &["verify"], 1)?;
        self.run(GATE, &["verify", "--repair"], 0)
    }
}
