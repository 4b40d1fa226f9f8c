//! The program killed at many moments: the next run ends right.

use std::fs;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use crate::garden::{Garden, remains};
use crate::proxy;
use crate::served::project;
use crate::server::serve;

/// How many moments are tried, spread over the time that a whole run takes; `BIBLIOTAX_TEST_MOMENTS` may say more.
fn moments() -> u32 {
    std::env::var("BIBLIOTAX_TEST_MOMENTS").map_or(MOMENTS, |moments| moments.parse().unwrap())
}

/// Moments for what takes longer to set up.
const MOMENTS: u32 = 24;

/// Runs, kills after `moment`, and waits for the end.
fn killed_after(garden: &Garden, folder: &str, args: &[&str], moment: Duration) {
    let mut child = garden.start(folder, args);
    let begun = Instant::now();
    while begun.elapsed() < moment && child.try_wait().unwrap().is_none() {
        thread::yield_now();
    }
    let _ = child.kill();
    child.wait().unwrap();
}

fn time_of(run: impl FnOnce()) -> Duration {
    let begun = Instant::now();
    run();
    begun.elapsed()
}

#[test]
fn an_install_killed_at_any_moment_is_completed_by_the_next() {
    let versions = ["1.0.0", "1.1.0"];
    let releases: Vec<String> =
        (0..12).flat_map(|n| versions.map(|version| format!("bed-n{n} {version}"))).collect();
    let releases: Vec<&str> = releases.iter().map(String::as_str).collect();
    let needs = |range: &str| (0..12).map(|n| format!("bed-n{n} = \"{range}\"\n")).collect::<String>();
    let garden = Garden::needing(&releases, &needs("1.0"));
    let old = garden.read("gate/bibliotax.toml");
    let new = old.replace("\"1.0\"", "\"1.1\"");
    let whole = time_of(|| drop(garden.run(&["install"]).expect(0)));
    for moment in 0..moments() {
        // Back and forth, so that every kill falls into a change of all packages; the store again each time.
        let _ = fs::remove_dir_all(garden.path("store"));
        let (text, version) = if moment % 2 == 0 { (&new, "1.1.0") } else { (&old, "1.0.0") };
        garden.write("gate/bibliotax.toml", text);
        killed_after(&garden, "gate", &["install"], whole * moment / moments());
        let ended = garden.run(&["install"]).expect(0);
        garden.run(&["verify"]).expect(0);
        let expected: Vec<String> = garden
            .shelf()
            .iter()
            .map(|line| format!("{} {version}", line.split(' ').next().unwrap()))
            .collect();
        assert_eq!((garden.shelf().len(), garden.shelf()), (12, expected), "killed at {moment}: {ended}");
    }
}

#[test]
fn a_need_killed_at_any_moment_leaves_a_project_that_installs() {
    let garden = Garden::needing(&["moss-map 1.0.0", "dew-point 1.0.0"], "dew-point = \"1\"");
    let before = garden.read("gate/bibliotax.toml");
    let whole = time_of(|| drop(garden.run(&["need", "moss-map"]).expect(0)));
    let after = garden.read("gate/bibliotax.toml");
    for moment in 0..MOMENTS {
        garden.write("gate/bibliotax.toml", &before);
        killed_after(&garden, "gate", &["need", "moss-map"], whole * moment / MOMENTS);
        let manifest = garden.read("gate/bibliotax.toml");
        assert!(manifest == before || manifest == after, "{manifest}");
        garden.run(&["install"]).expect(0);
        garden.run(&["verify"]).expect(0);
    }
}

