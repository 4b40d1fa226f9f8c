//! A repository whose submodules would lead to this machine, or to hosts that only it reaches.

use crate::sources::{commit, daemon, garden, git, need};

#[test]
fn no_submodule_of_a_repository_elsewhere_lies_on_this_machine_or_another_host() {
    let garden = garden();
    garden.write("secret/secret.txt", "moss under the eighth stone\n");
    git(&garden, "secret", &["init", "-q"]);
    let commit_there = commit(&garden, "secret");
    let (port, _daemon) = daemon(&garden);
    let absolute = garden.path("secret").display().to_string();
    for (url, why) in [
        ("shelf/../../secret", "this machine"),
        ("../secret/../../../secret", "out of its host"),
        (&absolute, "this machine"),
        (&format!("file://{absolute}"), "this machine"),
        (&format!("../../localhost:{port}/secret"), "out of its host"),
        ("git@127.0.0.1:secret", "keys"),
        ("ext::cat secret", "would run a program"),
    ] {
        garden.write("leaf/.gitmodules", &format!("[submodule \"x\"]\npath = parts/x\nurl = {url}\n"));
        git(
            &garden,
            "leaf",
            &["update-index", "--add", "--cacheinfo", &format!("160000,{},parts/x", commit_there.trim())],
        );
        git(&garden, "leaf", &["add", ".gitmodules"]);
        git(&garden, "leaf", &["commit", "-q", "-m", "more"]);
        need(&garden, &format!("git = \"git://127.0.0.1:{port}/leaf\", branch = \"main\""));
        let refused = garden.run(&["install"]).expect(5);
        let output =
            refused.stderr.split_whitespace().filter(|word| *word != "|").collect::<Vec<_>>().join(" ");
        assert!(refused.code() == "git.failed" && output.contains(why), "{url}: {refused}");
        assert!(!garden.path("gate/shelf/leaf-palette").exists(), "{url}");
    }
    // One beside it comes along.
    garden.write("leaf/.gitmodules", "[submodule \"x\"]\npath = parts/x\nurl = ../secret\n");
    git(&garden, "leaf", &["commit", "-q", "-m", "more", ".gitmodules"]);
    garden.run(&["install"]).expect(0);
    assert_eq!(garden.read("gate/shelf/leaf-palette/parts/x/secret.txt"), "moss under the eighth stone\n");
}
