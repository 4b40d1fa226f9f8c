//! Workspaces: what projects say together, and what they can't.

use super::*;
use crate::card::Entry;
use crate::history::{History, Release};
use crate::lock::samples::test_charter;
use crate::lock::{Lock, inputs};
use crate::resolve::{Catalogue, Listing as Listed, Problem, resolve};
use std::sync::Arc;

const ROOT: &str = "[workspace]\nfolders = [\"*\"]\n[registries]\nseedhouse = \"../registry\"\n";

fn read(root: &str, projects: &[(&str, &str)]) -> Result<Workspace, Vec<String>> {
    let root = Manifest::read(root).unwrap();
    let project = |(folder, text): &(&str, &str)| {
        let text = format!("[project]\nname = \"{folder}\"\n{text}");
        (
            (*folder).to_owned(),
            Manifest::read_project(&text, &root).unwrap_or_else(|faults| panic!("{faults:?}\n{text}")),
        )
    };
    let projects = projects.iter().map(project).collect();
    let output = |misfits: Vec<Misfit>| {
        misfits
            .iter()
            .map(|misfit| format!("{}: {}: {}", misfit.folder, misfit.fault.code, misfit.fault.message))
            .collect()
    };
    Workspace::join(root.clone(), projects, Vec::new()).map_err(output)
}

#[test]
fn what_projects_say_of_all_is_said_once_or_alike() {
    let both = [
        (
            "hand-unit",
            "[registries]\nseedhouse = \"../../registry\"\n[targets.hand]\nos = \"linux\"\n[families]\npergola = \"3\"\n",
        ),
        ("kiosk", "[targets.hand]\nos = \"linux\"\n[devices]\nhand-1 = \"hand\"\n"),
    ];
    let joined = read(ROOT, &both).unwrap();
    assert_eq!((joined.registries.len(), joined.targets.len(), joined.devices.len()), (1, 1, 1));
    assert_eq!(joined.families.len(), 1);
    for (text, output) in [
        (
            "[registries]\nseedhouse = \"../registry\"\n",
            "kiosk: workspace.differs: the registry `seedhouse` is defined differently elsewhere in the workspace",
        ),
        (
            "[targets.hand]\nos = \"windows\"\n",
            "kiosk: workspace.differs: the target `hand` is defined differently elsewhere in the workspace",
        ),
        (
            "[families]\npergola = \"4\"\n",
            "kiosk: workspace.differs: the range of the family `pergola` is defined differently elsewhere in the workspace",
        ),
    ] {
        assert_eq!(read(ROOT, &[both[0], ("kiosk", text)]).unwrap_err(), [output]);
    }
}

#[test]
fn the_root_names_devices_of_targets_that_anybody_declares() {
    let projects =
        [("hand", "[targets.hand-unit]\nos = \"linux\"\n"), ("kiosk", "[devices]\nhand-3 = \"hand-unit\"\n")];
    let with = |devices: &str| read(&format!("{ROOT}[devices]\n{devices}"), &projects[..1]);
    assert_eq!(with("hand-3 = \"hand-unit\"\n").unwrap().devices.len(), 1);
    let output = ": manifest.unknown-target: device `hand-3` is of target `hand-unti`, which isn't declared";
    assert_eq!(with("hand-3 = \"hand-unti\"\n").unwrap_err(), [output]);
    let root = Manifest::read(ROOT).unwrap();
    let of_project =
        Manifest::read_project(&format!("[project]\nname = \"kiosk\"\n{}", projects[1].1), &root);
    let faults: Vec<&str> = of_project.unwrap_err().iter().map(|fault| fault.code).collect();
    assert_eq!(
        faults,
        ["manifest.unknown-target"],
        "a project names those of its own and the root's targets"
    );
}

#[test]
fn projects_of_one_name_in_a_circle_or_in_no_folder_are_refused() {
    let need = |path: &str, name: &str| format!("[needs]\n{name} = {{ path = \"{path}\" }}\n");
    let circle = [("a", need("../b", "b")), ("b", need("../c", "c")), ("c", need("../a", "a"))];
    let circle: Vec<(&str, &str)> = circle.iter().map(|(folder, text)| (*folder, text.as_str())).collect();
    assert_eq!(
        read(ROOT, &circle).unwrap_err(),
        ["a: workspace.circle: projects need each other in a circle: a, b, c, a"]
    );
    let for_tests = "[needs-for.test]\nb = { path = \"../b\" }\n";
    assert!(
        read(ROOT, &[("a", for_tests), ("b", &need("../a", "a"))]).is_ok(),
        "tests may lean on what leans on this"
    );
    let wrong = read(ROOT, &[("a", &need("../c", "b")), ("b", &need("../a", "d"))]).unwrap_err();
    assert_eq!(
        wrong,
        [
            "a: workspace.no-project: there is no project in `../c`, the source of `b`",
            "b: workspace.other-name: the project in `../a` is called `a`, not `d`"
        ]
    );
    let twice = format!("{ROOT}[project]\nname = \"a\"\n");
    assert_eq!(
        read(&twice, &[("a", "")]).unwrap_err(),
        ["a: workspace.two-projects: the root and a are both called a"]
    );
}

