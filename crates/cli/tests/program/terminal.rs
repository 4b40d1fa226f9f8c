//! What a person sees on a terminal: pagers, plain ASCII, progress, each step and each request.

use std::fs;
use std::thread;
use std::time::Duration;

use crate::garden::Garden;
use crate::proxy;
use crate::server::serve;

fn garden() -> Garden {
    let releases: Vec<String> = (1..=40).map(|n| format!("moss-{} 1.0.0", word(n))).collect();
    let garden = Garden::with(&releases.iter().map(String::as_str).collect::<Vec<_>>());
    let needs: String = (1..=40).map(|n| format!("moss-{} = \"1\"\n", word(n))).collect();
    garden.write("gate/bibliotax.toml", &format!("{}{needs}", crate::garden::MANIFEST));
    garden
}

fn word(number: usize) -> String {
    format!(
        "{}{}",
        char::from(b'a' + u8::try_from(number / 26).unwrap()),
        char::from(b'a' + u8::try_from(number % 26).unwrap())
    )
}

#[test]
fn long_results_go_through_the_pager_and_short_ones_do_not() {
    let garden = garden();
    garden.run(&["install"]).expect(0);
    let pager = ("PAGER", "sed 's/^/paged: /'");
    let screen = (80, 24);
    let seen = |args: &[&str], variables: &[(&str, &str)]| {
        garden.on_terminal(screen, variables, "gate", args).stdout
    };
    assert!(seen(&["graph"], &[pager]).contains("paged: "), "{}", seen(&["graph"], &[pager]));
    assert!(seen(&["--help"], &[pager]).contains("paged: "));
    assert!(!seen(&["graph", "--no-pager"], &[pager]).contains("paged: "));
    assert!(!seen(&["find", "moss-ab"], &[pager]).contains("paged: "), "it fits the screen");
    assert!(!seen(&["graph"], &[("PAGER", "")]).contains("paged: "));
    assert!(seen(&["graph"], &[("PAGER", "")]).contains("moss-bn"));
    assert!(!seen(&["graph", "--format", "json"], &[pager]).contains("paged: "));
    let piped = garden.command("gate", &["graph"]).env("PAGER", "false").output().unwrap();
    assert!(piped.status.success() && !piped.stdout.is_empty());
}

#[test]
fn where_the_locale_is_not_utf_8_everything_is_ascii() {
    let garden = Garden::needing(
        &["dew-point 1.4.0", "dew-point 2.0.0", "moss-map 1.0.0: dew-point 1"],
        "moss-map = \"1\"\ndew-point = \"1\"",
    );
    garden.run(&["install"]).expect(0);
    let shown = |locale: &str| {
        garden.on_terminal((80, 50), &[("LC_ALL", locale)], "gate", &["describe", "dew-point"])
    };
    assert!(shown("C").stdout.is_ascii(), "{}", shown("C"));
    let help = |locale: &str| {
        garden.on_terminal((60, 200), &[("LC_ALL", locale)], "gate", &["graph", "--to", "…"]).stdout
    };
    assert!(help("C").is_ascii() && help("C").contains("..."), "{}", help("C"));
    assert!(help("C.UTF-8").contains('…'));
}

#[test]
fn each_step_and_each_request_is_shown_to_those_who_ask() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    let served = serve(&garden);
    let manifest = garden.read("gate/bibliotax.toml").replace("../seedhouse", &served.url);
    garden.write("gate/bibliotax.toml", &manifest);
    let steps = garden.run(&["install", "-v"]).expect(0).stderr;
    for part in ["resolved 1 package", "unpacked dew-point", "wrote bibliotax.lock", "installed dew-point"] {
        assert!(steps.contains(part), "{part} in {steps}");
    }
    assert!(!steps.contains("GET "), "{steps}");
    fs::remove_dir_all(garden.path("store")).unwrap();
    let requests = garden.run(&["resolve", "-vv"]).expect(0).stderr;
    assert!(requests.contains("GET http://127.0.0.1:") && requests.contains("200 OK"), "{requests}");
}

