//! A tracer stops the program at each change of the disk, or has the disk refuse it: the next run always ends right.
//!
//! `strace` counts calls of the system for each thread. The first calls are those of the thread that writes lock, state and
//! links; when all of its calls are through, the rest of them fall into the threads that unpack and build.

use std::ffi::OsString;
use std::process::{Command, Stdio};

use crate::garden::Garden;
use crate::outside::needed;

/// The calls that change what is on a disk for good.
const CHANGES: &str =
    "rename,renameat,renameat2,fsync,syncfs,linkat,unlink,unlinkat,mkdir,rmdir,chmod,fchmod";

/// The calls that want room on a disk.
const WRITES: &str = "write,copy_file_range,mkdir,linkat,link,rename,renameat2,fsync,syncfs,openat";

/// Packages of the project that is changed.
const PACKAGES: usize = 4;

struct Changing {
    garden: Garden,
    old: String,
    new: String,
}

/// A project that goes from one release of each package to the next, and back.
fn changing() -> Changing {
    let versions = ["1.0.0", "1.1.0"];
    let releases: Vec<String> =
        (0..PACKAGES).flat_map(|n| versions.map(|version| format!("bed-n{n} {version}"))).collect();
    let releases: Vec<&str> = releases.iter().map(String::as_str).collect();
    let needs: String = (0..PACKAGES).map(|n| format!("bed-n{n} = \"1.0\"\n")).collect();
    let garden = Garden::needing(&releases, &needs);
    let old = garden.read("gate/bibliotax.toml");
    let new = old.replace("\"1.0\"", "\"1.1\"");
    garden.write("gate/links/names.txt", "{% for package in packages %}{{ package.version }} {% endfor %}");
    garden.run(&["install"]).expect(0);
    Changing { garden, old, new }
}

impl Changing {
    /// Changes the project in a run that meets this fault, then lets another one put things right; how the first ended.
    fn change(&self, tracer: &OsString, turn: usize, calls: &str, fault: &str) -> Option<i32> {
        let Self { garden, old, new } = self;
        let (text, version) = if turn.is_multiple_of(2) { (new, "1.1.0") } else { (old, "1.0.0") };
        let _ = std::fs::remove_dir_all(garden.path("store"));
        garden.write("gate/bibliotax.toml", text);
        let plain = garden.command("gate", &["install"]);
        let mut command = Command::new(tracer);
        command.args(["-f", "-qq", "-o", "/dev/null", "-e", &format!("trace={calls}")]);
        command
            .args(["-e", &format!("inject={calls}:{fault}")])
            .arg(plain.get_program())
            .args(plain.get_args());
        command.current_dir(garden.path("gate")).env_clear().stdout(Stdio::null()).stderr(Stdio::null());
        command.envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))));
        let status = command.status().unwrap();
        let ended = garden.run(&["install"]).expect(0);
        garden.run(&["verify", "--full"]).expect(0);
        let expected: Vec<String> = (0..PACKAGES).map(|n| format!("bed-n{n} {version}")).collect();
        assert_eq!(garden.shelf(), expected, "{calls} {fault}: {ended}");
        let names = format!("{version} ").repeat(PACKAGES);
        assert_eq!(garden.read("gate/shelf/links/gate-kiosk.names.txt"), names, "{calls} {fault}");
        assert!(garden.run(&["install"]).expect(0).stdout.contains("nothing to do"), "{calls} {fault}");
        status.code()
    }
}

#[test]
#[ignore = "needs strace, which `.ci/run` sets up"]
fn killed_at_each_change_of_the_disk_an_install_is_completed_by_the_next() {
    let tracer = needed("BIBLIOTAX_TEST_TRACER");
    let changing = changing();
    let mut killed = 0;
    while changing.change(&tracer, killed, CHANGES, &format!("signal=SIGKILL:when={}", killed + 1)) != Some(0)
    {
        killed += 1;
        assert!(killed < 500, "it never came through");
    }
    assert!(killed > 20, "only {killed} changes were seen");
}

#[test]
#[ignore = "needs strace, which `.ci/run` sets up"]
fn a_disk_that_is_full_at_any_write_is_told_and_the_next_install_completes() {
    let tracer = needed("BIBLIOTAX_TEST_TRACER");
    let changing = changing();
    let mut refused = 0;
    for turn in 0..70 {
        // Calls that only look (`openat`) fail so, too, and some of them may: what can't be looked at isn't there.
        match changing.change(&tracer, turn, WRITES, &format!("error=ENOSPC:when={}", turn + 8)) {
            Some(74) => refused += 1,
            Some(0 | 3 | 5 | 127) => {}
            other => panic!("at {turn} it ended with {other:?}"),
        }
    }
    assert!(refused > 20, "only {refused} of them were reported as failures of the disk");
}
