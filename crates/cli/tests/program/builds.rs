//! Real build tools with packages on a shelf: each builds with one release, then with another, then with the first again, and runs
//! the right thing each time.

use std::fs;
use std::process::Command;

use crate::garden::Garden;

/// A garden whose registry has two releases of a small C library and one of a header that it needs, of different licences.
fn garden(tools: &str) -> Garden {
    let garden = Garden::with(&[]);
    for version in ["1.4.0", "1.5.0"] {
        release(
            &garden,
            "soil-curve",
            version,
            "MIT",
            "\"include\":[\"include\"],\"source\":[\"src/*.c\"]",
            "",
            &[
                ("include/soil.h", format!("#define SOIL \"{version}\"\nconst char *soil(void);\n")),
                (
                    "src/soil.c",
                    "#include <soil.h>\n#include <moss.h>\nconst char *soil(void) { return SOIL MOSS; }\n"
                        .to_owned(),
                ),
            ],
        );
    }
    release(
        &garden,
        "moss-map",
        "2.0.0",
        "Apache-2.0",
        "\"include\":[\"include\"],\"defines\":[\"MOSS_DEPTH=3\"]",
        "",
        &[("include/moss.h", "#define MOSS \" on moss\"\n".to_owned())],
    );
    declare(&garden, tools, "");
    garden
}

/// Loads a release with these files.
fn release(
    garden: &Garden,
    name: &str,
    version: &str,
    license: &str,
    exposes: &str,
    more: &str,
    files: &[(&str, String)],
) {
    let archive = format!("archives/{name}-{version}.tar");
    let files: Vec<(&str, &[u8])> = files.iter().map(|(path, text)| (*path, text.as_bytes())).collect();
    garden.write_tar(&archive, &files);
    garden.load(&format!(
        "{{\"name\":\"{name}\",\"version\":\"{version}\",\"published\":\"2026-03-01T09:00:00Z\",\"license\":\"{license}\",\
         \"files\":[{{\"path\":\"{archive}\"}}],\"exposes\":{{{exposes}}}{more}}}\n"
    ));
}

fn declare(garden: &Garden, tools: &str, more: &str) {
    let manifest = "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = \"../seedhouse\"\n[needs]\n";
    let needs = "soil-curve = \"= 1.4.0\"\nmoss-map = \"2\"\n";
    garden.write("gate/bibliotax.toml", &format!("{manifest}{needs}[links]\nfor = [{tools}]\n{more}"));
    garden.run(&["install", "--quiet"]).expect(0);
}

/// Moves to another release of a package.
fn move_to(garden: &Garden, package: &str, version: &str) {
    garden.run(&["need", package, &format!("= {version}"), "--quiet"]).expect(0);
}

/// What a shell script prints that runs in the project's folder.
fn sh(garden: &Garden, script: &str) -> String {
    let ran = Command::new("sh").args(["-ec", script]).current_dir(garden.path("gate")).output().unwrap();
    let (out, err) = (String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr));
    assert!(ran.status.success(), "{script}\n{out}\n{err}");
    out.into_owned()
}

const MAIN: &str = "#include <soil.h>\n#include <stdio.h>\nint main(void) { printf(\"%s with %s\\n\", SOIL, soil()); return 0; }\n";

/// Builds with the first release, the second, and the first again, then without a change; what ran last each time.
fn goes_and_comes_back(garden: &Garden, build: &str) {
    for version in ["1.4.0", "1.5.0", "1.4.0", "1.4.0", "1.5.0"] {
        move_to(garden, "soil-curve", version);
        let said = sh(garden, build);
        let last = said.lines().last().unwrap_or_default();
        assert_eq!(last, format!("{version} with {version} on moss"), "{said}");
    }
}

