//! Errors that no other test meets, each with its code, through the built program.

use std::fs;
use std::os::unix::fs::symlink;
use std::path::Path;

use bibliotax_app::codes::{CODES, Kind, kind_of};

use crate::garden::Garden;
use crate::sources::{self, commit, git};

const PROJECT: &str = "[project]\nname = \"gate-kiosk\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n";
const SEEDHOUSE: &str = "[registries]\nseedhouse = \"../seedhouse\"\n";

/// The code that a command fails with.
#[track_caller]
fn code_of(garden: &Garden, args: &[&str]) -> String {
    let ran = garden.run(args);
    assert_ne!(ran.status, 0, "{ran}");
    ran.code().to_owned()
}

/// Gives files of the registry other contents.
fn overwrite_files(garden: &Garden, contents: impl Fn(&str) -> Option<String>) {
    for folder in fs::read_dir(garden.path("seedhouse/files")).unwrap() {
        for file in fs::read_dir(folder.unwrap().path()).unwrap() {
            let path = file.unwrap().path();
            let text = String::from_utf8_lossy(&fs::read(&path).unwrap()).into_owned();
            contents(&text).iter().for_each(|contents| fs::write(&path, contents).unwrap());
        }
    }
}

/// The code that a manifest is refused with.
fn code_of_manifest(text: &str) -> String {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    garden.write("gate/bibliotax.toml", &format!("{PROJECT}{SEEDHOUSE}{text}"));
    code_of(&garden, &["install"])
}

#[test]
fn of_a_need_without_a_range() {
    assert_eq!(code_of_manifest("[needs]\ndew-point = { from = \"seedhouse\" }\n"), "manifest.no-range");
}

#[test]
fn of_a_target_whose_name_means_something_else() {
    assert_eq!(code_of_manifest("[targets.this-machine]\nos = \"linux\"\n"), "manifest.target");
}

#[test]
fn of_a_digest_that_is_none() {
    let need = "[needs]\nsoil = { archive = \"https://files.example/soil.zip\", sha256 = \"f00d\" }\n";
    assert_eq!(code_of_manifest(need), "digest.invalid");
}

#[test]
fn of_a_path_that_leads_out_of_a_package() {
    assert_eq!(code_of_manifest("[card.exposes]\ninclude = [\"../soil\"]\n"), "path.invalid");
}

#[test]
fn of_a_needed_folder_that_is_a_workspace_s_root() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    garden.write("gate/bibliotax.toml", &format!("{PROJECT}[needs]\nshed = {{ path = \"../shed\" }}\n"));
    garden.write("shed/bibliotax.toml", "[workspace]\nfolders = []\n");
    assert_eq!(code_of(&garden, &["install"]), "workspace.in-workspace");
}

#[test]
fn of_a_need_where_no_registry_is_declared() {
    let garden = Garden::bare();
    garden.write("gate/bibliotax.toml", PROJECT);
    assert_eq!(code_of(&garden, &["need", "dew-point"]), "registry.none");
}

#[test]
fn of_a_fit_without_anything_to_try() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    assert_eq!(code_of(&garden, &["fit", "dew-point"]), "fit.words");
    assert_eq!(code_of(&garden, &["fit", "dew-point", "--try", "hand-unit"]), "fit.words");
}

#[test]
fn of_a_switch_that_is_neither_on_nor_off() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let output = garden.command("gate", &["install"]).env("BIBLIOTAX_OFFLINE", "maybe").output().unwrap();
    assert_eq!(garden.ran(output).expect(2).code(), "environment.switch");
}

#[test]
fn of_facets_that_are_none() {
    let garden = Garden::bare();
    garden.write("gate/facets.json", "[]");
    assert_eq!(code_of(&garden, &["registry", "create", "new", "--facets", "facets.json"]), "facet.file");
}

#[test]
fn of_a_token_that_there_is_not() {
    let garden = Garden::bare();
    assert_eq!(code_of(&garden, &["registry", "token", "end", "../seedhouse", "77"]), "token.none");
}