#[test]
fn folders_are_found_from_each_other() {
    for (folder, way, wanted) in [
        ("gate-kiosk", "../valve-core", "valve-core"),
        ("", "valve-core/", "valve-core"),
        ("parts/gate", "../../../elsewhere", "../elsewhere"),
        ("gate-kiosk", "..", ""),
        ("gate", "./a/./b", "gate/a/b"),
    ] {
        assert_eq!(folder_from(folder, way).as_deref(), Some(wanted), "{folder} {way}");
    }
}

/// Packages with one release each, `name version needs…` a line, and what is in folders.
struct Shed(BTreeMap<PackageName, Arc<Listed>>);

impl Shed {
    fn of(workspace: &Workspace, lines: &str) -> Self {
        let entry = |line: &str| {
            let words: Vec<&str> = line.split(' ').collect();
            let needs = words[2..].iter().map(|need| serde_json::json!({ "name": need, "range": "any" }));
            let entry = serde_json::json!({ "name": words[0], "version": words[1], "published": "2026-01-01T00:00:00Z",
                "needs": needs.collect::<Vec<_>>(), "card": "0".repeat(64) });
            let entry: Entry = serde_json::from_value(entry).unwrap();
            let mut history = History::default();
            history.add(Release::new(entry.clone()));
            (entry.name, Arc::new(Listed::new(Source::Registry("seedhouse".parse().unwrap()), history)))
        };
        let mut all: BTreeMap<_, _> = lines.lines().map(entry).collect();
        all.extend(workspace.listings().into_iter().map(|(name, listing)| (name, Arc::new(listing))));
        Self(all)
    }
}

impl Catalogue for Shed {
    type Error = std::convert::Infallible;

    fn listing(&self, package: &PackageName) -> Result<Option<Arc<Listed>>, Self::Error> {
        Ok(self.0.get(package).cloned())
    }
}

fn lock(workspace: &Workspace, packages: &str) -> Lock {
    let problem = Problem::new(workspace, &[]);
    let resolution = resolve(&problem, &Shed::of(workspace, packages));
    Lock::new(workspace, &resolution.unwrap_or_else(|unresolved| panic!("{unresolved:?}")))
}

/// What each project reaches on each of its targets.
fn reached(lock: &Lock) -> Vec<String> {
    let wires = crate::lock::NeedGraph::of(lock);
    let mut output = Vec::new();
    for project in &lock.projects {
        for spot in project.spots() {
            let reached = wires.reached_on(spot, &[project], &[]);
            let names = reached.iter().map(|(at, purposes)| {
                let purposes: Vec<&str> = purposes.iter().copied().collect();
                format!("{}({})", lock.packages[*at].name, purposes.join("+"))
            });
            output.push(format!(
                "{}@{}: {}",
                project.name,
                spot.unwrap_or("-"),
                names.collect::<Vec<_>>().join(" ")
            ));
        }
    }
    output
}

#[test]
fn each_project_reaches_just_what_it_needs_on_its_own_targets() {
    let projects = [
        (
            "kiosk",
            "[targets.gate]\nos = \"linux\"\n[needs]\nvalve = { path = \"../valve\" }\nmoss = \"any\"\n",
        ),
        (
            "hand",
            "[targets.hand]\nos = \"linux\"\n[targets.spare]\nos = \"linux\"\n[needs]\ndew = { range = \"any\", targets = [\"hand\"] }\n",
        ),
        (
            "valve",
            "[needs]\nrain = \"any\"\n[needs-for.test]\nprobe = \"any\"\n[card.exposes]\ninclude = \"include\"\n",
        ),
    ];
    let workspace = read(ROOT, &projects).unwrap();
    let lock = lock(&workspace, "moss 1 stone\nstone 1\ndew 1 stone\nrain 1\nprobe 1 rain");
    assert_eq!(
        reached(&lock),
        [
            "kiosk@gate: moss(run) rain(run) stone(run) valve(run)",
            "hand@hand: dew(run) stone(run)",
            "hand@spare: ",
            "valve@this-machine: probe(test) rain(run+test)"
        ]
    );
    let targets = |name: &str| lock.package(&name.parse().unwrap()).unwrap().targets.join(" ");
    assert_eq!((targets("stone").as_str(), targets("probe").as_str()), ("gate hand", "this-machine"));
    assert_eq!(targets("rain"), "gate this-machine");
    let valve = lock.package(&"valve".parse().unwrap()).unwrap();
    assert_eq!(
        (valve.source.path(), valve.card, valve.version.to_string()),
        (Some("valve"), None, "0".into())
    );
    assert_eq!(Lock::read(&lock.to_string()).unwrap(), lock);
}