#[test]
fn make_builds_the_release_that_is_on_the_shelf() {
    let garden = garden("\"make\"");
    garden.write("gate/main.c", MAIN);
    garden.write(
        "gate/Makefile",
        "include shelf/links/gate-kiosk.mk\nOBJECTS := main.o soil.o\nall: gate\n\
         soil.o: $(BIBLIOTAX_ROLE_SOURCE)\n\t$(CC) $(BIBLIOTAX_CPPFLAGS) -c -o $@ $<\n\
         main.o: main.c\n\t$(CC) $(BIBLIOTAX_CPPFLAGS) -c -o $@ $<\n\
         gate: $(OBJECTS)\n\t$(CC) $(BIBLIOTAX_LDFLAGS) -o $@ $^ $(BIBLIOTAX_LDLIBS)\n$(OBJECTS): $(BIBLIOTAX_STAMPS)\n",
    );
    goes_and_comes_back(&garden, "make -s && ./gate");
    assert!(sh(&garden, "make").contains("Nothing to be done"), "what is built stays");
    // A shelf that was removed comes back with another release, and nothing is known of what was there.
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    move_to(&garden, "soil-curve", "1.4.0");
    assert!(sh(&garden, "make -s && ./gate").contains("1.4.0 with 1.4.0"));
}

#[test]
fn make_with_the_dependencies_that_a_compiler_writes_needs_no_stamp() {
    let garden = garden("\"make\"");
    garden.write("gate/main.c", MAIN);
    garden.write(
        "gate/Makefile",
        "include shelf/links/gate-kiosk.mk\nall: gate\n-include main.d soil.d\n\
         soil.o: $(BIBLIOTAX_ROLE_SOURCE)\n\t$(CC) -MMD $(BIBLIOTAX_CPPFLAGS) -c -o $@ $<\n\
         main.o: main.c\n\t$(CC) -MMD $(BIBLIOTAX_CPPFLAGS) -c -o $@ $<\ngate: main.o soil.o\n\t$(CC) -o $@ $^\n",
    );
    goes_and_comes_back(&garden, "make -s && ./gate");
}

#[test]
#[ignore = "needs cmake and ninja, which `.ci/run` sets up"]
fn cmake_builds_packages_as_targets_with_ninja_and_with_make() {
    for generator in ["Ninja", "Unix Makefiles"] {
        let garden = garden("\"cmake\"");
        garden.write("gate/main.c", MAIN);
        garden.write(
            "gate/CMakeLists.txt",
            "cmake_minimum_required(VERSION 3.13)\nproject(gate C)\n\
             include(${CMAKE_CURRENT_SOURCE_DIR}/shelf/links/gate-kiosk.cmake)\nadd_executable(gate main.c)\n\
             target_link_libraries(gate bibliotax::soil-curve bibliotax::moss-map)\n\
             target_link_libraries(bibliotax_soil-curve PUBLIC bibliotax::moss-map)\n",
        );
        let build = format!(
            "cmake -S . -B out -G '{generator}' > log 2>&1 && cmake --build out >> log 2>&1 && out/gate"
        );
        goes_and_comes_back(&garden, &build);
        let again = sh(&garden, "cmake --build out");
        assert!(!again.contains("Building"), "{again}");
    }
}

#[test]
#[ignore = "needs meson and ninja, which `.ci/run` sets up"]
fn meson_finds_packages_through_pkg_config() {
    let garden = garden("\"meson\"");
    garden.write("gate/main.c", &MAIN.replace("soil())", "SOIL \" on moss\")"));
    garden.write(
        "gate/meson.build",
        "project('gate', 'c')\nexecutable('gate', 'main.c', dependencies: [dependency('soil-curve'), dependency('moss-map')])\n",
    );
    sh(&garden, "meson setup out --native-file shelf/links/gate-kiosk.meson.ini > log 2>&1");
    goes_and_comes_back(&garden, "meson compile -C out > log 2>&1 && out/gate");
    let flags = sh(&garden, "PKG_CONFIG_PATH=shelf/links/gate-kiosk.pkg-config pkg-config --cflags moss-map");
    assert!(flags.contains("-DMOSS_DEPTH=3") && flags.contains("moss-map/include"), "{flags}");
}