#[test]
fn of_a_release_with_a_link_or_with_too_many_tags_or_steps() {
    let garden = Garden::with(&[]);
    garden.write("gate/bibliotax.toml", &format!("{PROJECT}{SEEDHOUSE}"));
    garden.write("gate/include/gate.h", "#define GATE 1\n");
    symlink("gate.h", garden.path("gate/include/door.h")).unwrap();
    assert_eq!(code_of(&garden, &["publish"]), "publish.link");
    fs::remove_file(garden.path("gate/include/door.h")).unwrap();
    let tags: Vec<String> = (0..200).map(|n| format!("\"tag-{n}\"")).collect();
    garden
        .write("gate/bibliotax.toml", &format!("{PROJECT}{SEEDHOUSE}[card]\ntags = [{}]\n", tags.join(", ")));
    assert_eq!(code_of(&garden, &["publish"]), "card.tags");
    let steps: String =
        (0..20).map(|n| format!("[[card.steps]]\nid = \"bed-{n}\"\ntext = \"Dig\"\n")).collect();
    garden.write("gate/bibliotax.toml", &format!("{PROJECT}{SEEDHOUSE}{steps}"));
    assert_eq!(code_of(&garden, &["publish"]), "card.steps");
}

#[test]
fn of_archives_that_no_release_may_have() {
    let garden = Garden::needing(&[], "moss-map = \"1\"");
    garden.write("archives/moss.tar.zst", "no archive at all");
    garden.smuggle("moss-map", "archives/moss.tar.zst");
    assert_eq!(code_of(&garden, &["install"]), "archive.unreadable");
}

#[test]
fn of_a_card_whose_file_has_no_digest() {
    let garden = Garden::bare();
    let card = "name = \"moss-map\"\nversion = \"1.0.0\"\n[[files]]\nurl = \"https://files.example/moss.tar\"\nsize = 9\n";
    garden.write("gate/moss-map.toml", card);
    assert_eq!(code_of(&garden, &["registry", "load", "../seedhouse", "moss-map.toml"]), "card.file");
}

#[test]
fn of_two_parts_with_the_same_file() {
    let garden = Garden::needing(&[], "moss-map = { range = \"1\", parts = [\"docs\"] }");
    let file = |part: &str| {
        let archive = format!("archives/{part}.tar");
        garden.write_tar(&archive, &[("moss.txt", part.as_bytes())]);
        let (digest, size) = garden.add_file(&archive);
        serde_json::json!({ "part": part, "sha256": digest, "size": size, "format": "tar" })
    };
    let card = serde_json::json!({ "name": "moss-map", "version": "1.0.0", "published": "2026-03-01T09:00:00Z",
        "files": [file("main"), file("docs")] });
    garden.load(&card.to_string());
    assert_eq!(code_of(&garden, &["install"]), "archive.two-parts");
}

#[test]
fn of_a_card_that_is_not_the_one_in_the_history() {
    let garden = Garden::needing(&["moss-map 1.0.0"], "moss-map = \"1\"");
    overwrite_files(&garden, |text| {
        text.contains("moss-map\",\"version").then(|| text.replace("MIT", "ISC"))
    });
    assert_eq!(code_of(&garden, &["describe", "moss-map"]), "registry.wrong-card");
}

#[test]
fn of_a_store_that_a_newer_version_made() {
    let garden = Garden::needing(&["moss-map 1.0.0"], "moss-map = \"1\"");
    garden.run(&["install"]).expect(0);
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.write("store/format", "99\n");
    assert_eq!(code_of(&garden, &["install"]), "store.newer");
}

#[test]
fn of_a_file_of_a_mirrored_registry_that_has_other_bytes() {
    let garden = Garden::with(&["moss-map 1.0.0"]);
    overwrite_files(&garden, |text| (!text.starts_with('{')).then(|| "other bytes".to_owned()));
    assert_eq!(code_of(&garden, &["registry", "mirror", "../seedhouse", "copy"]), "mirror.wrong-bytes");
}

