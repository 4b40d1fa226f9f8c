//! What would use up time or memory: of people who read a manifest, of registries, of servers that are slow on purpose.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::{Duration, Instant};

use serde_json::json;

use crate::garden::Garden;
use crate::server::serve;

/// Serves the files below a folder, those whose path has a word in it a byte at a time, without an end of its own.
pub fn drip(folder: PathBuf, slow: &'static str) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    thread::spawn(move || {
        for stream in listener.incoming().map_while(Result::ok) {
            let folder = folder.clone();
            thread::spawn(move || answer(stream, &folder, slow));
        }
    });
    url
}

fn answer(mut stream: TcpStream, folder: &Path, slow: &str) {
    let mut lines = BufReader::new(stream.try_clone().unwrap()).lines().map_while(Result::ok);
    let head = lines.next().unwrap_or_default();
    let path = head.split(' ').nth(1).unwrap_or("/").trim_start_matches('/').to_owned();
    lines.take_while(|line| !line.is_empty()).for_each(drop);
    let Ok(bytes) = std::fs::read(folder.join(&path)) else {
        let _ = stream.write_all(b"HTTP/1.1 404 Not Found\r\nconnection: close\r\ncontent-length: 0\r\n\r\n");
        return;
    };
    let _ = write!(stream, "HTTP/1.1 200 OK\r\nconnection: close\r\ncontent-length: {}\r\n\r\n", bytes.len());
    if !path.contains(slow) {
        let _ = stream.write_all(&bytes);
        return;
    }
    for byte in bytes {
        thread::sleep(Duration::from_millis(500));
        if stream.write_all(&[byte]).is_err() {
            return;
        }
    }
}

#[test]
fn a_server_that_sends_a_byte_now_and_then_holds_nobody_for_long() {
    let install = |slow: &'static str| {
        let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
        let url = drip(garden.path("seedhouse"), slow);
        let manifest = garden.read("gate/bibliotax.toml").replace("../seedhouse", &url);
        garden.write("gate/bibliotax.toml", &manifest);
        let begun = Instant::now();
        let ran = garden.run(&["install"]).expect(5);
        assert!(begun.elapsed() < Duration::from_secs(150), "{slow}: {:?}", begun.elapsed());
        assert!(ran.stderr.contains("1 KiB"), "{slow}: {ran}");
    };
    thread::scope(|scope| {
        for slow in ["packages/", "files/"] {
            scope.spawn(move || install(slow));
        }
    });
}

/// What reading a manifest may take: memory in KiB beside the program, and seconds of computing.
const READING: &str = "-d 262144, -t 20";

#[test]
fn of_twenty_thousand_faults_twenty_are_told_and_the_rest_are_counted() {
    let kinds = [
        ("[rules]", "kN = 1", "manifest.unknown-key"),
        ("[needs]", "kN = 'x y z'", "range.unexpected"),
        ("[needs]", "kN = { range = '1', from = 'rN' }", "manifest.unknown-registry"),
        ("[needs]", "kN = { range = '1', targets = ['tN'] }", "manifest.unknown-target"),
        ("[tasks]", "tN = { after = ['uN'] }", "manifest.task"),
        ("[devices]", "dN = 'tN'", "manifest.unknown-target"),
        ("[families]", "fN = N", "manifest.unquoted-value"),
        ("", "[needs-for.pN]\nx = 'y z'", "range.unexpected"),
    ];
    for (table, line, code) in kinds {
        let garden = Garden::with(&[]);
        let lines: String = (0..20_000).map(|n| line.replace('N', &n.to_string()) + "\n").collect();
        let head = "[project]\nname = \"gate-kiosk\"\n[registries]\nseedhouse = \"../seedhouse\"\n";
        garden.write("gate/bibliotax.toml", &format!("{head}{table}\n{lines}"));
        let ran = garden.run_within(READING, &["check"]).expect(3);
        assert_eq!(ran.stderr.matches(&format!("({code})")).count(), 20, "{ran}");
        assert!(ran.stderr.trim_end().ends_with("and 19980 more faults not shown"), "{ran}");
        assert!(ran.stderr.len() < 20_000, "{}", ran.stderr.len());
        let output = garden.run_within(READING, &["check", "--format", "json"]).expect(3).json();
        assert_eq!(output["error"]["faults"].as_array().unwrap().len(), 20);
        assert_eq!(output["error"]["more-faults"], 19_980);
    }
}

#[test]
fn of_one_endless_line_only_what_is_around_the_fault_is_shown() {
    let garden = Garden::with(&[]);
    let words: String = (0..20_000).map(|n| format!("t{n} = \"any\", ")).collect();
    garden.write(
        "gate/bibliotax.toml",
        &format!("needs = {{ {words} x = 1 }}\n[project]\nname = \"gate-kiosk\"\n"),
    );
    let ran = garden.run(&["check"]).expect(3);
    assert!(ran.stderr.contains("x = 1") && ran.stderr.len() < 2_000, "{ran}");
}

