//! Files for build tools: names with odd signs stay what they are, and what a tool can't have is refused.

use serde_json::json;

use super::*;

fn links(include: &str, lib: &[&str]) -> Links {
    let package = |name: &str, needs: &[&str], exposes: serde_json::Value| {
        json!({ "name": name, "version": "1.4.0", "parts": { "major": 1, "minor": 4, "patch": 0, "fourth": 0, "pre": "" },
            "needs": needs, "sha256": ["0".repeat(64)], "stamp": format!("shelf/links/stamps/{name}"), "purposes": ["run"],
            "needed-as": [name], "path": format!("shelf/{name}"), "exposes": exposes })
    };
    let soil = json!({ "include": [include], "lib": lib, "defines": ["SOIL=1"], "libraries": ["m"], "source": ["shelf/soil/a.c", "shelf/soil/more"] });
    let dew = json!({ "python": ["shelf/dew"], "node": ["shelf/dew"], "modules": ["shelf/dew/index.js"], "classes": ["shelf/dew/dew.jar"] });
    let roles = json!({ "include": [include], "lib": lib, "defines": ["SOIL=1"], "libraries": ["m", "m"], "python": ["shelf/dew"],
        "classes": ["shelf/dew/dew.jar"], "bin": ["shelf/dew/bin"] });
    let links = json!({ "format": 2, "project": "fernhollow/gate-kiosk", "target": null, "tools": { "cc": "gcc -m64" },
        "facets": { "os": "linux", "arch": "aarch64" }, "roles": roles,
        "packages": [package("soil", &["dew"], soil), package("dew", &[], dew)] });
    serde_json::from_value(links).unwrap()
}

const PLACE: BuildPlace<'_> = BuildPlace { root: "/garden", up: "../", separator: ':' };

fn made(tool: BuildTool, links: &Links) -> String {
    let files = build_files(tool, links, &PLACE).unwrap();
    files.into_iter().map(|(name, text)| format!("== {name}\n{text}")).collect()
}

#[test]
fn each_tool_gets_what_packages_expose_in_its_own_words() {
    let links = links("shelf/soil/include", &["shelf/soil/lib/libsoil.a", "shelf/soil/more"]);
    for (tool, words) in [
        (
            BuildTool::Make,
            &[
                "BIBLIOTAX_CPPFLAGS := -I$(BIBLIOTAX_ROOT)/shelf/soil/include -DSOIL=1\n",
                "BIBLIOTAX_LDFLAGS := -L$(BIBLIOTAX_ROOT)/shelf/soil/more\n",
                "BIBLIOTAX_LDLIBS := $(BIBLIOTAX_ROOT)/shelf/soil/lib/libsoil.a -lm\n",
                "BIBLIOTAX_STAMPS := $(BIBLIOTAX_ROOT)/shelf/links/stamps/soil",
                "BIBLIOTAX_TOOL_CC := gcc -m64\n",
            ][..],
        ),
        (
            BuildTool::Cmake,
            &[
                "add_library(bibliotax_soil STATIC EXCLUDE_FROM_ALL \"${_bibliotax_root}/shelf/soil/a.c\" ${_bibliotax_sources})",
                "add_library(bibliotax::dew ALIAS bibliotax_dew)",
                "target_link_libraries(bibliotax_soil PUBLIC bibliotax::dew)",
            ],
        ),
        (
            BuildTool::PkgConfig,
            &[
                "== pkg-config/soil.pc\n",
                "Requires: dew\n",
                "Cflags: -I${root}/shelf/soil/include -DSOIL=1\n",
            ],
        ),
        (
            BuildTool::Meson,
            &[
                "pkg_config_path = ['/garden/shelf/links/fernhollow.gate-kiosk.pkg-config']",
                "c = ['gcc', '-m64']",
            ],
        ),
        (BuildTool::CompileFlags, &["-I../shelf/soil/include\n-DSOIL=1\n"]),
        (BuildTool::PythonPath, &["== python-path\n../shelf/dew\n"]),
        (BuildTool::NodePath, &["== node-path\n../shelf\n"]),
        (BuildTool::ClassPath, &["== class-path\n../shelf/dew/dew.jar\n"]),
        (BuildTool::ImportMap, &["\"dew\": \"../../shelf/dew/index.js\"", "\"dew/\": \"../../shelf/dew/\""]),
        (BuildTool::Shell, &["BIBLIOTAX_PACKAGE_SOIL=\"$BIBLIOTAX_ROOT\"/shelf/soil\n", "PATH=$PATH:"]),
        (BuildTool::Vscode, &["${workspaceFolder}/shelf/soil/include"]),
    ] {
        let text = made(tool, &links);
        for words in words {
            assert!(text.contains(words), "{words}\nisn't in\n{text}");
        }
    }
}

#[test]
fn signs_that_tools_act_on_stay_what_they_are_or_are_refused() {
    let odd = links("shelf/soil/a b$(id)", &[]);
    assert!(build_files(BuildTool::Make, &odd, &PLACE).is_err());
    assert!(made(BuildTool::Cmake, &odd).contains("/shelf/soil/a b\\$(id)\""));
    assert!(made(BuildTool::PkgConfig, &odd).contains("-I${root}/shelf/soil/a\\ b$$\\(id\\)"));
    assert!(made(BuildTool::CompileFlags, &odd).contains("-I../shelf/soil/a\\ b$(id)\n"));
    assert!(made(BuildTool::Shell, &odd).contains("'shelf/soil/a b$(id)'"));
    for sign in ["'", "`", ";", "|", "%", "\\"] {
        let refused =
            build_files(BuildTool::Make, &links(&format!("shelf/a{sign}b"), &[]), &PLACE).unwrap_err();
        assert!(refused.to_string().contains("can't stand in a file for make"), "{refused}");
    }
    let mut colon = links("shelf/soil/include", &[]);
    colon.roles.insert("python".parse().unwrap(), vec!["shelf/a:b".to_owned()]);
    assert!(build_files(BuildTool::PythonPath, &colon, &PLACE).is_err());
}