#[test]
fn a_publish_killed_at_any_moment_is_there_whole_or_not_at_all() {
    let garden = Garden::with(&[]);
    let manifest = |version: &str| format!("[project]\nname = \"valve-core\"\nversion = \"{version}\"\n");
    garden.write("valve/contents.txt", &"watering by valve\n".repeat(2000));
    garden.write("valve/bibliotax.toml", &manifest("0.9.0"));
    let whole = time_of(|| drop(garden.run_in("valve", &["publish", "../seedhouse"]).expect(0)));
    for moment in 0..MOMENTS {
        let version = format!("1.{moment}.0");
        garden.write("valve/bibliotax.toml", &manifest(&version));
        killed_after(&garden, "valve", &["publish", "../seedhouse"], whole * moment / MOMENTS);
        garden.run_in("valve", &["publish", "../seedhouse"]).expect(0);
        garden.run(&["need", "valve-core", &format!("= {version}")]).expect(0);
        assert_eq!(garden.shelf().len(), 1);
    }
    assert_eq!(remains(&garden.path("gate")), [""; 0]);
}

#[test]
fn a_large_archive_goes_on_in_the_next_run_where_it_broke_off() {
    const SIZE: usize = 12 << 20;
    let garden = Garden::with(&[]);
    let bytes: Vec<u8> = (0..SIZE as u32).map(|at| (at.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    garden.write_tar("moss.tar", &[("map.bin", &bytes)]);
    garden.load(
        "{\"name\":\"moss-map\",\"version\":\"1.0.0\",\"published\":\"2026-03-01T08:00:00Z\",\"files\":[{\"path\":\"moss.tar\"}]}\n",
    );
    let served = serve(&garden);
    let (ranges, is_open) = (Arc::<Mutex<Vec<String>>>::default(), Arc::<AtomicBool>::default());
    let (noted, may_go_on) = (ranges.clone(), is_open.clone());
    let note = move |bytes: &[u8]| {
        let head = String::from_utf8_lossy(bytes).to_lowercase();
        let range = head.lines().find_map(|line| line.strip_prefix("range: ").map(str::to_owned));
        noted.lock().unwrap().extend(range);
    };
    // Half of the archive comes, and then nothing until it may go on.
    let url = proxy::before(proxy::address_of(&served.url), note, move |passed| {
        while passed > SIZE / 2 && !may_go_on.load(Ordering::Relaxed) {
            thread::sleep(Duration::from_millis(10));
        }
    });
    project(&garden, "gate", &url, "gate-kiosk", "1.0.0");
    let mut child = garden.start("gate", &["need", "moss-map"]);
    let partial = || fs::read_dir(garden.path("store/partial")).into_iter().flatten().flatten().next();
    let came = || partial().and_then(|file| file.metadata().ok()).map_or(0, |metadata| metadata.len());
    while came() < SIZE as u64 / 3 {
        thread::sleep(Duration::from_millis(20));
        assert!(child.try_wait().unwrap().is_none(), "it is under way");
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let before = came();
    is_open.store(true, Ordering::Relaxed);
    ranges.lock().unwrap().clear();
    garden.run(&["need", "moss-map"]).expect(0);
    assert_eq!(*ranges.lock().unwrap(), [format!("bytes={before}-")], "only the rest was requested");
    assert!(fs::read(garden.path("gate/shelf/moss-map/map.bin")).unwrap() == bytes);
    assert!(partial().is_none(), "nothing of it stays");
    // What came before may be wrong by now: then all is fetched.
    let lock = garden.read("gate/bibliotax.lock");
    let digest = lock.split("\"sha256\":\"").nth(1).unwrap_or_else(|| panic!("{lock}"));
    let digest = digest.split('"').next().unwrap();
    for folder in ["store/trees", "gate/shelf"] {
        fs::remove_dir_all(garden.path(folder)).unwrap();
    }
    garden.write(&format!("store/partial/{digest}"), &"moss".repeat(SIZE / 8));
    ranges.lock().unwrap().clear();
    garden.run(&["install"]).expect(0);
    assert_eq!(ranges.lock().unwrap().len(), 1);
    assert!(fs::read(garden.path("gate/shelf/moss-map/map.bin")).unwrap() == bytes && partial().is_none());
}
