//! The rules of the garden: licences, advisories, waivers.

use bibliotax_app::failure::Failure;

use super::teller::Teller;
use super::world::TOGETHER;

const RULES: &str = r#"
[rules]
licenses = { accept = ["MIT", "0BSD", "Apache-2.0", "EUPL-1.2", "CC-BY-4.0", "CC0-1.0"], ask = ["MPL-2.0"], refuse = ["AGPL-3.0-only"] }
advisories = { feeds = ["../fernhollow/advisories"], refuse = "high" }

[[rules.waivers]]
rule = "advisories"
package = "bark-log"
advisory = "FERN-2026-0002"
status = "not_affected"
justification = "vulnerable_code_not_in_execute_path"
reason = "the garden's programs write no log to the disk"
until = 2099-12-31
"#;

impl Teller<'_> {
    /// The team writes down what it allows, and holds the lock against it.
    pub fn keep_healthy(&self) -> Result<(), Failure> {
        self.heading("Keep the set healthy");
        self.text("The team writes down which licences it allows, and where it learns of advisories.");
        self.add_lines(TOGETHER, RULES)?;
        self.run(TOGETHER, &["install"], 0)?;
        self.text("What is locked stays, and everything that the rules say against it is found.");
        self.run(TOGETHER, &["check"], 7)?;
        self.run(TOGETHER, &["check", "--explain", "FERN-2026-0001"], 0)?;
        self.text("An update moves just what the advisory affects.");
        self.run(TOGETHER, &["update", "--advisories"], 0)?;
        self.text("A person accepts a licence once, for the whole team.");
        self.run(TOGETHER, &["accept", "--all"], 0)?;
        self.text("A release with a licence that the rules refuse isn't chosen.");
        self.run(TOGETHER, &["need", "pollen-count", "--in", "gate-kiosk"], 0)?;
        self.run(TOGETHER, &["check"], 0)?;
        self.run(TOGETHER, &["install", "--sealed"], 0)?;
        self.text("A customer gets a bill of materials, with what the team says of advisories.");
        let bill = "gate-kiosk.cdx.json";
        self.run(TOGETHER, &["export", "cyclonedx-vex", "--in", "gate-kiosk", "--output", bill], 0)?;
        self.run(TOGETHER, &["check", "--bill", bill, "--in", "gate-kiosk"], 0)?;
        self.text("One page shows it all.");
        self.run(TOGETHER, &["report"], 0)
    }
}
