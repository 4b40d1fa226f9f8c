//! Which files of a repository become a package: what can't be part of one, and submodules that are left out.

use std::fs;
use std::os::unix::ffi::OsStrExt as _;

use crate::sources::{commit, garden, git, need};

#[test]
fn files_of_a_repository_that_no_package_can_have_are_listed_and_left_out() {
    let garden = garden();
    garden.write("leaf/src/aux.c", "");
    garden.write("leaf/man/Leaf::Map.3pm", "");
    let strange = std::ffi::OsStr::from_bytes(b"caf\xe9.h");
    fs::write(garden.path("leaf/include").join(strange), "").unwrap();
    let long = [&[b'x'; 120][..], b"\xe9.h"].concat();
    fs::write(garden.path("leaf/include").join(std::ffi::OsStr::from_bytes(&long)), "").unwrap();
    std::os::unix::fs::symlink("nowhere.h", garden.path("leaf/include/dangling.h")).unwrap();
    std::os::unix::fs::symlink(strange, garden.path("leaf/include/strange.h")).unwrap();
    commit(&garden, "leaf");
    need(&garden, "git = \"../leaf\", branch = \"main\"");
    let refused = garden.run(&["install"]).expect(6);
    assert_eq!(refused.code(), "archive.refused", "{refused}");
    for part in ["caf*.h", "dangling.h", "strange.h", "Leaf::Map.3pm", "src/aux.c", "exclude = ["] {
        assert!(refused.stderr.contains(part), "{part}: {refused}");
    }
    let exclude = "exclude = [\"include/{caf,xxxx}*.h\", \"include/{dangling,strange}.h\"]";
    need(&garden, &format!("git = \"../leaf\", branch = \"main\", {exclude}"));
    let others = garden.run(&["install"]).expect(6);
    assert!(
        others.stderr.contains("Leaf::Map.3pm") && !others.stderr.contains("caf"),
        "any system may be a target: {others}"
    );
    let manifest = garden.read("gate/bibliotax.toml") + "[targets.gate]\nos = \"linux\"\n";
    garden.write("gate/bibliotax.toml", &manifest);
    let warned = garden.run(&["install"]).expect(0);
    assert!(warned.stderr.contains("Leaf::Map.3pm"), "{warned}");
    assert!(garden.shelf().contains(&"#define LEAF 3".to_owned()), "{:?}", garden.shelf());
}

#[test]
fn submodules_that_are_left_out_are_not_fetched() {
    let garden = garden();
    for name in ["deep", "wide"] {
        garden.write(&format!("{name}/{name}.h"), "#define DEEP 1\n");
        git(&garden, name, &["init", "-q"]);
        commit(&garden, name);
        git(
            &garden,
            "leaf",
            &["submodule", "--quiet", "add", &format!("../{name}"), &format!("parts/{name}")],
        );
    }
    commit(&garden, "leaf");
    let with = |selection: &str| need(&garden, &format!("git = \"../leaf\", branch = \"main\"{selection}"));
    with("");
    garden.run(&["install"]).expect(0);
    // Nobody has one of them any more.
    fs::rename(garden.path("wide"), garden.path("gone")).unwrap();
    let forget =
        || ["store", "gate/shelf", "home/.cache"].map(|folder| fs::remove_dir_all(garden.path(folder)));
    let _ = forget();
    assert_eq!(garden.run(&["install"]).expect(5).code(), "git.failed");
    for selection in [
        ", exclude = [\"parts/wide\"]",
        ", exclude = [\"**/wide/**\"]",
        ", include = [\"include\", \"parts/deep/**\"]",
    ] {
        with(selection);
        let _ = forget();
        garden.run(&["install"]).expect(0);
        assert_eq!(
            garden.read("gate/shelf/leaf-palette/parts/deep/deep.h"),
            "#define DEEP 1\n",
            "{selection}"
        );
        assert!(!garden.path("gate/shelf/leaf-palette/parts/wide").exists());
        let _ = forget();
        garden.run(&["install", "--sealed"]).expect(0);
    }
    with(", include = [\"**/*.h\"]");
    assert_eq!(garden.run(&["install"]).expect(5).code(), "git.failed", "it may have some of these");
}
