//! The demo's commands, each shown and really run.

use std::fs;
use std::path::Path;

use bibliotax_disk::error::At;
use bibliotax_disk::tree::remove;
use bibliotax_disk::write::make_folder;

use super::served::Served;
use super::teller::{Teller, quoted, words};
use super::world::{CORE, GATE, HAND, TOGETHER, World};
use crate::ui::Ui;
use bibliotax_app::credentials::TOKENS;
use bibliotax_app::failure::Failure;

const VISITOR: &str = "visitor";
const SHED: &str = "shed/hand-unit";
const COLLEAGUE: &str = "colleague/gate-kiosk";

/// Tells the story in a world that was just built.
pub fn tell(ui: &Ui, world: &World) -> Result<(), Failure> {
    let served = Served::start(ui, world)?;
    let teller = Teller { ui, world, served };
    teller.declare()?;
    teller.share()?;
    teller.change()?;
    teller.fit()?;
    teller.build()?;
    teller.do_by_hand()?;
    teller.check()?;
    teller.carry()?;
    teller.supply()?;
    teller.browse()?;
    teller.work_together()?;
    teller.take_from_elsewhere()?;
    teller.look_at_the_whole()?;
    teller.settle()?;
    teller.close();
    Ok(())
}

impl Teller<'_> {
    fn declare(&self) -> Result<(), Failure> {
        self.heading("A project declares what it needs");
        let registries = self.served.each().map(|(name, url)| format!("{name}={url}"));
        self.run(
            GATE,
            &["init", "--name", GATE, "--registry", &registries[0], "--registry", &registries[1]],
            0,
        )?;
        self.show(GATE, "bibliotax.toml", 13)?;
        self.text("What is there? A slip of the finger does no harm.");
        self.run(GATE, &["find", "soil", "sensr"], 0)?;
        self.text(
            "A version that is already in the field, exactly; then whatever is newest and goes with it.",
        );
        self.run(GATE, &["need", "soil-curve", "1.7.0", "--exactly"], 0)?;
        self.run(GATE, &["need", "rain-ledger"], 0)?;
        self.text("Something that only tests need.");
        self.run(GATE, &["need", "probe-sim", "--for", "test"], 0)?;
        self.text("The lock has a line for every package, to be committed beside the manifest.");
        self.show(GATE, "bibliotax.lock", 9)
    }

    fn share(&self) -> Result<(), Failure> {
        self.heading("The shelf can always be made again, here and elsewhere");
        self.shell("rm -r shelf");
        remove(&self.path(GATE).join("shelf"))?;
        self.run(GATE, &["install"], 0)?;
        self.run(GATE, &["install"], 0)?;
        self.text("A colleague gets manifest, lock and the project's own template for links, nothing else.");
        self.copy(GATE, COLLEAGUE, &["bibliotax.toml", "bibliotax.lock", "links/packages.mk"])?;
        self.run(COLLEAGUE, &["install", "--sealed"], 0)?;
        self.compare_shelves(GATE, COLLEAGUE)
    }

    fn change(&self) -> Result<(), Failure> {
        self.heading("Ranges change, by hand or by command");
        self.text("Somebody edits the manifest: rain-ledger = \"2.4 .. 2.6\". The lock follows at the next install.");
        self.replace_in(GATE, "bibliotax.toml", "\"2.6.1 .. 3\"", "\"2.4 .. 2.6\"")?;
        self.run(GATE, &["install"], 0)?;
        self.text("What can't be had is told in sentences, and nothing changes.");
        self.run(GATE, &["need", "moss-map", "3"], 4)?;
        self.text("A dry run shows what another range would bring.");
        self.run(GATE, &["need", "moss-map", "2", "--dry-run"], 0)
    }

    fn fit(&self) -> Result<(), Failure> {
        self.heading("Every target gets what works there");
        self.text("The kiosk says where it runs. From here on its shelf is that target's.");
        let target = "\n[targets.gate-kiosk]\nos = \"linux\"\narch = \"x86_64\"\norchard-runtime = \"5\"\n";
        self.add_lines(GATE, target)?;
        self.run(GATE, &["install"], 0)?;
        self.text("The gardeners' handheld has another chip and a lower level. What suits it is known before it is needed.");
        self.run(HAND, &["fit", "moss-map", "pergola/natives", "soil-curve"], 1)?;
        self.text("So it gets the release that has files for its chip, and all of that family with it.");
        self.run(HAND, &["need", "pergola/natives"], 0)?;
        self.text("A component brings what it needs and files of its own.");
        self.run(HAND, &["need", "valve-proto", "--component", "trace"], 0)?;
        self.text("A level that it can't reach is told with what would help.");
        self.run(HAND, &["need", "moss-map", "3"], 4)
    }

    fn build(&self) -> Result<(), Failure> {
        self.heading("The build tool is told where everything is");
        self.text("A template of the garden's own says it in the words of make; others could say it in those of an editor.");
        self.show(GATE, "links/packages.mk", 9)?;
        self.text("A package's programs are found as well.");
        self.run(GATE, &["with", "--", "probe-sim"], 0)?;
        if !self.world.has_build_tools {
            self.text("There is no make and no C compiler here, so the kiosk's program is not built.");
            return Ok(());
        }
        self.text("The manifest has names for what people do all day. The shelf is made right first.");
        let tasks =
            "\n[tasks]\nbuild = \"make -s\"\nshow = { do = \"./build/kiosk\", after = [\"build\"] }\n";
        self.add_lines(GATE, tasks)?;
        self.run(GATE, &["task"], 0)?;
        self.run(GATE, &["task", "show"], 0)
    }

    fn do_by_hand(&self) -> Result<(), Failure> {
        self.heading("What no install can do is not forgotten");
        self.text("The soil probe has to be calibrated on each handheld. Two of them have names.");
        self.add_lines(HAND, "\n[devices]\nhand-3 = \"hand-unit\"\nhand-7 = \"hand-unit\"\n")?;
        self.run(HAND, &["steps"], 0)?;
        self.run(HAND, &["steps", "done", "calibrate", "--device", "hand-3"], 0)?;
        self.run(HAND, &["steps", "--all"], 0)
    }

    fn carry(&self) -> Result<(), Failure> {
        self.heading("A machine without a network gets the same");
        self.run(HAND, &["kit", "make", "../hand-unit.kit"], 0)?;
        self.text("In the far shed, with an empty store, nothing but the project and that file:");
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
        self.heading("What is installed can be checked");
        self.shell("cd shelf/gate-kiosk; rm soil-curve/src/soil_curve.c; echo extra > soil-curve/notes.txt");
        let package = self.path(GATE).join("shelf/gate-kiosk/soil-curve");
        remove(&package.join("src/soil_curve.c"))?;
        fs::write(package.join("notes.txt"), "extra\n").at("write", &package)?;
        self.run(GATE, &["verify"], 1)?;
        self.run(GATE, &["verify", "--repair"], 0)?;
        self.run(GATE, &["drop", "probe-sim"], 0)
    }

    fn supply(&self) -> Result<(), Failure> {
        self.heading("An author publishes");
        let (author, registry) = (CORE, "../../registries/fernhollow");
        self.run(author, &["publish", "fernhollow", "--dry-run"], 0)?;
        self.text("Whoever publishes needs a token; nobody else can.");
        self.run(author, &["publish", "fernhollow"], 2)?;
        self.text("The registry's keepers make one, and the author keeps it in a variable.");
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
        self.heading("Others come with nothing but the address");
        let [(_, seedhouse), _] = self.served.each();
        self.text(&format!("In a browser it is {seedhouse}. In a new project:"));
        make_folder(&self.path(VISITOR))?;
        let registry = format!("seedhouse={seedhouse}");
        self.run(VISITOR, &["init", "--name", VISITOR, "--registry", &registry], 0)?;
        self.run(VISITOR, &["describe", "rain-ledger"], 0)?;
        self.run(VISITOR, &["need", "rain-ledger", "2"], 0)
    }

    /// Lets the projects name the registries' folders, for the servers end with the story.
    fn settle(&self) -> Result<(), Failure> {
        for project in [GATE, HAND, CORE, COLLEAGUE, VISITOR, SHED, TOGETHER] {
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

    fn close(&self) {
        self.heading("Go on from here");
        let program = std::env::current_exe()
            .map_or_else(|_| "bibliotax".to_owned(), |path| path.display().to_string());
        let lines = [
            format!("export BIBLIOTAX_STORE={}", quoted(&self.world.store())),
            format!("alias bibliotax={}", quoted(Path::new(&program))),
            format!("cd {}", quoted(&self.path(GATE))),
            "bibliotax --help".to_owned(),
        ];
        self.ui.say(
            "The garden stays, and its projects name the registries' folders from now on: the servers end with the story. \
             The next lines bring you into it, without touching your own store:",
        );
        lines.iter().for_each(|line| self.ui.say(format!("  {line}")));
    }
}
