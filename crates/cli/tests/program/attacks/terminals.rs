//! Texts that a terminal would act on: in a registry's cards and reasons, in a colleague's manifest, in a server's answers.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::process::Command;
use std::thread;

use bibliotax_core::digest::Digest;

use crate::garden::Garden;

/// Stands for the hostile text until the registry is made.
const PLACE: &str = "Qmoss";

/// What a terminal would act on, or nobody would see: a colour, a cleared screen, a title, C1, bidirectional controls, letters
/// without width, and lines that look like ours.
const HOSTILE: &str = "\u{1b}[31mred\u{1b}[2J\u{1b}]0;title\u{7}\u{9b}2K\u{90}x\u{202e}moc\u{2066}\u{200b}\u{feff}\u{7f}\u{8}\r\nFAKE: all is well";

/// The same without what TOML and names of files can't have.
const HOSTILE_LINE: &str = "\u{9b}2K\u{90}x\u{202e}moc\u{2066}\u{200b}\u{feff}";

/// Releases whose every text is hostile, in a registry that nobody checked.
fn garden() -> Garden {
    let garden = Garden::bare();
    let mut cards = String::new();
    for (version, more) in [("1.0.0", ""), ("1.1.0", ""), ("2.0.0", "")] {
        for (name, needs) in [
            ("moss-map", serde_json::json!([{ "name": "dew-point", "range": "1" }])),
            ("dew-point", serde_json::json!([])),
        ] {
            let archive = format!("archives/{name}-{version}.tar");
            garden.write_tar(&archive, &[("moss.txt", format!("{name} {version}{more}\n").as_bytes())]);
            let card = serde_json::json!({ "name": name, "version": version, "published": "2026-03-01T09:00:00Z",
                "summary": format!("Maps {PLACE}"), "description": PLACE, "tags": ["moss"], "notes": PLACE,
                "homepage": format!("https://seedhouse.example/{PLACE}"), "repository": format!("https://seedhouse.example/{PLACE}"),
                "needs": needs, "files": [{ "path": archive }], "programs":{ "moss-tool": "1" }, "exposes": { "data": ["moss.txt"] },
                "components": { "extra": { "summary": PLACE, "needs": [], "parts": [] } },
                "steps": [{ "id": "wash", "text": PLACE, "check": { "file": "moss.txt", "contains": PLACE } }] });
            cards += &format!("{card}\n");
        }
    }
    for event in [
        serde_json::json!({ "event": "withdrawn", "name": "dew-point", "version": "1.0.0", "reason": PLACE, "at": "2026-03-02T09:00:00Z" }),
        serde_json::json!({ "event": "deprecated", "name": "dew-point", "range": "1", "reason": PLACE, "instead": "moss-map", "at": "2026-03-02T09:00:00Z" }),
        serde_json::json!({ "event": "deprecated", "name": "moss-map", "range": "1", "reason": PLACE, "at": "2026-03-02T09:00:00Z" }),
    ] {
        cards += &format!("{event}\n");
    }
    garden.load(&cards);
    make_hostile(&garden);
    assert!(garden.run_in(".", &["registry", "check", "seedhouse", "--repair"]).status <= 1);
    garden.write("gate/bibliotax.toml", &manifest(""));
    garden
}

fn manifest(more: &str) -> String {
    format!(
        "[project]\nname = \"gate-kiosk\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n\n[registries]\nseedhouse = \"../seedhouse\"\n\n[needs]\nmoss-map = \"1\"\n\n\
         [tasks]\nshow = \"true '{HOSTILE_LINE}'\"\nfail = {{ do = \"false\", after = [\"show\"] }}\n\n[card]\nsummary = \"x\"\nfiles = [\"*.txt\"]\n{more}"
    )
}

/// Puts the hostile text in place of the other, in histories and cards, whose digests follow.
fn make_hostile(garden: &Garden) {
    let as_json = serde_json::to_string(HOSTILE).unwrap();
    let hostile = &as_json[1..as_json.len() - 1];
    let mut digests = Vec::new();
    for path in files_below(garden, "seedhouse/files") {
        let text = String::from_utf8_lossy(&fs::read(&path).unwrap()).into_owned();
        if !text.contains(PLACE) {
            continue;
        }
        let (old, text) =
            (path.file_name().unwrap().to_string_lossy().into_owned(), text.replace(PLACE, hostile));
        let digest = Digest::of(text.as_bytes()).to_string();
        garden.write(&format!("seedhouse/files/{}/{digest}", &digest[..2]), &text);
        fs::remove_file(&path).unwrap();
        digests.push((old, digest));
    }
    for path in files_below(garden, "seedhouse/packages") {
        let text = fs::read_to_string(&path).unwrap().replace(PLACE, hostile);
        let text = digests.iter().fold(text, |text, (old, new)| text.replace(old, new));
        fs::write(&path, text).unwrap();
    }
    assert_eq!(digests.len(), 6);
}

