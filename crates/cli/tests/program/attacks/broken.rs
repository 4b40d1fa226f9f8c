//! Broken and forged files are reported as such, not as a failing disk.

use std::fs;

use crate::garden::{Garden, Ran};
use crate::sources::{commit, garden, git, need};

fn output(what: &str, ran: &Ran, status: i32, code: &str, words: &str) {
    assert_eq!((ran.status, ran.code()), (status, code), "{what}: {ran}");
    let shown = ran.stderr.split_whitespace().filter(|word| *word != "|").collect::<Vec<_>>().join(" ");
    assert!(shown.contains(words) && !shown.contains("check the disk"), "{what}: {ran}");
}

#[test]
fn files_that_are_no_text_are_told_as_such() {
    let bytes = [b'{', 0xff, 0xfe, b'\n'];
    for (path, status, code) in [
        ("seedhouse/registry.json", 6, "registry.broken"),
        ("seedhouse/packages/c2/dew-point.jsonl", 6, "registry.broken"),
        ("gate/bibliotax.lock", 3, "file.no-text"),
        ("gate/bibliotax.toml", 3, "manifest.unreadable"),
        ("gate/links/flags.mk", 3, "file.no-text"),
    ] {
        let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
        if path.starts_with("gate") {
            garden.run(&["install"]).expect(0);
        }
        fs::create_dir_all(garden.path(path).parent().unwrap()).unwrap();
        fs::write(garden.path(path), bytes).unwrap();
        output(path, &garden.run(&["install"]), status, code, "UTF-8");
    }
}

#[test]
fn a_commit_with_a_path_that_leads_out_or_is_no_text_is_refused_and_told() {
    for (name, code, words) in [
        (&b".."[..], "git.bad-tree", "`..` isn't a path inside a package"),
        (b"m\xffss", "archive.refused", "isn't UTF-8"),
        (b"con", "archive.refused", "con"),
    ] {
        let garden = garden();
        let blob = git(&garden, "leaf", &["hash-object", "-w", "bibliotax.toml"]);
        let object: Vec<u8> =
            (0..20).map(|at| u8::from_str_radix(&blob[at * 2..at * 2 + 2], 16).unwrap()).collect();
        let entry = |name: &[u8]| [b"100644 ", name, b"\0", &object].concat();
        let mut entries = [entry(name), entry(b"bibliotax.toml")];
        entries.sort_by_key(|entry| entry[7..].to_vec());
        fs::write(garden.path("tree"), entries.concat()).unwrap();
        let tree = git(&garden, "leaf", &["hash-object", "-t", "tree", "--literally", "-w", "../tree"]);
        let made = git(&garden, "leaf", &["commit-tree", tree.trim(), "-m", "strange"]);
        git(&garden, "leaf", &["branch", "-f", "strange", made.trim()]);
        need(&garden, "git = \"../leaf\", branch = \"strange\"");
        output(words, &garden.run(&["install"]), 6, code, words);
        assert!(!garden.path("gate/shelf/leaf-palette").exists());
        commit(&garden, "leaf");
    }
}
