//! The demo's commands, each shown and really run.

use std::cell::Cell;
use std::fs;
use std::path::Path;

use bibliotax_disk::error::At;
use bibliotax_disk::tree::remove;
use bibliotax_disk::write::make_folder;
use clap::ValueEnum;

use super::served::Served;
use super::teller::{Teller, quoted, words};
use super::world::{CORE, GATE, HAND, TOGETHER, World};
use crate::ui::Ui;
use bibliotax_app::credentials::TOKENS;
use bibliotax_app::failure::Failure;

const VISITOR: &str = "visitor";
const SHED: &str = "shed/hand-unit";
pub const COLLEAGUE: &str = "colleague/gate-kiosk";

/// A chapter of the whole story; each goes on with what those before it made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Chapter {
    /// Declare, find and lock packages
    Declare,
    /// Install the same for a colleague
    Share,
    /// Change ranges, and get out of a conflict
    Change,
    /// Install what works on each target
    Targets,
    /// Tell the build tool where everything is
    Build,
    /// Steps to do by hand
    Steps,
    /// Verify what is installed
    Verify,
    /// Install without a network
    Kit,
    /// Publish a release
    Publish,
    /// Use a registry over HTTP
    Browse,
    /// Several projects share one lock
    Workspace,
    /// Packages from git and archives
    Sources,
    /// Show the graph and what changed
    Graph,
    /// Merge two branches
    Merge,
    /// Licences, advisories and waivers: keep the set healthy
    Rules,
    /// One set of versions and rules for many repositories
    Charter,
}

/// What the demo shows.
#[derive(Debug, Clone, Copy)]
pub enum Story {
    /// The short story.
    Short,
    /// One chapter of the whole one.
    Chapter(Chapter),
    /// The whole one.
    All,
}

/// Tells a story in a world that was just built.
pub fn tell(story: Story, ui: &Ui, world: &World) -> Result<(), Failure> {
    let served = Served::start(ui, world)?;
    let teller = Teller { ui, world, served, is_silent: Cell::new(false) };
    match story {
        Story::Short => teller.short()?,
        Story::Chapter(last) => {
            for chapter in Chapter::value_variants() {
                teller.is_silent.set(*chapter != last);
                teller.chapter(*chapter)?;
                if *chapter == last {
                    break;
                }
            }
        }
        Story::All => Chapter::value_variants().iter().try_for_each(|chapter| teller.chapter(*chapter))?,
    }
    teller.settle()?;
    teller.close(story);
    Ok(())
}