fn files_below(garden: &Garden, folder: &str) -> Vec<std::path::PathBuf> {
    let found = Command::new("find").arg(garden.path(folder)).args(["-type", "f"]).output().unwrap();
    String::from_utf8(found.stdout).unwrap().lines().map(Into::into).collect()
}

/// Everything that a terminal gets while a command runs on it.
fn on_terminal(garden: &Garden, args: &[&str]) -> String {
    let quoted = |word: &str| format!("'{}'", word.replace('\'', "'\\''"));
    let words: Vec<String> =
        [env!("CARGO_BIN_EXE_bibliotax")].iter().chain(args).map(|word| quoted(word)).collect();
    let plain = garden.command("gate", args);
    let mut command = Command::new("script");
    command.args(["-qec", &words.join(" "), "/dev/null"]).current_dir(garden.path("gate")).env_clear();
    command
        .envs(plain.get_envs().filter_map(|(name, value)| Some((name, value?))))
        .env("TERM", "xterm-256color");
    let output = command.output().unwrap();
    String::from_utf8(output.stdout).unwrap_or_else(|error| panic!("{args:?}: {error}"))
}

/// The text without styles, and without what draws progress.
fn without_our_own(seen: &str) -> String {
    let mut pieces = seen.split("\u{1b}[");
    let mut rest = pieces.next().unwrap_or_default().to_owned();
    for piece in pieces {
        let end = piece.find(|c: char| !c.is_ascii_digit() && c != ';').unwrap_or(piece.len());
        let is_ours = piece[end..].starts_with(['m', 'K', 'A', 'B', 'G']);
        rest.push_str(if is_ours { &piece[end + 1..] } else { "\u{1b}" });
    }
    rest
}

