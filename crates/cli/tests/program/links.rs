//! The links: where everything is, for a build to find, written only where they say something new.

use std::fs;
use std::path::Path;
use std::process::Command;

use insta::assert_snapshot;
use serde_json::json;

use crate::garden::Garden;

/// Loads a release with a header and a source, which it exposes.
fn publish(garden: &Garden, name: &str, version: &str, header: &str, source: &str, needs: &[&str]) {
    let stem = name.replace(['/', '-'], "_");
    let archive = format!("archives/{stem}-{version}.tar");
    let (header_path, source_path) = (format!("include/{stem}.h"), format!("src/{stem}.c"));
    garden.write_tar(&archive, &[(&header_path, header.as_bytes()), (&source_path, source.as_bytes())]);
    let needs: Vec<_> = needs.iter().map(|need| json!({ "name": need, "range": "any" })).collect();
    let card = json!({ "name": name, "version": version, "published": "2026-03-01T09:00:00Z", "needs": needs,
        "exposes": { "include": ["include"], "source": [source_path] },
        "files": [{ "path": archive }] });
    garden.load(&format!("{card}\n"));
}

fn garden() -> Garden {
    let garden = Garden::with(&[]);
    publish(
        &garden,
        "pergola/core",
        "1.0.0",
        "int beams(void);\n",
        "#include \"pergola_core.h\"\nint beams(void) { return 7; }\n",
        &[],
    );
    publish(
        &garden,
        "leaf-count",
        "1.0.0",
        "int leaves(void);\n",
        "#include \"leaf_count.h\"\n#include \"pergola_core.h\"\nint leaves(void) { return 6 * beams(); }\n",
        &["pergola/core"],
    );
    garden
}