#[test]
fn of_git_where_there_is_none() {
    let garden = sources::garden();
    sources::need(&garden, "git = \"../leaf\", tag = \"v1.2.0\"");
    let output = garden.command("gate", &["install"]).env("PATH", garden.path("empty")).output().unwrap();
    assert_eq!(garden.ran(output).expect(2).code(), "git.missing");
}

#[test]
fn of_a_repository_whose_manifest_is_broken_or_names_another_package() {
    let garden = sources::garden();
    sources::need(&garden, "git = \"../leaf\", branch = \"spring\"");
    git(&garden, "leaf", &["checkout", "-q", "-b", "spring"]);
    garden.write("leaf/bibliotax.toml", "[project\n");
    commit(&garden, "leaf");
    // A person sees the code of the fault, a program that of the failure as well.
    let said = garden.run(&["install", "--format", "json"]).expect(3).json();
    assert_eq!(said["error"]["code"], "source.manifest", "{said}");
    garden.write("leaf/bibliotax.toml", "[project]\nname = \"soil-curve\"\nversion = \"1.0.0\"\n");
    commit(&garden, "leaf");
    assert_eq!(code_of(&garden, &["install"]), "source.other-name");
}

#[test]
fn of_findings_and_of_a_shelf_that_differs() {
    // These two end a report and no failure, so that only the status shows them.
    assert_eq!((kind_of("check.findings"), kind_of("verify.differs")), (Kind::Differs, Kind::Differs));
    let garden = Garden::needing(&["moss-map 1.0.0"], "moss-map = \"1\"");
    garden.run(&["check"]).expect(1);
    garden.run(&["install"]).expect(0);
    garden.run(&["check"]).expect(0);
    fs::remove_file(garden.path("gate/shelf/moss-map/moss-map.txt")).unwrap();
    garden.run(&["verify"]).expect(1);
}

#[test]
fn a_branch_or_a_commit_of_a_repository_is_taken_as_the_options_say() {
    let garden = sources::garden();
    git(&garden, "leaf", &["checkout", "-q", "-b", "spring"]);
    garden.write("leaf/include/leaf.h", "#define LEAF 4\n");
    commit(&garden, "leaf");
    let first = git(&garden, "leaf", &["rev-parse", "v1.2.0"]);
    let header = || garden.read("gate/shelf/leaf-palette/include/leaf.h");
    garden.run(&["need", "leaf-palette", "--git", "../leaf", "--branch", "spring"]).expect(0);
    assert_eq!(header(), "#define LEAF 4\n");
    garden.run(&["need", "leaf-palette", "--git", "../leaf", "--commit", &first]).expect(0);
    assert_eq!(header(), "#define LEAF 2\n");
    assert!(garden.read("gate/bibliotax.toml").contains(&first));
}

#[test]
fn every_code_is_met_by_a_test() {
    let crates = Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let mut tests = String::new();
    for of in ["app", "archive", "cli", "core", "disk", "registry", "server", "store"] {
        add_tests_below(&crates.join(of), &mut tests);
    }
    // Nothing that a test can do brings a defect about.
    let codes = CODES.iter().map(|(code, ..)| code).filter(|code| **code != "defect");
    let unmet: Vec<&&str> = codes
        .filter(|code| !tests.contains(&format!("{code}\"")) && !tests.contains(&format!("({code})")))
        .collect();
    assert!(unmet.is_empty(), "no test meets {unmet:?}");
}

/// Adds the texts of tests below a folder: files in `tests`, and what stands below `#[cfg(test)]`.
fn add_tests_below(folder: &Path, tests: &mut String) {
    for path in fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()) {
        if path.is_dir() {
            add_tests_below(&path, tests);
        } else if path.extension().is_some_and(|ending| ending == "rs") {
            let text = fs::read_to_string(&path).unwrap();
            let is_test =
                path.components().any(|part| part.as_os_str().to_string_lossy().starts_with("tests"));
            tests.push_str(if is_test {
                &text
            } else {
                text.split_once("#[cfg(test)]").map_or("", |(_, text)| text)
            });
        }
    }
}
