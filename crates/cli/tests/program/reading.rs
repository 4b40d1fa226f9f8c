//! How often a run reads manifests and locks.

use std::fs;
use std::process::{Command, Stdio};

use crate::garden::Garden;
use crate::outside::needed;

/// How often a run opens each of these files, in their order.
fn opened<const N: usize>(garden: &Garden, args: &[&str], files: [&str; N]) -> [usize; N] {
    let plain = garden.command("gate", args);
    let mut command = Command::new(needed("BIBLIOTAX_TEST_TRACER"));
    command.args(["-f", "-qq", "-o"]).arg(garden.path("calls")).args(["-e", "trace=open,openat"]);
    command.arg(plain.get_program()).args(plain.get_args());
    command.current_dir(garden.path("gate")).env_clear().stdout(Stdio::null());
    command.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
    assert!(command.status().unwrap().success(), "{args:?}");
    let calls = fs::read_to_string(garden.path("calls")).unwrap();
    let calls: Vec<&str> =
        calls.lines().filter(|call| call.contains("O_RDONLY") && !call.contains("ENOENT")).collect();
    files.map(|file| calls.iter().filter(|call| call.contains(&format!("{file}\""))).count())
}

#[test]
#[ignore = "needs strace, which `.ci/run` sets up"]
fn a_run_reads_manifest_and_lock_once_and_the_manifest_again_under_the_lock() {
    let garden = Garden::needing(&["dew-point 1.4.0", "moss-map 1.0.0"], "dew-point = \"1\"");
    let files = ["gate/bibliotax.toml", "gate/bibliotax.lock"];
    garden.run(&["install"]).expect(0);
    assert_eq!(opened(&garden, &["need", "moss-map"], files), [2, 1]);
    assert_eq!(opened(&garden, &["update"], files), [2, 1]);
    // Once a day it also looks for warnings about what is locked.
    garden.run(&["install"]).expect(0);
    assert_eq!(opened(&garden, &["install"], files), [1, 1]);
    assert_eq!(opened(&garden, &["check"], files), [1, 1]);
    assert_eq!(opened(&garden, &["explain", "dew-point"], files), [1, 1]);
    // Texts are compared before the shelf is held, and read under its lock where there is something to do.
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    assert_eq!(opened(&garden, &["install", "--sealed"], files), [2, 2]);
}