#[test]
#[ignore = "needs autoconf and automake, which `.ci/run` sets up"]
fn an_autotools_package_builds_in_its_own_folder_without_being_generated_again() {
    let garden = garden("\"make\"");
    let up = garden.path("up/frost-1.0");
    fs::create_dir_all(&up).unwrap();
    fs::write(up.join("configure.ac"), "AC_INIT([frost], [1.0])\nAM_INIT_AUTOMAKE([foreign])\nAC_PROG_CC\nAC_CONFIG_FILES([Makefile])\nAC_OUTPUT\n").unwrap();
    fs::write(up.join("Makefile.am"), "bin_PROGRAMS = frost\nfrost_SOURCES = frost.c\n").unwrap();
    fs::write(
        up.join("frost.c"),
        "#include <stdio.h>\nint main(void) { puts(PACKAGE_VERSION); return 0; }\n",
    )
    .unwrap();
    for version in ["1.0", "1.1"] {
        let make = format!(
            "cd ../up && test -d frost-{version} || cp -r frost-1.0 frost-{version}; cd frost-{version}; \
             sed -i 's/\\[1..\\]/[{version}]/' configure.ac; autoreconf -i > ../log 2>&1; rm -rf autom4te.cache; cd ..; \
             tar czf frost-{version}.tar.gz frost-{version}"
        );
        sh(&garden, &make);
    }
    // What would generate files again isn't there: it fails where a rule of upstream's fires.
    let build = "mkdir -p work && cd work && (test -e Makefile || ../shelf/frost/configure AUTOCONF=false AUTOMAKE=false ACLOCAL=false > log 2>&1) \
                 && make -s AUTOCONF=false AUTOMAKE=false ACLOCAL=false >> log 2>&1 && ./frost";
    for version in ["1.0", "1.1", "1.0"] {
        garden.run(&["need", "--archive", &format!("../up/frost-{version}.tar.gz"), "--quiet"]).expect(0);
        let _ = fs::remove_dir_all(garden.path("gate/work"));
        assert_eq!(sh(&garden, build), format!("{version}\n"));
    }
}

#[test]
#[ignore = "needs a cross compiler and qemu, which `.ci/run` sets up"]
fn a_cross_compiler_builds_for_a_target_and_its_tool_runs_the_result() {
    let garden = garden("\"make\", \"meson\"");
    let target = "[targets.hand-unit]\nos = \"linux\"\narch = \"aarch64\"\n[tools.hand-unit]\ncc = \"aarch64-linux-gnu-gcc\"\n\
                  run = \"qemu-aarch64 -L /usr/aarch64-linux-gnu\"\n";
    declare(&garden, "\"make\", \"meson\"", target);
    garden.write("gate/main.c", MAIN);
    garden.write(
        "gate/Makefile",
        "include shelf/links/gate-kiosk.hand-unit.mk\nall: gate\n\
         gate: main.c $(BIBLIOTAX_ROLE_SOURCE) $(BIBLIOTAX_STAMPS)\n\
         \t$(BIBLIOTAX_TOOL_CC) $(BIBLIOTAX_CPPFLAGS) -o $@ main.c $(BIBLIOTAX_ROLE_SOURCE)\n\
         run: gate\n\t@$(BIBLIOTAX_TOOL_RUN) ./gate\n",
    );
    goes_and_comes_back(&garden, "make -s gate && make -s run");
    let ran = garden
        .run(&["with", "--target", "hand-unit", "--", "sh", "-c", "$BIBLIOTAX_TOOL_RUN ./gate"])
        .expect(0);
    assert!(ran.stdout.contains("1.5.0 with 1.5.0"), "{ran}");
    garden.write(
        "gate/meson.build",
        "project('gate', 'c')\nexecutable('gate', 'main.c', dependencies: dependency('soil-curve'))\n",
    );
    garden.write("gate/main.c", &MAIN.replace("soil())", "SOIL)"));
    let built = sh(
        &garden,
        "meson setup out --cross-file shelf/links/gate-kiosk.hand-unit.meson.ini > log 2>&1; meson compile -C out > log 2>&1; \
                             qemu-aarch64 -L /usr/aarch64-linux-gnu out/gate",
    );
    assert_eq!(built, "1.5.0 with 1.5.0\n");
}