#[test]
fn progress_never_wraps_and_is_gone_at_the_end() {
    let garden = garden();
    let served = serve(&garden);
    // A slow server, so that there is something to draw.
    let url =
        proxy::before(proxy::address_of(&served.url), |_| thread::sleep(Duration::from_millis(150)), |_| ());
    let manifest = garden.read("gate/bibliotax.toml").replace("../seedhouse", &url);
    garden.write("gate/bibliotax.toml", &manifest);
    for columns in [40, 60, 80, 120] {
        let ran = garden.on_terminal((columns, 50), &[("NO_COLOR", "")], "gate", &["install"]);
        let drawn: Vec<String> = ran.stdout.split(['\n', '\r']).map(strip).collect();
        let widest = drawn.iter().map(|line| line.chars().count()).max().unwrap();
        assert!(widest <= usize::from(columns), "{widest} in {ran}");
        assert!(drawn.iter().any(|line| line.contains("resolving")), "{ran}");
        assert!(drawn.iter().any(|line| line.contains("fetching")), "{ran}");
        for made in ["gate/shelf", "store"] {
            fs::remove_dir_all(garden.path(made)).unwrap();
        }
        fs::remove_file(garden.path("gate/bibliotax.lock")).unwrap();
    }
}

/// A garden where every table has much to say.
fn full_garden() -> Garden {
    let garden = Garden::with(&[
        "dew-point 1.4.0",
        "dew-point 2.0.0",
        "rain-ledger 2.4.0: dew-point 1",
        "rain-ledger 2.6.0: dew-point 1",
        "rain-ledger 3.0.0: dew-point 2",
        "moss-map 1.0.0: rain-ledger 2",
        "probe-sim 0.9.2",
        "fernhollow/weather-station-simulator 1.0.0: dew-point 1",
    ]);
    garden.load("{\"name\":\"soil-curve\",\"version\":\"1.7.0\",\"published\":\"2026-03-01T08:00:00Z\",\"license\":\"MIT\",\
        \"summary\":\"Soil moisture curves for gardeners who want to know how long water lasts\",\"fits\":{\"os\":[\"linux\"]}}\n");
    let registries = "[registries]\nseedhouse = \"../seedhouse\"\n[targets.gate-kiosk]\nos = \"linux\"\narch = \"x86_64\"\n\
        [targets.hand-unit]\nos = \"linux\"\narch = \"aarch64\"\n[needs]\n";
    let needs = |range: &str| {
        format!(
            "[project]\nname = \"gate-kiosk\"\n{registries}rain-ledger = \"{range}\"\nmoss-map = \"1\"\nprobe-sim = \"0.9\"\nsoil-curve = \"1\"\n\"fernhollow/weather-station-simulator\" = \"1\"\n"
        )
    };
    garden.write("gate/bibliotax.toml", &needs("2.4.0"));
    garden.run(&["install"]).expect(0);
    garden.write("before.lock", &garden.read("gate/bibliotax.lock"));
    garden.write("gate/bibliotax.toml", &needs("2"));
    garden.run(&["update", "--beyond", "--quiet"]).expect(0);
    garden.write("after.lock", &garden.read("gate/bibliotax.lock"));
    garden.write("gate/bibliotax.lock", &garden.read("before.lock"));
    garden.write("gate/bibliotax.toml", &needs("2"));
    garden.run(&["resolve"]).expect(0);
    garden
        .run(&[
            "deprecate",
            "probe-sim",
            "0.9",
            "--reason",
            "too slow for more than ten probes",
            "--instead",
            "moss-map",
            "--registry",
            "seedhouse",
        ])
        .expect(0);
    garden
}

#[test]
fn tables_can_be_read_at_every_width_and_break_no_word() {
    let garden = full_garden();
    let commands: [(&str, &[&str]); 6] = [
        ("newer", &["newer"]),
        ("compare", &["compare", "../before.lock", "../after.lock"]),
        ("update", &["update", "--beyond", "--dry-run"]),
        ("describe", &["describe", "soil-curve"]),
        ("fit", &["fit"]),
        ("store", &["store", "show", "--all"]),
    ];
    for (name, words) in commands {
        let mut shown = String::new();
        for columns in [40, 50, 65, 80, 120, 200] {
            let ran = garden.on_terminal((columns, 100), &[], "gate", words);
            shown += &format!("== {columns} columns\n{}\n", ran.stdout);
            let lines = ran.stdout.lines().filter(|line| line.contains(' '));
            let widest = lines.map(|line| line.chars().count()).max().unwrap();
            let is_path = |line: &str| line.contains("GARDEN");
            assert!(widest <= usize::from(columns) || ran.stdout.lines().any(is_path), "{ran}");
        }
        insta::assert_snapshot!(format!("widths of {name}"), shown);
    }
}

/// A line without what moves the cursor or colours it.
fn strip(line: &str) -> String {
    let mut parts = line.split('\u{1b}');
    let first = parts.next().unwrap_or_default().to_owned();
    first
        + &parts
            .map(|part| part.split_once(|c: char| c.is_ascii_alphabetic()).map_or("", |(_, rest)| rest))
            .collect::<String>()
}