#[test]
fn links_say_where_everything_is_with_needers_first() {
    let garden = garden();
    garden.run(&["need", "leaf-count"]).expect(0);
    assert_snapshot!(garden.read("gate/shelf/links/gate-kiosk.env"), @"
    BIBLIOTAX_ROLE_INCLUDE=shelf/leaf-count/include:shelf/pergola.core/include
    BIBLIOTAX_ROLE_SOURCE=shelf/leaf-count/src/leaf_count.c:shelf/pergola.core/src/pergola_core.c
    BIBLIOTAX_PACKAGE_LEAF_COUNT=shelf/leaf-count
    BIBLIOTAX_PACKAGE_PERGOLA_CORE=shelf/pergola.core
    ");
    assert_snapshot!(garden.read("gate/shelf/links/gate-kiosk.json"), @r#"
    {
      "format": 2,
      "project": "gate-kiosk",
      "target": null,
      "roles": {
        "include": [
          "shelf/leaf-count/include",
          "shelf/pergola.core/include"
        ],
        "source": [
          "shelf/leaf-count/src/leaf_count.c",
          "shelf/pergola.core/src/pergola_core.c"
        ]
      },
      "packages": [
        {
          "name": "leaf-count",
          "version": "1.0.0",
          "parts": {
            "major": 1,
            "minor": 0,
            "patch": 0,
            "fourth": 0,
            "pre": ""
          },
          "needs": [
            "pergola/core"
          ],
          "sha256": [
            "0dd5b9781ed6596de9511dbc25e8121effc04599365d8c02801d00359d3f254d"
          ],
          "purposes": [
            "run"
          ],
          "needed-as": [
            "leaf-count"
          ],
          "path": "shelf/leaf-count",
          "exposes": {
            "include": [
              "shelf/leaf-count/include"
            ],
            "source": [
              "shelf/leaf-count/src/leaf_count.c"
            ]
          }
        },
        {
          "name": "pergola/core",
          "version": "1.0.0",
          "parts": {
            "major": 1,
            "minor": 0,
            "patch": 0,
            "fourth": 0,
            "pre": ""
          },
          "sha256": [
            "b7124beb06fa596df0a0538dc8fd0ef13d9f265f7ace6b5a32b4fffc41b99df5"
          ],
          "purposes": [
            "run"
          ],
          "path": "shelf/pergola.core",
          "exposes": {
            "include": [
              "shelf/pergola.core/include"
            ],
            "source": [
              "shelf/pergola.core/src/pergola_core.c"
            ]
          }
        }
      ]
    }
    "#);
    let before = fs::metadata(garden.path("gate/shelf/links/gate-kiosk.json")).unwrap().modified().unwrap();
    garden.run(&["verify"]).expect(0);
    fs::remove_dir_all(garden.path("gate/shelf/leaf-count")).unwrap();
    garden.run(&["install"]).expect(0);
    let after = fs::metadata(garden.path("gate/shelf/links/gate-kiosk.json")).unwrap().modified().unwrap();
    assert_eq!(before, after, "what says nothing new isn't written");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write(
        "gate/bibliotax.toml",
        &format!("{manifest}\n[targets.hand]\nos = \"linux\"\n[targets.kiosk]\nos = \"linux\"\n"),
    );
    garden.run(&["install"]).expect(0);
    let files = || {
        let mut names: Vec<_> = fs::read_dir(garden.path("gate/shelf/links"))
            .unwrap()
            .flatten()
            .map(|file| file.file_name())
            .collect();
        names.sort();
        names
    };
    assert_eq!(
        files(),
        [
            "gate-kiosk.hand.env",
            "gate-kiosk.hand.json",
            "gate-kiosk.kiosk.env",
            "gate-kiosk.kiosk.json",
            "stamp"
        ]
    );
    assert!(
        garden
            .read("gate/shelf/links/gate-kiosk.hand.env")
            .contains("shelf/hand/leaf-count/include:shelf/hand/pergola.core/include")
    );
    garden.run(&["drop", "leaf-count"]).expect(0);
    assert!(files().is_empty(), "nothing is left to say");
}

#[test]
fn a_compiler_builds_with_the_links_and_nothing_else() {
    let garden = garden();
    garden.run(&["need", "leaf-count"]).expect(0);
    garden.write("gate/main.c", "#include \"leaf_count.h\"\nint main(void) { return leaves(); }\n");
    garden.write(
        "gate/build.sh",
        "set -e\n. shelf/links/gate-kiosk.env\nIFS=:\nset -- $BIBLIOTAX_ROLE_SOURCE\nfor path in $BIBLIOTAX_ROLE_INCLUDE; do set -- \"$@\" -I \"$path\"; done\nunset IFS\ncc -o main main.c \"$@\"\n",
    );
    let run = |program: &str, args: &[&str]| {
        let status = Command::new(program).args(args).current_dir(garden.path("gate")).status().unwrap();
        status.code()
    };
    assert_eq!(run("sh", &["build.sh"]), Some(0));
    assert!(Path::new(&garden.path("gate/main")).exists());
    assert_eq!(run("./main", &[]), Some(42));
}

#[test]
fn a_project_s_own_templates_are_rendered_beside_the_links() {
    let garden = garden();
    garden.write(
        "gate/links/flags.mk",
        "CPPFLAGS +={% for path in roles.include %} -I{{ path }}{% endfor %}\n\nSOURCES = {{ roles.source | join(' ') }}\n",
    );
    garden.run(&["need", "leaf-count"]).expect(0);
    assert_snapshot!(garden.read("gate/shelf/links/gate-kiosk.flags.mk"), @"
    CPPFLAGS += -Ishelf/leaf-count/include -Ishelf/pergola.core/include
    SOURCES = shelf/leaf-count/src/leaf_count.c shelf/pergola.core/src/pergola_core.c
    ");
    let written =
        || fs::metadata(garden.path("gate/shelf/links/gate-kiosk.flags.mk")).unwrap().modified().unwrap();
    let before = written();
    garden.write("gate/links/roles.txt", "{{ roles | list | join(', ') }}\n");
    garden.run(&["install"]).expect(0);
    assert_eq!(garden.read("gate/shelf/links/gate-kiosk.roles.txt"), "include, source\n");
    assert_eq!(written(), before, "what says nothing new isn't written");
    garden.write("gate/links/roles.txt", "{{ project }}\n{{ rolls.include }}\n");
    assert_snapshot!(garden.run(&["install"]), @"
    ----- stderr
    error: a template can't be rendered: undefined value  (links.template)
      at links/roles.txt:2:4
        1: {{ project }}
        2: {{ rolls.include }}
              ~~~~~~~~~~~~~ unknown name; write `| default([])` or `is defined` if it can be missing
    try: a template sees `project`, `target`, `roles` and `packages`; see the guide
    ----- status 3
    ");
    assert_eq!(
        garden.read("gate/shelf/links/gate-kiosk.roles.txt"),
        "include, source\n",
        "the last good ones stay"
    );
    fs::remove_dir_all(garden.path("gate/links")).unwrap();
    garden.run(&["install"]).expect(0);
    assert!(!garden.path("gate/shelf/links/gate-kiosk.flags.mk").exists());
}

#[test]
fn paths_can_begin_at_the_root_of_the_disk() {
    let garden = garden();
    garden.run(&["need", "leaf-count"]).expect(0);
    garden.run(&["install", "--absolute"]).expect(0);
    let shelf = garden.path("gate/shelf/leaf-count/include");
    let env = || garden.read("gate/shelf/links/gate-kiosk.env");
    assert!(env().contains(&format!("INCLUDE={}:", shelf.display())), "{}", env());
    garden.run(&["install"]).expect(0);
    assert!(env().contains("INCLUDE=shelf/leaf-count"), "{}", env());
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[shelf]\nabsolute = true\n"));
    garden.run(&["install"]).expect(0);
    assert!(env().contains(&format!("INCLUDE={}:", shelf.display())), "{}", env());
    let seen = garden.run(&["with", "--", "printenv", "BIBLIOTAX_PACKAGE_LEAF_COUNT"]).expect(0);
    assert_eq!(seen.stdout, "GARDEN/gate/shelf/leaf-count\n");
}

#[test]
fn the_guide_s_templates_are_what_they_are_said_to_be() {
    let garden = garden();
    garden.write_tar("archives/petal.tar", &[("petal.js", b"export const petals = 5;\n")]);
    for (name, exposes) in [
        ("petal-one", json!({ "module": ["petal.js"] })),
        ("petal-two", json!({ "module": ["petal.js"], "classes": ["."] })),
    ] {
        let card = json!({ "name": name, "version": "1.0.0", "published": "2026-03-01T09:00:00Z", "exposes": exposes,
            "files": [{ "path": "archives/petal.tar" }] });
        garden.load(&format!("{card}\n"));
    }
    let guide = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guide.md")).unwrap();
    let templates: Vec<&str> =
        guide.split("```jinja\n").skip(1).filter_map(|rest| rest.split("```").next()).collect();
    assert_eq!(templates.len(), 5);
    for (number, template) in templates.iter().enumerate() {
        garden.write(&format!("gate/links/{number}"), template);
    }
    garden.run(&["need", "leaf-count", "petal-one", "petal-two"]).expect(0);
    garden.run(&["need", "dew-drop"]).expect(4);
    let rendered = |number: usize| garden.read(&format!("gate/shelf/links/gate-kiosk.{number}"));
    assert_snapshot!(rendered(0), @"
    PACKAGE_INCLUDES = shelf/leaf-count/include shelf/pergola.core/include
    PACKAGE_SOURCES = shelf/leaf-count/src/leaf_count.c shelf/pergola.core/src/pergola_core.c
    ");
    assert_snapshot!(rendered(1), @"
    -Ishelf/leaf-count/include
    -Ishelf/pergola.core/include
    ");
    assert_snapshot!(rendered(2), @"shelf/petal-two");
    for (number, key) in [(3, "imports"), (4, "sources")] {
        let text = rendered(number);
        let json: serde_json::Value =
            serde_json::from_str(&text).unwrap_or_else(|error| panic!("{error}: {text}"));
        assert!(
            json[key].as_object().map_or(json[key].as_array().map_or(0, Vec::len), serde_json::Map::len) >= 2,
            "{text}"
        );
    }
}

#[test]
fn projects_that_become_a_workspace_keep_their_templates_and_hear_of_what_is_old() {
    let garden = Garden::with(&[]);
    for name in ["bark-log", "dew-point"] {
        publish(&garden, name, "1.0.0", "int x;\n", "int x;\n", &[]);
    }
    let registry = "[registries]\nseedhouse = \"../../seedhouse\"\n";
    for (name, need) in [("kiosk", "bark-log"), ("hand", "dew-point"), ("bare", "dew-point")] {
        let manifest = format!("[project]\nname = \"{name}\"\n\n{registry}\n[needs]\n{need} = \"1\"\n");
        garden.write(&format!("ws/{name}/bibliotax.toml"), &manifest);
    }
    garden.write("ws/kiosk/links/packages.mk", "KIOSK = {{ roles.include | join(\" \") }}\n");
    garden.write("ws/hand/links/packages.txt", "{{ project }}: {{ roles.include | join(\" \") }}\n");
    for name in ["kiosk", "hand"] {
        garden.run_in(&format!("ws/{name}"), &["install", "--quiet"]).expect(0);
    }
    assert_snapshot!(garden.run_in("ws", &["init", "--workspace"]), @"
    wrote bibliotax.toml for a workspace of bare, hand, kiosk
    builds in hand now find their links in ../shelf/links/
    builds in kiosk now find their links in ../shelf/links/
    next: `bibliotax install`
    ----- stderr
    warning: the workspace has one lock and one shelf for all its projects; nothing updates hand/bibliotax.lock, hand/shelf, kiosk/bibliotax.lock, kiosk/shelf any more; `bibliotax init --workspace --remove-old` removes them
    ----- status 0
    ");
    // Paths in a project's own file are as seen from its folder.
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    let paths = garden.read("ws/shelf/links/kiosk.packages.mk");
    assert_eq!(paths, "KIOSK = ../shelf/bark-log/include\n");
    assert!(garden.path("ws/kiosk").join("../shelf/bark-log/include").is_dir());
    assert_eq!(garden.read("ws/shelf/links/hand.packages.txt"), "hand: ../shelf/dew-point/include\n");
    assert!(!garden.path("ws/shelf/links/bare.packages.mk").exists(), "it is kiosk's own");
    // A template of the root is for all, but for who has one of that name.
    garden.write("ws/links/packages.mk", "ALL = {{ roles.include | join(\" \") }}\n");
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    assert_eq!(garden.read("ws/shelf/links/bare.packages.mk"), "ALL = shelf/dew-point/include\n");
    assert_eq!(garden.read("ws/shelf/links/kiosk.packages.mk"), paths);
    garden.write("ws/hand/links/packages.txt", "{{ roles.inclde }}\n");
    let slip = garden.run_in("ws", &["install"]).expect(3);
    assert!(slip.code() == "links.template" && slip.stderr.contains("hand/links/packages.txt:1"), "{slip}");
    fs::remove_file(garden.path("ws/hand/links/packages.txt")).unwrap();
    garden.run_in("ws", &["install", "--quiet"]).expect(0);
    assert!(!garden.path("ws/shelf/links/hand.packages.txt").exists());
    // The old locks and shelves go when somebody wants that, and nothing else does.
    assert_snapshot!(garden.run_in("ws", &["init", "--workspace", "--remove-old"]), @"
    removed hand/bibliotax.lock, hand/shelf
    removed kiosk/bibliotax.lock, kiosk/shelf
    ----- status 0
    ");
    for gone in ["kiosk/bibliotax.lock", "kiosk/shelf", "hand/shelf", "hand/bibliotax.lock"] {
        assert!(!garden.path(&format!("ws/{gone}")).exists(), "{gone}");
    }
    assert!(garden.path("ws/bibliotax.lock").exists() && garden.path("ws/shelf/bark-log").is_dir());
    assert_snapshot!(garden.run_in("ws", &["init", "--workspace", "--remove-old"]), @"
    no project of the workspace has a lock or a shelf of its own; bibliotax.toml stays as it is
    ----- status 0
    ");
}

#[test]
fn an_install_says_once_what_a_build_needs() {
    let garden = garden();
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[links]\nfor = [\"make\", \"shell\"]\n"));
    let first = garden.run(&["need", "leaf-count"]).expect(0);
    let (_, told) = first.stdout.split_once("links: ").unwrap();
    assert_snapshot!(told, @"
    2 files for your build; `bibliotax links` shows them again
       make   include shelf/links/gate-kiosk.mk
       shell  . shelf/links/gate-kiosk.sh
    ");
    assert!(!garden.run(&["install"]).expect(0).stdout.contains("links:"));
    fs::remove_file(garden.path("gate/shelf/links/gate-kiosk.mk")).unwrap();
    assert!(garden.run(&["install"]).expect(0).stdout.contains("links: 1 file for your build"));
}

#[test]
fn one_stamp_is_written_whenever_something_of_the_links_changed_and_only_then() {
    let garden = Garden::needing(&["dew-point 1.0.0", "dew-point 1.1.0"], "dew-point = \"= 1.0.0\"");
    garden.run(&["install"]).expect(0);
    let stamp = || {
        let path = garden.path("gate/shelf/links/stamp");
        (fs::read_to_string(&path).unwrap(), fs::metadata(&path).unwrap().modified().unwrap())
    };
    let first = stamp();
    garden.run(&["install"]).expect(0);
    garden.run(&["verify", "--repair"]).expect(0);
    assert_eq!(stamp(), first);
    garden.run(&["need", "dew-point", "1"]).expect(0);
    garden.run(&["update"]).expect(0);
    let second = stamp();
    assert!(second.0 != first.0 && second.1 > first.1);
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}\n[links]\nfor = [\"make\"]\n"));
    garden.run(&["install"]).expect(0);
    assert_ne!(stamp().0, second.0);
}