#[test]
fn a_lock_goes_stale_with_what_projects_in_folders_say_of_themselves() {
    let kiosk = ("kiosk", "[needs]\nvalve = { path = \"../valve\" }\n");
    let with = |valve: &str| inputs(&read(ROOT, &[kiosk, ("valve", valve)]).unwrap());
    let before = with("[card.exposes]\ninclude = \"include\"\n");
    assert_eq!(
        before,
        with("[card]\nsummary = \"Opens and closes.\"\n[card.exposes]\ninclude = \"include\"\n")
    );
    assert_ne!(before, with("[card.exposes]\ninclude = \"headers\"\n"));
    let alone = |other: &str| inputs(&read(ROOT, &[("kiosk", ""), ("valve", other)]).unwrap());
    assert_eq!(
        alone(""),
        alone("[card.exposes]\ninclude = \"headers\"\n"),
        "what nobody uses from its folder"
    );
}

#[test]
fn shared_ranges_are_the_roots_and_have_to_be_there() {
    let root = format!("{ROOT}[shared]\ndew-point = \"1.4 .. 2\"\n");
    let root = Manifest::read(&root).unwrap();
    let project =
        |need: &str| Manifest::read_project(&format!("[project]\nname = \"a\"\n[needs]\n{need}\n"), &root);
    let shared = project("dew-point = \"shared\"").unwrap();
    assert_eq!((shared.needs[0].range.to_string().as_str(), shared.needs[0].is_shared), ("1.4 .. 2", true));
    let with_more = project("dew-point = { range = \"shared\", bare = true }").unwrap();
    assert!(with_more.needs[0].is_shared && with_more.needs[0].bare);
    assert_eq!(project("dew-pont = \"shared\"").unwrap_err()[0].code, "manifest.no-shared");
    let alone =
        Manifest::read("[project]\nname = \"a\"\n[shared]\nb = \"1\"\n[needs]\nb = \"shared\"\n").unwrap();
    assert!(alone.needs[0].is_shared);
    for key in ["workspace", "shared", "rules", "shelf"] {
        let text = format!("[project]\nname = \"a\"\n[{key}]\n");
        assert_eq!(Manifest::read_project(&text, &root).unwrap_err()[0].code, "workspace.root-only", "{key}");
    }
}

#[test]
fn charters_give_needs_their_ranges_and_say_which_they_have_none_for() {
    let root = format!(
        "{ROOT}[charters]\nseason = {{ range = \"2026\", except = [{{ package = \"moss-map\", reason = \"r\" }}] }}\n"
    );
    let kiosk = "[needs]\ndew-point = \"charter\"\nrain-ledger = \"charter\"\nmoss-map = \"charter\"\n";
    let mut workspace = read(&root, &[("kiosk", kiosk)]).unwrap();
    let unbound = inputs(&workspace);
    assert!(!workspace.is_bound());
    let season = test_charter(
        "season",
        "2026.2",
        &[("dew-point", "1.4 .. 2"), ("moss-map", "3"), ("rain-ledgers", "2")],
    );
    let misfits = workspace.bind(vec![season, test_charter("other", "1", &[])]).unwrap_err();
    let faults: Vec<(&str, &str)> =
        misfits.iter().map(|misfit| (misfit.fault.code, misfit.fault.message.as_str())).collect();
    assert_eq!(
        faults,
        [
            ("charter.no-range", "`rain-ledger` uses the charter's range, but season 2026.2 has none for it"),
            ("charter.no-range", "`moss-map` uses the charter's range, and is excepted from season"),
        ]
    );
    assert_eq!(workspace.bound.len(), 1, "what isn't taken on doesn't bind");
    let ranges: Vec<String> = workspace.needs().map(|(_, need)| need.range.to_string()).collect();
    assert_eq!(ranges, ["1.4 .. 2", "any", "any"]);
    assert_ne!(inputs(&workspace), unbound);
}

#[test]
fn charters_are_the_root_s_to_take_on() {
    let root = Manifest::read(ROOT).unwrap();
    let faults = Manifest::read_project("[project]\nname = \"kiosk\"\n[charters]\nseason = \"1\"\n", &root);
    assert_eq!(faults.unwrap_err()[0].code, "workspace.root-only");
}