/// Fails where a terminal got something to act on that isn't our own, or a line that isn't ours.
#[track_caller]
fn assert_harmless(args: &[&str], seen: &str) {
    for foreign in ["\u{1b}[31mred", "\u{1b}[2J", "\u{1b}]", "\u{7}"] {
        assert!(!seen.contains(foreign), "{args:?}: {seen:?}");
    }
    let rest = without_our_own(seen);
    let hidden = rest.chars().find(|c| {
        (c.is_control() && !matches!(c, '\r' | '\n' | '\t'))
            || matches!(c, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' | '\u{feff}' | '\u{e0000}'..='\u{e0fff}')
    });
    assert!(hidden.is_none(), "{args:?}: {hidden:?} in {seen:?}");
    // A long text may be broken anywhere, but then it is indented.
    assert!(!rest.split(['\n', '\r']).any(|line| line.starts_with("FAKE")), "{args:?}: {seen}");
}

#[test]
fn no_command_lets_a_registry_write_to_the_terminal() {
    let garden = garden();
    garden.write("gate/moss.txt", "moss\n");
    let commands: &[&[&str]] = &[
        &["find", "maps"],
        &["find", "moss"],
        &["describe", "moss-map"],
        &["describe", "dew-point", "1.0.0"],
        &["describe", "dew-point", "--releases"],
        &["fit", "moss-map"],
        &["resolve", "--dry-run"],
        &["install", "-vv"],
        &["install"],
        &["need", "dew-point", "1.0.0", "--dry-run"],
        &["need", "dew-point", "3"],
        &["need", "moss-map", "2", "--dry-run"],
        &["update", "--dry-run"],
        &["update", "--beyond", "--dry-run"],
        &["update", "dew-point", "--to", "1.0.0"],
        &["verify", "--store"],
        &["graph"],
        &["graph", "--format", "dot"],
        &["explain", "dew-point"],
        &["explain", "dew-point", "2"],
        &["newer"],
        &["compare"],
        &["compare", "bibliotax.lock"],
        &["steps"],
        &["steps", "check"],
        &["steps", "done", "wash"],
        &["ready"],
        &["check"],
        &["kit", "make", "gate.kit"],
        &["kit", "open", "gate.kit"],
        &["store", "show"],
        &["store", "check"],
        &["store", "trim"],
        &["publish", "--dry-run"],
        &["task"],
        &["task", "show"],
        &["task", "fail"],
        &["with", "true"],
        &["registry", "check", "../seedhouse"],
        &["registry", "mirror", "../seedhouse", "../mirror"],
        &["withdraw", "dew-point", "1.1.0", "--reason", HOSTILE],
        &["withdraw", "dew-point", "1.1.0", "--reason", "wet", "--dry-run"],
        &["deprecate", "dew-point", "1", "--reason", HOSTILE],
        &["init", HOSTILE_LINE],
        &["drop", "moss-map"],
    ];
    for args in commands {
        let text = on_terminal(&garden, args);
        assert!(
            !text.trim().is_empty() || args[0] == "with" || args[1..] == ["show"],
            "{args:?} says nothing"
        );
        assert_harmless(args, &text);
        let json = [args, &["--format", "json"][..]].concat();
        assert_harmless(&json, &on_terminal(&garden, &json));
        if args[0] == "install" {
            garden.run(&["verify"]).expect(0);
        }
    }
}

#[test]
fn no_manifest_writes_to_the_terminal() {
    let garden = garden();
    let line = HOSTILE_LINE;
    let escapes = "\\u001b[31mred\\u001b]0;x\\u0007\\u009b2K\\u202e";
    for wrong in [
        format!("[rules] # {line}\nmoss = 1\n"),
        format!("[rules]\n\"{escapes}\" = 1\n"),
        format!("[facets.moss]\nkind = \"{escapes}\"\n"),
        format!("[[card.steps]]\nid = \"{line}\"\ntext = \"{escapes}\"\n"),
        format!("[stand-ins]\ndew-point = {{ path = \"{escapes}\" }}\n"),
        format!("[stand-ins]\ndew-point = {{ git = \"https://seedhouse.example/{escapes}\" }}\n"),
        format!("[stand-ins]\ndew-point = {{ archive = \"{line}\", sha256 = \"{escapes}\" }}\n"),
        format!("[workspace]\nfolders = [\"{escapes}\"]\n"),
        format!("[capabilities]\nmoss = \"{escapes}\"\n"),
        line.to_owned(),
    ] {
        garden.write("gate/bibliotax.toml", &manifest(&wrong));
        for args in
            [&["check"][..], &["install"], &["ready"], &["check", "--format", "json"], &["task", "show"]]
        {
            assert_harmless(args, &on_terminal(&garden, args));
        }
    }
    let elsewhere = manifest("").replace("../seedhouse", &format!("../{escapes}"));
    garden.write("gate/bibliotax.toml", &elsewhere);
    assert_harmless(&["install"], &on_terminal(&garden, &["install"]));
}

#[test]
fn no_server_writes_to_the_terminal() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let detail = serde_json::to_string(HOSTILE).unwrap();
    thread::spawn(move || {
        for (number, mut stream) in listener.incoming().map_while(Result::ok).enumerate() {
            let _ = stream.read(&mut [0; 4096]);
            let body = format!(
                "{{\"code\":{detail},\"title\":{detail},\"detail\":{detail},\"name\":{detail},\"service\":{detail}}}"
            );
            let status = ["400 \u{9b}2J", "403 No", "200 OK", "422 No"][number % 4];
            let answer = format!(
                "HTTP/1.1 {status}\r\ncontent-type: application/problem+json\r\nconnection: close\r\ncontent-length: {}\r\n\r\n{body}",
                body.len()
            );
            let _ = stream.write_all(answer.as_bytes());
        }
    });
    let garden = Garden::bare();
    garden.write("gate/bibliotax.toml", &manifest("").replace("../seedhouse", &url));
    garden.write("gate/moss.txt", "moss\n");
    for args in [
        &["install"][..],
        &["find", "moss"],
        &["describe", "moss-map"],
        &["publish"],
        &["ready"],
        &["install", "--format", "json"],
    ] {
        for _ in 0..4 {
            assert_harmless(args, &on_terminal(&garden, args));
        }
    }
}

#[test]
fn a_registry_takes_no_hidden_letters() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    for (more, ran) in [
        ("summary = \"\\u001b[31mx\"\n", "\\u{1b}"),
        ("notes = \"\"\"a\nb\u{202e}\"\"\"\n", "\\u{202e} after `a b`"),
        ("description = \"a\\u009b\"\n", "\\u{9b}"),
    ] {
        garden.write("gate/bibliotax.toml", &manifest("").replace("summary = \"x\"\n", more));
        garden.write("gate/moss.txt", "moss\n");
        let refused = garden.run(&["publish"]).expect(3);
        assert!(refused.code() == "card.hidden-letter" && refused.stderr.contains(ran), "{refused}");
    }
    for reason in ["two\nlines", "\u{1b}[2J", "a\u{202e}b", &"x".repeat(1001)] {
        for args in [
            &["withdraw", "dew-point", "1.4.0", "--reason", reason][..],
            &["deprecate", "dew-point", "1", "--reason", reason],
        ] {
            assert_eq!(garden.run(args).expect(5).code(), "event.wrong-reason", "{reason:?}");
        }
        let event = serde_json::json!({ "event": "withdrawn", "name": "dew-point", "version": "1.4.0", "reason": reason, "at": "2026-03-02T09:00:00Z" });
        garden.write("events.jsonl", &format!("{event}\n"));
        garden.run_in(".", &["registry", "load", "seedhouse", "events.jsonl"]).expect(3);
    }
    garden.run(&["withdraw", "dew-point", "1.4.0", "--reason", "Schimmel – 苔"]).expect(0);
}