#[test]
fn long_chains_and_circles_of_tasks_are_followed_in_one_go() {
    let garden = Garden::with(&[]);
    let chain = |last: &str| {
        let head = "[project]\nname = \"gate-kiosk\"\n[tasks]\n";
        let tasks = (1..4_000).map(|n| format!("t{n} = {{ do = \"true\", after = [\"t{}\"] }}\n", n - 1));
        garden.write("gate/bibliotax.toml", &format!("{head}t0 = {last}\n{}", tasks.collect::<String>()));
    };
    chain("\"true\"");
    let ran = garden.run_within(READING, &["task", "--dry-run", "t3999"]).expect(0);
    assert_eq!(ran.stderr.matches("true").count() + ran.stdout.matches("true").count(), 4_000, "{ran}");
    chain("{ after = [\"t3999\"] }");
    let ran = garden.run_within(READING, &["task", "--dry-run", "t3999"]).expect(3);
    assert!(ran.stderr.contains("depends on itself: t0, t3999,"), "{ran}");
    assert!(ran.stderr.len() < 2_000, "{ran}");
}

#[test]
fn a_template_that_wants_all_memory_or_is_nested_without_end_is_refused() {
    let doubled: String = (0..45).map(|_| "{% set s = s ~ s %}").collect();
    let templates = [
        ("doubled", format!("{{% set s = 'moss' %}}{doubled}{{{{ s | length }}}}")),
        ("batched", "{{ [1] | batch(2000000000) | list | length }}".to_owned()),
        ("nested", format!("{{{{ project{} }}}}", "|upper".repeat(50_000))),
        ("blocks", format!("{}{}", "{% if true %}".repeat(30_000), "{% endif %}".repeat(30_000))),
        ("brackets", format!("{{{{ {}1{} }}}}", "[".repeat(100_000), "]".repeat(100_000))),
        ("repeated", "{{ ('moss' * 1000000000) | length }}".to_owned()),
        ("calling", "{% macro m() %}{{ m() }}{{ m() }}{% endmacro %}{{ m() }}".to_owned()),
        (
            "endless",
            "{% for a in range(9999) %}{% for b in range(9999) %}{{ project }}{% endfor %}{% endfor %}"
                .to_owned(),
        ),
    ];
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    for (name, text) in templates {
        garden.write("gate/links/flags.mk", &text);
        let ran = garden.run_within("-t 40", &["install"]).expect(3);
        assert_eq!(ran.code(), "links.template", "{name}: {ran}");
        assert!(ran.stderr.len() < 4_000, "{name}: {ran}");
        assert!(!garden.path("gate/bibliotax.lock").exists(), "{name}");
    }
    garden.write("gate/links/flags.mk", "{{ packages[0].name }}\n");
    garden.run(&["install"]).expect(0);
    assert_eq!(garden.read("gate/shelf/links/gate-kiosk.flags.mk"), "dew-point\n");
}

#[test]
fn of_a_capability_with_tens_of_thousands_of_providers_one_has_to_be_chosen_and_then_it_is_quick() {
    let garden = Garden::needing(
        &["hedge-grid 1.0.0: day-clock 1", "seed-clock 1.0.0: +day-clock"],
        "hedge-grid = \"1\"",
    );
    let at = "2026-03-01T09:00:00Z";
    let line =
        |n: u32| json!({ "event": "provided", "by": format!("clock-{n:05}"), "at": at }).to_string() + "\n";
    let history = garden.read("seedhouse/packages/c2/day-clock.jsonl");
    // The last by name first.
    let more: String = (0..50_000).rev().map(line).collect();
    garden.write("seedhouse/packages/c2/day-clock.jsonl", &(history + &more));
    let ran = garden.run_within(READING, &["install"]).expect(3);
    assert_eq!(ran.code(), "package.ambiguous");
    assert!(ran.stderr.contains("and 49993 more provide day-clock") && ran.stderr.len() < 1_000, "{ran}");
    let described = garden.run_within(READING, &["describe", "day-clock"]).expect(0);
    assert!(described.stdout.ends_with("and 49951 more\n") && described.stdout.len() < 2_000, "{described}");
    garden.run_within(READING, &["need", "hedge-grid", "seed-clock"]).expect(0);
    assert!(garden.shelf().iter().any(|path| path.contains("seed-clock")));
    let served = serve(&garden);
    let manifest = garden.read("gate/bibliotax.toml").replace("../seedhouse", &served.url);
    garden.write("gate/bibliotax.toml", &manifest);
    garden.run_within(READING, &["update"]).expect(0);
}

#[test]
fn a_history_stays_readable_whatever_its_publisher_says_of_it() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    let long = "too wet ".repeat(120);
    for n in 0..68 {
        let reason = format!("{long}{n}");
        garden
            .run(&["deprecate", "dew-point", "1", "--reason", &reason, "--registry", "seedhouse"])
            .expect(0);
    }
    garden.run(&["install"]).expect(0);
    let reason = "too wet ".repeat(1 << 12);
    let args = ["deprecate", "dew-point", "1", "--reason", &reason, "--registry", "seedhouse"];
    assert_eq!(garden.run(&args).expect(5).code(), "event.wrong-reason");
    // A release whose needs alone fill a megabyte.
    let needs: Vec<_> =
        (0..20_000).map(|n| json!({ "name": format!("moss-{n}"), "range": "1, < 1.5" })).collect();
    let card = json!({ "name": "fern", "version": "1.0.0", "published": "2026-03-01T09:00:00Z", "needs": needs, "files": [] });
    garden.write("fern.jsonl", &format!("{card}\n"));
    let refused = garden.run_in(".", &["registry", "load", "seedhouse", "fern.jsonl"]);
    assert!(refused.status != 0 && refused.stderr.contains("the limit is 256 KiB"), "{refused}");
    assert!(!garden.path("seedhouse/packages").join("fern.jsonl").exists());
    garden.run(&["update"]).expect(0);
}