impl Teller<'_> {
    fn chapter(&self, chapter: Chapter) -> Result<(), Failure> {
        match chapter {
            Chapter::Declare => self.declare(),
            Chapter::Share => self.share(),
            Chapter::Change => self.change(),
            Chapter::Targets => self.fit(),
            Chapter::Build => self.build(),
            Chapter::Steps => self.do_by_hand(),
            Chapter::Verify => self.check(),
            Chapter::Kit => self.carry(),
            Chapter::Publish => self.supply(),
            Chapter::Browse => self.browse(),
            Chapter::Workspace => self.work_together(),
            Chapter::Sources => self.take_from_elsewhere(),
            Chapter::Graph => self.look_at_the_whole(),
            Chapter::Merge => self.merge_branches(),
            Chapter::Rules => self.keep_healthy(),
            Chapter::Charter => self.follow_a_charter(),
        }
    }

    fn declare(&self) -> Result<(), Failure> {
        self.heading("Declare dependencies");
        let registries = self.served.each().map(|(name, url)| format!("{name}={url}"));
        self.run(
            GATE,
            &["init", "--name", GATE, "--registry", &registries[0], "--registry", &registries[1]],
            0,
        )?;
        self.show(GATE, "bibliotax.toml", 13)?;
        self.text("Search for packages. Typing mistakes are corrected.");
        self.run(GATE, &["find", "soil", "sensr"], 0)?;
        self.text("One package at an exact version, then the newest compatible version of another.");
        self.run(GATE, &["need", "soil-curve", "1.7.0", "--exactly"], 0)?;
        self.run(GATE, &["need", "rain-ledger"], 0)?;
        self.text("A package that only tests need.");
        self.run(GATE, &["need", "probe-sim", "--for", "test"], 0)?;
        self.text("The lock has a line for every package. Commit it with the manifest.");
        self.show(GATE, "bibliotax.lock", 9)
    }

    fn share(&self) -> Result<(), Failure> {
        self.heading("Install the same again, here and elsewhere");
        self.shell("rm -r shelf");
        remove(&self.path(GATE).join("shelf"))?;
        self.run(GATE, &["install"], 0)?;
        self.run(GATE, &["install"], 0)?;
        self.text("A colleague gets only the manifest, the lock and the project's template for links.");
        self.copy(GATE, COLLEAGUE, &["bibliotax.toml", "bibliotax.lock", "links/packages.mk"])?;
        self.run(COLLEAGUE, &["install", "--sealed"], 0)?;
        self.compare_shelves(GATE, COLLEAGUE)
    }

    fn change(&self) -> Result<(), Failure> {
        self.heading("Change version ranges");
        self.text("Somebody edits the manifest by hand. The next install updates the lock.");
        self.replace_in(GATE, "bibliotax.toml", "\"2.6.1 .. 3\"", "\"2.4 .. 2.6\"")?;
        self.run(GATE, &["install"], 0)?;
        self.text("A conflict: the error explains it and lists commands that help. Nothing changes.");
        self.run(GATE, &["need", "moss-map", "3"], 4)?;
        self.text("A dry run shows what another range would change.");
        self.run(GATE, &["need", "moss-map", "2", "--dry-run"], 0)
    }

    fn fit(&self) -> Result<(), Failure> {
        self.heading("Install what works on each target");
        self.text("The kiosk declares its target. From here on, the shelf is for this target.");
        let target = "\n[targets.gate-kiosk]\nos = \"linux\"\narch = \"x86_64\"\norchard-runtime = \"5\"\n";
        self.add_lines(GATE, target)?;
        self.run(GATE, &["install"], 0)?;
        self.text(
            "The gardeners' handheld has another processor and a lower level. `fit` shows what works on it.",
        );
        self.run(HAND, &["fit", "moss-map", "pergola/natives", "soil-curve"], 1)?;
        self.text(
            "It gets the release that has files for its processor, and the same version of the whole family.",
        );
        self.run(HAND, &["need", "pergola/natives"], 0)?;
        self.text("A component adds needs and files.");
        self.run(HAND, &["need", "valve-proto", "--component", "trace"], 0)?;
        self.text("If a level is too low, the error says what would help.");
        self.run(HAND, &["need", "moss-map", "3"], 4)
    }

    fn build(&self) -> Result<(), Failure> {
        self.heading("Tell the build tool where everything is");
        self.text(
            "A template of the project writes the paths for make; another could write them for an editor.",
        );
        self.show(GATE, "links/packages.mk", 9)?;
        self.text("Programs of packages are on the PATH.");
        self.run(GATE, &["with", "--", "probe-sim"], 0)?;
        if !self.world.has_build_tools {
            self.text("There is no make or C compiler on this machine, so the kiosk's program isn't built.");
            return Ok(());
        }
        self.text("Tasks are commands with names in the manifest. The shelf is brought up to date first.");
        let tasks =
            "\n[tasks]\nbuild = \"make -s\"\nshow = { do = \"./build/kiosk\", after = [\"build\"] }\n";
        self.add_lines(GATE, tasks)?;
        self.run(GATE, &["task"], 0)?;
        self.run(GATE, &["task", "show"], 0)
    }

    fn do_by_hand(&self) -> Result<(), Failure> {
        self.heading("Steps to do by hand");
        self.text(
            "The soil probe must be calibrated on each handheld. Two handhelds are declared as devices.",
        );
        self.add_lines(HAND, "\n[devices]\nhand-3 = \"hand-unit\"\nhand-7 = \"hand-unit\"\n")?;
        self.run(HAND, &["steps"], 0)?;
        self.run(HAND, &["steps", "done", "calibrate", "--device", "hand-3"], 0)?;
        self.run(HAND, &["steps", "--all"], 0)
    }

    fn carry(&self) -> Result<(), Failure> {
        self.heading("Install on a machine without a network");
        self.run(HAND, &["kit", "make", "../hand-unit.kit"], 0)?;
        self.text("In the shed, with an empty store, there are only the project and that file:");
        self.copy(
            HAND,
            SHED,
            &["bibliotax.toml", "bibliotax.lock", "bibliotax.steps/soil-probe+calibrate+hand-3"],
        )?;
        let store = self.world.root.join("shed/store");
        let variables = [("BIBLIOTAX_STORE", store.as_os_str())];
        self.run_with(SHED, &["kit", "open", "../../fernhollow/hand-unit.kit"], &variables, 0)?;
        self.run_with(SHED, &["install", "--offline"], &variables, 0)
    }

    fn check(&self) -> Result<(), Failure> {
        self.heading("Verify what is installed");
        self.shell("cd shelf/gate-kiosk; rm soil-curve/src/soil_curve.c; echo extra > soil-curve/notes.txt");
        let package = self.path(GATE).join("shelf/gate-kiosk/soil-curve");
        remove(&package.join("src/soil_curve.c"))?;
        fs::write(package.join("notes.txt"), "extra\n").at("write", &package)?;
        self.run(GATE, &["verify"], 1)?;
        self.run(GATE, &["verify", "--repair"], 0)?;
        self.run(GATE, &["drop", "probe-sim"], 0)
    }

    fn supply(&self) -> Result<(), Failure> {
        self.heading("Publish a release");
        let (author, registry) = (CORE, "../../registries/fernhollow");
        self.run(author, &["publish", "fernhollow", "--dry-run"], 0)?;
        self.text("Publishing needs a token.");
        self.run(author, &["publish", "fernhollow"], 2)?;
        self.text("The registry's maintainer issues one, and the author sets a variable.");
        let wish = ["registry", "token", "issue", registry, "the author", "--only", "fernhollow/*"];
        let [_, (_, fernhollow)] = self.served.each();
        self.shell(&format!("export {TOKENS}=\"{fernhollow} $(bibliotax {} --quiet)\"", words(&wish)));
        let token = self.said(author, &[&wish[..], &["--quiet"]].concat())?;
        self.run_with(
            author,
            &["publish", "fernhollow"],
            &[(TOKENS, format!("{fernhollow} {token}").as_ref())],
            0,
        )
    }

    fn browse(&self) -> Result<(), Failure> {
        self.heading("Use a registry over HTTP");
        let [(_, seedhouse), _] = self.served.each();
        self.text(&format!("In a browser, open {seedhouse}. In a new project:"));
        make_folder(&self.path(VISITOR))?;
        let registry = format!("seedhouse={seedhouse}");
        self.run(VISITOR, &["init", "--name", VISITOR, "--registry", &registry], 0)?;
        self.run(VISITOR, &["describe", "rain-ledger"], 0)?;
        self.run(VISITOR, &["need", "rain-ledger", "2"], 0)
    }

    /// Lets the projects name the registries' folders, for the servers end with the story.
    fn settle(&self) -> Result<(), Failure> {
        self.is_silent.set(true);
        for project in [GATE, HAND, CORE, COLLEAGUE, VISITOR, SHED, TOGETHER] {
            if !self.path(project).join("bibliotax.toml").exists() {
                continue;
            }
            let folder = if project.contains('/') { "../../registries" } else { "../registries" };
            self.edit(project, "bibliotax.toml", |mut text| {
                for (name, url) in self.served.each() {
                    text = text.replace(url, &format!("{folder}/{name}"));
                }
                Ok(text)
            })?;
            if self.path(project).join("bibliotax.lock").exists() {
                self.said(project, &["resolve", "--quiet"])?;
            }
        }
        Ok(())
    }

    fn close(&self, story: Story) {
        self.is_silent.set(false);
        if let Story::Short = story {
            self.heading("More chapters");
            let row = |chapter: &Chapter| {
                let value = chapter.to_possible_value()?;
                let about = value.get_help().map(ToString::to_string).unwrap_or_default();
                Some(vec![format!(" bibliotax demo --chapter {}", value.get_name()), about])
            };
            self.ui.say(self.ui.table(Chapter::value_variants().iter().filter_map(row)));
        }
        self.heading("Continue from here");
        let program = std::env::current_exe()
            .map_or_else(|_| "bibliotax".to_owned(), |path| path.display().to_string());
        let lines = [
            format!("export BIBLIOTAX_STORE={}", quoted(&self.world.store())),
            format!("alias bibliotax={}", quoted(Path::new(&program))),
            format!("cd {}", quoted(&self.path(GATE))),
            "bibliotax --help".to_owned(),
        ];
        self.ui.say(
            "The demo's folder is kept. Its servers end now, so the projects refer to the registries' folders. These lines take you there, without touching your own store:",
        );
        lines.iter().for_each(|line| self.ui.say(format!("  {line}")));
    }
}