/// Two releases of a package whose files say which it is, and one of another package, needed beside it.
fn scripts(
    files: impl Fn(&str) -> Vec<(&'static str, String)>,
    other: &[(&str, String)],
    exposes: &str,
    more: &str,
) -> Garden {
    let garden = Garden::with(&[]);
    for version in ["1.4.0", "1.5.0"] {
        release(&garden, "soil", version, "MIT", exposes, "", &files(version));
    }
    release(&garden, "moss", "2.0.0", "Apache-2.0", exposes, "", other);
    let needs = "soil = \"= 1.4.0\"\nmoss = \"2\"\n";
    let manifest = "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = \"../seedhouse\"\n[needs]\n";
    garden.write("gate/bibliotax.toml", &format!("{manifest}{needs}{more}"));
    garden.run(&["install", "--quiet"]).expect(0);
    garden
}

fn runs_each(garden: &Garden, run: &str) {
    for version in ["1.4.0", "1.5.0", "1.4.0"] {
        move_to(garden, "soil", version);
        let said = sh(garden, run);
        assert!(said.lines().any(|line| line == format!("{version} on moss")), "{said}");
    }
}

#[test]
fn python_finds_modules_by_the_file_and_by_the_environment() {
    let soil = |version: &str| vec![("soil/__init__.py", format!("NAME = '{version}'\n"))];
    let more = "[links]\nfor = [\"python-path\"]\n[environment]\nPYTHONPATH = \"python\"\n[tasks]\ntry = \"python3 main.py\"\n";
    let garden =
        scripts(soil, &[("moss/__init__.py", "NAME = 'on moss'\n".to_owned())], "\"python\":[\".\"]", more);
    garden.write("gate/main.py", "import moss, soil\nprint(soil.NAME, moss.NAME)\n");
    runs_each(&garden, "PYTHONPATH=\"$(cat shelf/links/gate-kiosk.python-path)\" python3 main.py");
    let ran = garden.run(&["task", "try"]).expect(0);
    assert!(ran.stdout.contains("1.4.0 on moss"), "{ran}");
}

#[test]
#[ignore = "needs pytest, which `.ci/run` sets up"]
fn pytest_tests_against_the_release_that_is_on_the_shelf() {
    let soil = |version: &str| vec![("soil/__init__.py", format!("NAME = '{version}'\n"))];
    let more = "[environment]\nPYTHONPATH = \"python\"\n";
    let garden =
        scripts(soil, &[("moss/__init__.py", "NAME = 'on moss'\n".to_owned())], "\"python\":[\".\"]", more);
    garden.write(
        "gate/test_soil.py",
        "import moss, soil\ndef test_names():\n    print(soil.NAME, moss.NAME)\n    assert soil.NAME\n",
    );
    for version in ["1.4.0", "1.5.0", "1.4.0"] {
        move_to(&garden, "soil", version);
        let ran = garden
            .run(&["with", "--", "python3", "-m", "pytest", "-q", "-s", "-p", "no:cacheprovider"])
            .expect(0);
        assert!(ran.stdout.contains(&format!("{version} on moss")), "{ran}");
    }
}

#[test]
#[ignore = "needs Node, which `.ci/run` sets up"]
fn node_finds_packages_by_name() {
    let soil = |version: &str| {
        vec![
            ("index.js", format!("exports.name = '{version}'\n")),
            ("package.json", "{\"main\":\"index.js\"}".to_owned()),
        ]
    };
    let more = "[links]\nfor = [\"node-path\", \"import-map\"]\n[environment]\nNODE_PATH = \"node\"\n";
    let moss = [("index.js", "exports.name = 'on moss'\n".to_owned())];
    let garden = scripts(soil, &moss, "\"node\":[\".\"],\"modules\":[\"index.js\"]", more);
    garden.write("gate/main.js", "console.log(require('soil').name, require('moss').name)\n");
    runs_each(&garden, "NODE_PATH=\"$(cat shelf/links/gate-kiosk.node-path)\" node main.js");
    let map: serde_json::Value =
        serde_json::from_str(&garden.read("gate/shelf/links/gate-kiosk.import-map.json")).unwrap();
    let address = map["imports"]["soil"].as_str().unwrap();
    assert!(garden.path("gate/shelf/links").join(address).is_file(), "{map}");
}

#[test]
#[ignore = "needs a Java compiler, which `.ci/run` sets up"]
fn java_compiles_and_runs_with_the_class_path() {
    let soil = |version: &str| {
        vec![(
            "garden/Soil.java",
            format!(
                "package garden; public class Soil {{ public static String name() {{ return \"{version}\"; }} }}\n"
            ),
        )]
    };
    let more = "[links]\nfor = [\"class-path\"]\n[environment]\nCLASSPATH = \"classes\"\n";
    let moss = [(
        "garden/Moss.java",
        "package garden; public class Moss { public static String name() { return \"on moss\"; } }\n"
            .to_owned(),
    )];
    let garden = scripts(soil, &moss, "\"classes\":[\".\"]", more);
    garden.write("gate/Main.java", "public class Main { public static void main(String[] a) { System.out.println(garden.Soil.name() + \" \" + garden.Moss.name()); } }\n");
    let run = "path=\"$(cat shelf/links/gate-kiosk.class-path)\" && javac -d out -cp \"$path\" -sourcepath \"$path\" Main.java && java -cp out Main";
    runs_each(&garden, run);
}

#[test]
fn compilers_shells_and_editors_read_their_files() {
    let garden = garden("\"compile-flags\", \"shell\", \"vscode\", \"pkg-config\"");
    garden.write("gate/main.c", MAIN);
    let built =
        "cc @shelf/links/gate-kiosk.compile-flags -o gate main.c shelf/soil-curve/src/soil.c && ./gate";
    goes_and_comes_back(&garden, built);
    let said =
        sh(&garden, ". shelf/links/gate-kiosk.sh; cd /; cat \"$BIBLIOTAX_PACKAGE_MOSS_MAP/include/moss.h\"");
    assert_eq!(said, "#define MOSS \" on moss\"\n");
    let editor: serde_json::Value =
        serde_json::from_str(&garden.read("gate/shelf/links/gate-kiosk.c_cpp_properties.json")).unwrap();
    assert_eq!(editor["configurations"][0]["defines"][0], "MOSS_DEPTH=3", "{editor}");
    let listed = garden.run(&["links"]).expect(0);
    assert!(listed.stdout.contains("  . shelf/links/gate-kiosk.sh\n"), "{listed}");
    let json = garden.run(&["links", "shell", "--format", "json"]).expect(0).json();
    assert_eq!(json["files"].as_array().unwrap().len(), 1, "{json}");
    assert_eq!(garden.run(&["links", "shel"]).expect(3).code(), "links.tool");
    let other = garden.run(&["links", "make"]).expect(0);
    assert!(other.stderr.contains("`for = [\"make\"]`"), "{other}");
}

#[test]
fn wrong_words_for_builds_are_told() {
    for (more, code) in [
        ("[links]\nfor = [\"mak\"]\n", "links.tool"),
        ("[environment]\n\"A B\" = \"python\"\n", "manifest.variable"),
        ("[environment]\nA = { prefix = \"-I\" }\n", "manifest.variable"),
        ("[tools.kiosk]\ncc = \"\"\n", "manifest.tool"),
    ] {
        let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
        let manifest = garden.read("gate/bibliotax.toml");
        garden.write("gate/bibliotax.toml", &format!("{manifest}{more}"));
        assert_eq!(garden.run(&["install"]).expect(3).code(), code, "{more}");
    }
    let garden = Garden::needing(&[], "soil = \"1\"\n[links]\nfor = [\"make\"]");
    release(&garden, "soil", "1.0", "MIT", "\"include\":[\"a b\"]", "", &[("a b/soil.h", String::new())]);
    let refused = garden.run(&["install"]).expect(3);
    assert_eq!(refused.code(), "links.path", "{refused}");
}
