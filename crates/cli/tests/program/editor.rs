//! The language server, spoken to over its pipes as an editor does.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::process::{Child, ChildStdin, Stdio};
use std::sync::LazyLock;
use std::sync::mpsc::{Receiver, channel};
use std::time::{Duration, Instant};

use bibliotax_core::digest::Digest;
use serde_json::{Value, json};

use crate::garden::Garden;
use crate::outside::needed;

/// How long an answer may take before a test has failed.
const PATIENCE: Duration = Duration::from_secs(30);

/// An editor that talks with the language server.
struct Editor<'g> {
    garden: &'g Garden,
    child: Child,
    to: ChildStdin,
    from: Receiver<Value>,
    asked: i64,
    /// What was published last about each file.
    diagnostics: BTreeMap<String, Value>,
    /// What else the server said.
    said: Vec<Value>,
    version: i64,
}

impl<'g> Editor<'g> {
    fn start(garden: &'g Garden) -> Self {
        Self::with(garden, &json!(["utf-16"]))
    }

    fn with(garden: &'g Garden, encodings: &Value) -> Self {
        let mut command = garden.command("gate", &["language-server", "--stdio"]);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        let (to, out) = (child.stdin.take().unwrap(), child.stdout.take().unwrap());
        let (heard, from) = channel();
        std::thread::spawn(move || {
            let mut out = BufReader::new(out);
            while let Some(message) = read_message(&mut out) {
                if heard.send(message).is_err() {
                    return;
                }
            }
        });
        let (diagnostics, said) = (BTreeMap::new(), Vec::new());
        let mut editor = Self { garden, child, to, from, asked: 0, diagnostics, said, version: 1 };
        let capabilities = json!({ "general": { "positionEncodings": encodings }, "window": { "workDoneProgress": true },
            "workspace": { "inlayHint": { "refreshSupport": true }, "didChangeWatchedFiles": { "dynamicRegistration": true } } });
        editor
            .ask("initialize", &json!({ "capabilities": capabilities, "processId": null, "rootUri": null }))
            .unwrap();
        editor.notify("initialized", &json!({}));
        editor
    }

    fn send(&mut self, message: &Value) {
        let text = message.to_string();
        write!(self.to, "Content-Length: {}\r\n\r\n{text}", text.len()).unwrap();
        self.to.flush().unwrap();
    }

    fn notify(&mut self, method: &str, params: &Value) {
        self.send(&json!({ "jsonrpc": "2.0", "method": method, "params": params }));
    }

    /// The answer to a question, or the message of its error.
    fn ask(&mut self, method: &str, params: &Value) -> Result<Value, String> {
        self.asked += 1;
        let id = self.asked;
        self.send(&json!({ "jsonrpc": "2.0", "id": id, "method": method, "params": params }));
        let answer = self.until(|_, message| message["id"] == id && message["method"].is_null());
        match answer.get("error") {
            Some(error) => Err(error["message"].as_str().unwrap().to_owned()),
            None => Ok(answer["result"].clone()),
        }
    }

    /// Waits for a message; what comes before it is noted.
    fn until(&mut self, mut is_it: impl FnMut(&Self, &Value) -> bool) -> Value {
        let begun = Instant::now();
        loop {
            let left =
                PATIENCE.checked_sub(begun.elapsed()).expect("the server didn't say what was waited for");
            let Ok(message) = self.from.recv_timeout(left) else {
                panic!("the server says nothing more; it published {:#?}", self.diagnostics)
            };
            if message["method"] == "textDocument/publishDiagnostics" {
                let params = message["params"].clone();
                are_documented(&params);
                self.diagnostics.insert(params["uri"].as_str().unwrap().to_owned(), params);
            } else {
                self.said.push(message.clone());
            }
            if is_it(self, &message) {
                return message;
            }
        }
    }

    fn uri(&self, file: &str) -> String {
        format!("file://{}", self.garden.path(file).display())
    }

    fn open(&mut self, file: &str, text: &str) -> String {
        let uri = self.uri(file);
        self.notify(
            "textDocument/didOpen",
            &json!({ "textDocument": { "uri": uri, "languageId": "toml", "version": self.version, "text": text } }),
        );
        uri
    }

    fn change(&mut self, uri: &str, text: &str) {
        self.version += 1;
        let document = json!({ "uri": uri, "version": self.version });
        self.notify(
            "textDocument/didChange",
            &json!({ "textDocument": document, "contentChanges": [{ "text": text }] }),
        );
    }

    /// Waits until what is published about a file, in its last version, is as wanted; the diagnostics.
    fn diagnosed(&mut self, uri: &str, is_wanted: impl Fn(&[Value]) -> bool) -> Vec<Value> {
        let version = self.version;
        let found = |editor: &Self| -> Option<Vec<Value>> {
            let published = editor
                .diagnostics
                .get(uri)
                .filter(|one| one["version"].is_null() || one["version"] == version)?;
            let all = published["diagnostics"].as_array().unwrap().clone();
            is_wanted(&all).then_some(all)
        };
        if let Some(all) = found(self) {
            return all;
        }
        self.until(|editor, _| found(editor).is_some());
        found(self).unwrap()
    }

    fn codes(&mut self, uri: &str, codes: &[&str]) -> Vec<Value> {
        self.diagnosed(uri, |all| {
            all.iter().map(|one| one["code"].as_str().unwrap()).collect::<Vec<_>>() == codes
        })
    }

    /// A place in a text: where this word is first found, behind it if `behind`.
    fn at(&self, uri: &str, text: &str, word: &str, behind: bool) -> Value {
        let at = text.find(word).unwrap() + if behind { word.len() } else { 0 };
        json!({ "textDocument": { "uri": uri }, "position": position(text, at) })
    }

    /// The labels of what could stand behind a word.
    fn completed(&mut self, uri: &str, text: &str, word: &str) -> Vec<Value> {
        let at = self.at(uri, text, word, true);
        self.ask("textDocument/completion", &at).unwrap()["items"].as_array().unwrap().clone()
    }

    /// What can be done at a word, by its title.
    fn actions(&mut self, uri: &str, text: &str, word: &str) -> Vec<Value> {
        let place = self.at(uri, text, word, false)["position"].clone();
        let range = json!({ "start": place, "end": place });
        let params =
            json!({ "textDocument": { "uri": uri }, "range": range, "context": { "diagnostics": [] } });
        self.ask("textDocument/codeAction", &params).unwrap().as_array().unwrap().clone()
    }
}

/// Fails unless the page of errors has each code that is published.
fn are_documented(published: &Value) {
    static PAGE: LazyLock<String> = LazyLock::new(|| crate::docs::text_of("docs/errors.md"));
    for found in published["diagnostics"].as_array().unwrap() {
        let code = found["code"].as_str().unwrap();
        assert!(PAGE.contains(&format!("| `{code}` |")), "docs/errors.md has no {code}");
    }
}

impl Drop for Editor<'_> {
    fn drop(&mut self) {
        // One that ended already is gone.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn read_message(out: &mut impl BufRead) -> Option<Value> {
    let mut length = 0;
    loop {
        let mut line = String::new();
        if out.read_line(&mut line).ok()? == 0 {
            return None;
        }
        if let Some(value) = line.strip_prefix("Content-Length:") {
            length = value.trim().parse().unwrap();
        }
        if line == "\r\n" {
            break;
        }
    }
    let mut text = vec![0; length];
    out.read_exact(&mut text).ok()?;
    Some(serde_json::from_slice(&text).unwrap())
}

/// The position of a byte, in units of UTF-16.
fn position(text: &str, at: usize) -> Value {
    let line = text[..at].matches('\n').count();
    let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
    json!({ "line": line, "character": text[start..at].encode_utf16().count() })
}

/// A text after the edits of a workspace edit that are about a file.
fn edited(text: &str, edit: &Value, uri: &str) -> String {
    let byte = |position: &Value| {
        let line = usize::try_from(position["line"].as_u64().unwrap()).unwrap();
        let start: usize = text.split_inclusive('\n').take(line).map(str::len).sum();
        let wanted = usize::try_from(position["character"].as_u64().unwrap()).unwrap();
        let mut units = 0;
        let letters = text[start..].char_indices();
        let behind = letters.take_while(|(_, letter)| {
            units += letter.len_utf16();
            units <= wanted
        });
        start + behind.map(|(_, letter)| letter.len_utf8()).sum::<usize>()
    };
    let mut edits: Vec<(usize, usize, &str)> = edit["changes"][uri]
        .as_array()
        .unwrap_or_else(|| panic!("no edits of {uri}: {edit:#}"))
        .iter()
        .map(|one| {
            (byte(&one["range"]["start"]), byte(&one["range"]["end"]), one["newText"].as_str().unwrap())
        })
        .collect();
    edits.sort_by_key(|(start, ..)| std::cmp::Reverse(*start));
    let mut made = text.to_owned();
    for (start, end, new) in edits {
        made.replace_range(start..end, new);
    }
    made
}

fn titled<'a>(actions: &'a [Value], title: &str) -> &'a Value {
    let found = actions.iter().find(|one| one["title"] == title);
    found.unwrap_or_else(|| {
        panic!("no {title:?} in {:?}", actions.iter().map(|one| &one["title"]).collect::<Vec<_>>())
    })
}

fn labels(items: &[Value]) -> Vec<&str> {
    items.iter().map(|item| item["label"].as_str().unwrap()).collect()
}

/// A project with a target, and a registry with a few packages.
fn garden() -> Garden {
    let garden = Garden::with(&[]);
    let card = |name: &str, version: &str, day: u8, more: Value| {
        let mut card = json!({ "name": name, "version": version, "published": format!("2026-02-{day:02}T09:00:00Z"), "license": "MIT" });
        card.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        format!("{card}\n")
    };
    garden.write_tar("archives/dew-point.tar", &[("dew.h", b"1\n")]);
    let pond = |range: &str| json!({ "name": "pond-level", "range": range });
    let of_rain = json!({ "needs": [{ "name": "dew-point", "range": "1" }, pond("1")] });
    garden.load(
        &[
            card(
                "dew-point",
                "1.4.0",
                1,
                json!({ "summary": "Says when dew falls", "homepage": "https://dew.example/", "files": [{ "path": "archives/dew-point.tar" }] }),
            ),
            card("dew-point", "2.0.0", 5, json!({ "fits": { "os": "windows" } })),
            card("moss-map", "1.2.0", 2, json!({ "needs": [pond("1")] })),
            card("moss-map", "3.0.0", 9, json!({ "needs": [pond("2")] })),
            card("pergola/core", "3.2.0", 3, json!({ "license": "MPL-2.0" })),
            card("pond-level", "1.0.0", 3, json!({})),
            card("pond-level", "2.0.0", 6, json!({})),
            card("rain-ledger", "2.4.0", 4, of_rain.clone()),
            card("rain-ledger", "2.5.0", 7, of_rain),
        ]
        .concat(),
    );
    garden
}

/// A manifest with these needs and a target.
fn manifest(garden: &Garden, needs: &str) -> String {
    let begin = garden.read("gate/bibliotax.toml");
    format!("{begin}{needs}\n[targets.kiosk]\nos = \"linux\"\narch = \"x86_64\"\n")
}

#[test]
fn a_slip_is_shown_at_once_and_its_fix_is_an_edit() {
    let garden = garden();
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", &manifest(&garden, ""));
    editor.codes(&uri, &[]);
    for (needs, code, title, fixed) in [
        ("dew-point = “1”", "manifest.curly-quotes", "Write `dew-point = \"1\"`", "dew-point = \"1\""),
        ("dew-point = 1.4", "manifest.unquoted-value", "Write `\"1.4\"`", "dew-point = \"1.4\""),
        ("dew-point = ^1.4", "manifest.unquoted-value", "Write `\"^1.4\"`", "dew-point = \"^1.4\""),
        ("dew-point = \"^1.4\"", "range.unexpected", "Write `1.4 .. 2`", "dew-point = \"1.4 .. 2\""),
        (
            "pergola/core = \"3\"",
            "manifest.unquoted-name",
            "Write `\"pergola/core\"`",
            "\"pergola/core\" = \"3\"",
        ),
        ("🌿 = 1\n", "manifest.syntax", "", ""),
        (
            "x = { range = \"1\", targts = [\"kiosk\"] }",
            "manifest.unknown-key",
            "Write `targets`",
            "x = { range = \"1\", targets = [\"kiosk\"] }",
        ),
        (
            "x = { range = \"1\", targets = [\"kiosk\" \"desk\"] }",
            "manifest.missing-comma",
            "Write `,`",
            "x = { range = \"1\", targets = [\"kiosk\", \"desk\"] }",
        ),
    ] {
        let text = manifest(&garden, needs);
        editor.change(&uri, &text);
        let found = editor.codes(&uri, &[code]);
        assert_eq!((&found[0]["source"], &found[0]["severity"]), (&json!("bibliotax"), &json!(1)));
        if !title.is_empty() {
            let word = needs.split(['=', ' ']).next().unwrap();
            let actions = editor.actions(&uri, &text, word);
            let made = edited(&text, &titled(&actions, title)["edit"], &uri);
            assert_eq!(made, manifest(&garden, fixed), "{needs}");
        }
    }
    // What is right again is clean again.
    editor.change(&uri, &manifest(&garden, "dew-point = \"1\""));
    editor.codes(&uri, &[]);
}

#[test]
fn after_a_pause_unknown_packages_and_empty_ranges_are_shown() {
    let garden = garden();
    let mut editor = Editor::start(&garden);
    let text = manifest(&garden, "dew-piont = \"1\"\nmoss-map = \"7\"");
    let uri = editor.open("gate/bibliotax.toml", &text);
    let found = editor.codes(&uri, &["package.unknown", "range.no-release"]);
    assert_eq!(found[0]["message"], "no registry has a package dew-piont\ntry: `dew-point`");
    assert_eq!(found[1]["message"], "no release of moss-map matches 7 (available: 3.0.0, 1.2.0)");
    assert_eq!(found[0]["range"]["start"], position(&text, text.find("dew-piont").unwrap()));
    let actions = editor.actions(&uri, &text, "dew-piont");
    let made = edited(&text, &titled(&actions, "Write `dew-point`")["edit"], &uri);
    assert!(made.contains("dew-point = \"1\""), "{made}");
    let actions = editor.actions(&uri, &text, "moss-map");
    let made = edited(&text, &titled(&actions, "Need the newest that fits: 3 .. 4")["edit"], &uri);
    assert!(made.contains("moss-map = \"3 .. 4\""), "{made}");
}

#[test]
fn a_conflict_is_shown_at_each_need_with_its_sentences_and_its_ways_out() {
    let garden = garden();
    let mut editor = Editor::start(&garden);
    let text = manifest(&garden, "moss-map = \"3\"\nrain-ledger = \"2\"");
    let uri = editor.open("gate/bibliotax.toml", &text);
    let found = editor.codes(&uri, &["resolve.conflict", "resolve.conflict"]);
    let related: Vec<&str> = found[0]["relatedInformation"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["message"].as_str().unwrap())
        .collect();
    assert_eq!(
        related,
        [
            "gate-kiosk needs moss-map 3.",
            "moss-map 3.0.0 needs pond-level 2.",
            "gate-kiosk needs rain-ledger 2.",
            "All releases of rain-ledger need pond-level 1.",
            "No release of pond-level is in both 2 and 1.",
        ]
    );
    let actions = editor.actions(&uri, &text, "moss-map");
    let titles: Vec<&str> = actions.iter().map(|one| one["title"].as_str().unwrap()).collect();
    assert_eq!(
        titles,
        [
            "Change moss-map to 1.2.0",
            "Remove moss-map",
            "Remove rain-ledger",
            "Need the newest that fits: 3 .. 4"
        ]
    );
    let made = edited(&text, &titled(&actions, "Change moss-map to 1.2.0")["edit"], &uri);
    assert!(made.contains("moss-map = \"1"), "{made}");
    editor.change(&uri, &made);
    editor.codes(&uri, &[]);
}

#[test]
fn keys_packages_ranges_and_names_are_completed_also_in_broken_texts() {
    let garden = garden();
    let mut editor = Editor::start(&garden);
    let whole = manifest(&garden, "");
    let uri = editor.open("gate/bibliotax.toml", &whole);
    editor.codes(&uri, &[]);
    // The registries are known once a run is over.
    editor.change(&uri, &manifest(&garden, "nobody = \"1\""));
    editor.codes(&uri, &["package.unknown"]);
    for (needs, at, expected) in [
        ("rai", "rai", vec!["rain-ledger"]),
        ("core", "core", vec!["pergola/core"]),
        ("\"pergola/", "pergola/", vec!["pergola/core"]),
        ("dew-point = \"", "dew-point = \"", vec!["1.4 .. 2", "2 .. 3"]),
        ("dew-point = { ra", "{ ra", vec!["range", "targets", "from"]),
        ("dew-point = { range = \"1\", targets = [\"", "targets = [\"", vec!["kiosk"]),
        ("dew-point = { from = \"", "from = \"", vec!["seedhouse"]),
        ("dew-point = { prereleases = ", "prereleases = ", vec!["true", "false"]),
        ("[ru", "[ru", vec!["rules", "targets", "registries"]),
        ("[targets.desk]\nor", "\nor", vec!["os", "arch"]),
        ("[targets.desk]\nos = \"", "os = \"", vec!["linux", "windows"]),
        ("[rules.licenses]\naccept = [\"Apa", "\"Apa", vec!["Apache-2.0"]),
        ("[rules.licenses]\notherwise = ", "otherwise = ", vec!["accept", "ask", "refuse"]),
        ("[needs-for.", "[needs-for.", vec!["test"]),
        ("[devices]\nhand-3 = \"", "hand-3 = \"", vec!["kiosk"]),
        ("[links]\nfor = [\"", "for = [\"", vec!["make", "cmake"]),
    ] {
        let text = manifest(&garden, needs);
        editor.change(&uri, &text);
        let items = editor.completed(&uri, &text, at);
        for label in expected {
            assert!(labels(&items).contains(&label), "{needs}: {label} is not in {:?}", labels(&items));
        }
    }
    // A package comes with a range, and with what is known of it.
    let text = manifest(&garden, "dew");
    editor.change(&uri, &text);
    let items = editor.completed(&uri, &text, "dew");
    assert_eq!(items[0]["textEdit"]["newText"], "dew-point = \"2 .. 3\"");
    assert_eq!(items[0]["detail"], "2.0.0, seedhouse");
    let item = editor.ask("completionItem/resolve", &items[0]).unwrap();
    assert!(item["documentation"]["value"].as_str().unwrap().contains("MIT"), "{item:#}");
    // Of ranges the newest that fits comes first.
    let text = manifest(&garden, "dew-point = \"");
    editor.change(&uri, &text);
    let items = editor.completed(&uri, &text, "dew-point = \"");
    assert_eq!(labels(&items), ["1.4 .. 2", "2 .. 3"]);
    assert_eq!(items[1]["detail"], "2.0.0, 2026-02-05, doesn't fit kiosk");
}

#[test]
fn a_card_beside_a_manifest_is_completed_and_explained_like_it() {
    let garden = garden();
    garden.write_tar("fern.tar", &[("glow.h", b"1\n")]);
    let digest = Digest::of(&fs::read(garden.path("fern.tar")).unwrap());
    let source = format!("archive = \"../fern.tar\", sha256 = \"{digest}\"");
    let root = manifest(&garden, &format!("fern-glow = {{ {source}, card = \"fern-glow.toml\" }}"));
    let card = "version = \"1.0.0\"\n[needs]\ndew-point = \"1\"\n";
    garden.write("gate/bibliotax.toml", &root);
    garden.write("gate/fern-glow.toml", card);
    garden.run(&["resolve"]).expect(0);
    let mut editor = Editor::start(&garden);
    let manifest = editor.open("gate/bibliotax.toml", &root);
    editor.codes(&manifest, &[]);
    let uri = editor.open("gate/fern-glow.toml", card);
    // The registries are known once a run is over.
    let unknown = card.replace("dew-point", "nobody");
    editor.change(&uri, &unknown);
    editor.until(|_, message| {
        let params = &message["params"];
        params["uri"] == manifest && params["diagnostics"][0]["code"] == "resolve.conflict"
    });
    for (more, label) in [
        ("rai", "rain-ledger"),
        ("moss-map = \"", "1.2 .. 2"),
        ("[fits]\nos = \"", "linux"),
        ("[fi", "fits"),
        ("license = \"Apa", "Apache-2.0"),
    ] {
        let text = format!("{card}{more}");
        editor.change(&uri, &text);
        let items = editor.completed(&uri, &text, more);
        assert!(labels(&items).contains(&label), "{more}: {label} is not in {:?}", labels(&items));
    }
    editor.change(&uri, card);
    let at = editor.at(&uri, card, "dew-point", false);
    let hover = editor.ask("textDocument/hover", &at).unwrap();
    assert!(hover["contents"]["value"].as_str().unwrap().starts_with("**dew-point** 1.4.0"), "{hover}");
}

#[test]
fn what_is_known_of_a_package_is_shown_beside_and_behind_its_need() {
    let garden = garden();
    garden.write("gate/bibliotax.toml", &manifest(&garden, "dew-point = \"1\"\nrain-ledger = \"2\""));
    garden.run(&["install"]).expect(0);
    let text = garden.read("gate/bibliotax.toml");
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", &text);
    // What is locked says nothing of the target's facets.
    let found = editor.codes(&uri, &["fit.not-declared", "fit.not-declared"]);
    assert_eq!(
        found[0]["message"],
        "dew-point 1.4.0 doesn't declare compatibility with arch, os (kiosk)\ntry: `bibliotax fit dew-point` shows where it works"
    );
    // What is newer is known a moment later.
    editor.until(|_, message| message["method"] == "workspace/inlayHint/refresh");
    let at = editor.at(&uri, &text, "dew-point", false);
    let hover = editor.ask("textDocument/hover", &at).unwrap();
    let shown = hover["contents"]["value"].as_str().unwrap();
    for part in [
        "**dew-point** 1.4.0",
        "Says when dew falls",
        "MIT, published 2026-02-01",
        "doesn't declare whether it fits kiosk",
        "locked to 1.4.0, also needed by rain-ledger",
        "newest 2.0.0",
        "<https://dew.example/>",
    ] {
        assert!(shown.contains(part), "{part} is not in {shown}");
    }
    let at = editor.at(&uri, &text, "registries", false);
    let hover = editor.ask("textDocument/hover", &at).unwrap();
    assert!(
        hover["contents"]["value"].as_str().unwrap().contains("Where packages are looked up."),
        "{hover}"
    );
    let whole = json!({ "start": { "line": 0, "character": 0 }, "end": { "line": 99, "character": 0 } });
    let hints = editor
        .ask("textDocument/inlayHint", &json!({ "textDocument": { "uri": uri }, "range": whole }))
        .unwrap();
    let hints: Vec<&str> =
        hints.as_array().unwrap().iter().map(|hint| hint["label"].as_str().unwrap()).collect();
    assert_eq!(hints, ["locked 1.4.0; newest 2.0.0", "locked 2.5.0"]);
    let at = editor.at(&uri, &text, "dew-point", false);
    let place = editor.ask("textDocument/definition", &at).unwrap();
    assert!(place["uri"].as_str().unwrap().ends_with("/dew-point"), "{place}");
    let links = editor.ask("textDocument/documentLink", &json!({ "textDocument": { "uri": uri } })).unwrap();
    assert!(
        links.as_array().unwrap().iter().any(|link| link["target"] == "https://dew.example/"),
        "{links:#}"
    );
    let symbols =
        editor.ask("textDocument/documentSymbol", &json!({ "textDocument": { "uri": uri } })).unwrap();
    let names: Vec<&str> =
        symbols.as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"needs") && names.contains(&"targets.kiosk"), "{names:?}");
}

#[test]
fn names_are_changed_in_all_manifests_of_a_workspace() {
    let garden = Garden::with(&["dew-point 1.0.0"]);
    let root = "[workspace]\nfolders = [\"gate\", \"hand\"]\n[registries]\nseedhouse = \"seedhouse\"\n[targets.kiosk]\nos = \"linux\"\n";
    let hand = "[project]\nname = \"hand-unit\"\n[needs]\ndew-point = { range = \"1\", targets = [\"kiosk\"], from = \"seedhouse\" }\n[devices]\nhand-3 = \"kiosk\"\n";
    garden.write("bibliotax.toml", root);
    garden.write("gate/bibliotax.toml", "[project]\nname = \"gate\"\n");
    garden.write("hand/bibliotax.toml", hand);
    let mut editor = Editor::start(&garden);
    let uri = editor.open("hand/bibliotax.toml", hand);
    editor.codes(&uri, &[]);
    let root_uri = editor.uri("bibliotax.toml");
    let unknown = hand.replace("dew-point", "nobody");
    editor.change(&uri, &unknown);
    editor.codes(&uri, &["package.unknown"]);
    editor.change(&uri, hand);
    let at = editor.at(&uri, hand, "\"kiosk", true);
    let range = editor.ask("textDocument/prepareRename", &at).unwrap();
    assert_eq!(range["placeholder"], "kiosk");
    let mut asked = at.clone();
    asked["newName"] = json!("gate-kiosk");
    let edit = editor.ask("textDocument/rename", &asked).unwrap();
    assert_eq!(edited(hand, &edit, &uri), hand.replace("kiosk", "gate-kiosk"));
    assert_eq!(edited(root, &edit, &root_uri), root.replace("kiosk", "gate-kiosk"));
    asked["newName"] = json!("Not A Name");
    assert!(editor.ask("textDocument/rename", &asked).unwrap_err().contains("can't name a target"));
    let mut asked = editor.at(&uri, hand, "from = \"seed", true);
    asked["newName"] = json!("catalogue");
    let edit = editor.ask("textDocument/rename", &asked).unwrap();
    assert_eq!(edited(root, &edit, &root_uri), root.replace("\nseedhouse =", "\ncatalogue ="));
}

#[test]
fn a_range_is_shared_and_a_licence_accepted_by_an_edit() {
    let garden = garden();
    let root = "[workspace]\nfolders = [\"gate\", \"hand\"]\n[registries]\nseedhouse = \"seedhouse\"\n[rules.licenses]\naccept = [\"MIT\"]\n";
    let gate = "[project]\nname = \"gate\"\n[needs]\ndew-point = \"1\"\n\"pergola/core\" = \"3\"\n";
    garden.write("bibliotax.toml", &root.replace("accept", "refuse").replace("MIT", "GPL-3.0-only"));
    garden.write("gate/bibliotax.toml", gate);
    garden.write("hand/bibliotax.toml", "[project]\nname = \"hand-unit\"\n");
    garden.run(&["resolve"]).expect(0);
    garden.write("bibliotax.toml", root);
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", gate);
    editor.codes(&uri, &["rules.licenses"]);
    let root_uri = editor.uri("bibliotax.toml");
    let actions = editor.actions(&uri, gate, "\"pergola/core\"");
    let edit = &titled(&actions, "Accept MPL-2.0 for pergola/core")["edit"];
    let accepted = edited(root, edit, &root_uri);
    assert!(
        accepted.contains("\"pergola/core\" = { license = \"MPL-2.0\", range = \"3.2.0 ..\" }"),
        "{accepted}"
    );
    let actions = editor.actions(&uri, gate, "dew-point");
    let edit = &titled(&actions, "Share the range of dew-point in the workspace")["edit"];
    assert!(edited(gate, edit, &uri).contains("dew-point = \"shared\""));
    assert!(edited(root, edit, &root_uri).contains("[shared]\ndew-point = \"1\""));
    // A range that is shared and doesn't exist is added in the root.
    let nowhere = gate.replace("dew-point = \"1\"", "dew-point = \"shared\"");
    editor.change(&uri, &nowhere);
    editor.codes(&uri, &["manifest.no-shared"]);
    let actions = editor.actions(&uri, &nowhere, "dew-point");
    let edit =
        &titled(&actions, "Add `dew-point = \"any\"` under `[shared]` in the workspace's root")["edit"];
    assert_eq!(edited(root, edit, &root_uri), format!("{root}\n[shared]\ndew-point = \"any\"\n"));
    editor.change(&uri, gate);
    editor.codes(&uri, &["rules.licenses"]);
    // What is written outside of the editor counts once the editor says so.
    garden.write("bibliotax.toml", &accepted);
    let changes = json!({ "changes": [{ "uri": root_uri, "type": 2 }] });
    editor.notify("workspace/didChangeWatchedFiles", &changes);
    editor.codes(&uri, &[]);
}

#[test]
fn a_target_is_put_at_another_level_by_an_edit() {
    let target =
        "[targets.kiosk]\nos = \"linux\"\narch = \"x86_64\"\norchard-runtime = \"3\" # until spring\n";
    let garden = crate::fits::garden(&format!("[needs]\nsoil-curve = \"2.1\"\n{target}"));
    let text = garden.read("gate/bibliotax.toml");
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", &text);
    editor.codes(&uri, &["resolve.conflict"]);
    let actions = editor.actions(&uri, &text, "soil-curve");
    let way = titled(&actions, "Put kiosk at orchard-runtime 5, if it can be raised");
    let made = edited(&text, &way["edit"], &uri);
    assert_eq!(made, text.replace("orchard-runtime = \"3\"", "orchard-runtime = \"5\""));
    editor.change(&uri, &made);
    editor.codes(&uri, &[]);
}

#[test]
fn a_package_is_excepted_from_a_charter_by_an_edit() {
    let garden = crate::charters::following();
    let text = garden.read("gate/bibliotax.toml").replace("[needs]\n", "[needs]\ndew-point = \"2\"\n");
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", &text);
    editor.codes(&uri, &["resolve.conflict", "charter.unused", "charter.own-range"]);
    let actions = editor.actions(&uri, &text, "dew-point");
    let way = titled(&actions, "Except dew-point from fernhollow/season");
    let made = edited(&text, &way["edit"], &uri);
    assert!(
        made.contains("{ range = \"2026\", except = [{ package = \"dew-point\", reason = \"\" }] }"),
        "{made}"
    );
    // The reason is a person's to write, which the editor shows at its place.
    editor.change(&uri, &made);
    let found = editor.codes(&uri, &["rules.no-reason"]);
    let at = made.find("reason = \"\"").unwrap() + "reason = ".len();
    assert_eq!(found[0]["range"]["start"], position(&made, at));
    editor.change(&uri, &made.replace("reason = \"\"", "reason = \"the new probes\""));
    editor.diagnosed(&uri, |all| all.iter().all(|one| one["severity"] != 1));
}

#[test]
fn what_a_finding_advises_for_a_manifest_is_an_edit() {
    let garden = crate::charters::following();
    let plain = garden.read("gate/bibliotax.toml");
    let line = plain.lines().find(|line| line.starts_with("\"fernhollow/season\"")).unwrap();
    let excepting =
        "\"fernhollow/season\" = { range = \"2026\", except = [{ package = \"moss-map\", reason = \"a\" }] }";
    garden.run_in(".", &["registry", "create", "shed"]).expect(0);
    garden.write(
        "shed.jsonl",
        "{\"name\":\"moss-map\",\"version\":\"3.1.0\",\"published\":\"2026-03-01T08:00:00Z\"}\n",
    );
    garden.run_in(".", &["registry", "load", "shed", "shed.jsonl"]).expect(0);
    garden.write("moss/bibliotax.toml", "[project]\nname = \"moss-map\"\nversion = \"3.1.0\"\n");
    let with = |more: &str| format!("{plain}{more}");
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", &plain);
    for (text, code, at, title, expected) in [
        (
            with("").replace("moss-map = \"charter\"", "moss-map = \"3.1\""),
            "charter.own-range",
            "moss-map =",
            "Use the charter's range of moss-map",
            "moss-map = \"charter\"",
        ),
        (
            with("").replace(line, excepting),
            "charter.exception-unused",
            "\"fernhollow/season\"",
            "Remove the exception of moss-map from fernhollow/season",
            "\"fernhollow/season\" = { range = \"2026\" }",
        ),
        (
            with("[stand-ins]\nmoss-map = { path = \"../moss\" }\n"),
            "stood-in",
            "moss-map = { path",
            "Remove the stand-in for moss-map",
            "",
        ),
        (
            with("[rules]\nmin-age = \"30 days\"\n"),
            "rules.min-age",
            "moss-map",
            "Add a waiver of `min-age` for moss-map until 2026-05-30",
            "[[rules.waivers]]\nrule = \"min-age\"\npackage = \"moss-map\"\nreason = \"\"\nuntil = 2026-05-30\n",
        ),
        (
            with("").replace("[registries]\n", "[registries]\nshed = \"../shed\"\n"),
            "shared-name",
            "moss-map",
            "Take moss-map from seedhouse",
            "moss-map = { range = \"charter\", from = \"seedhouse\" }",
        ),
    ] {
        editor.change(&uri, &text);
        editor.diagnosed(&uri, |all| all.iter().any(|one| one["code"] == code));
        let actions = editor.actions(&uri, &text, at);
        let made = edited(&text, &titled(&actions, title)["edit"], &uri);
        assert!(made.contains(expected) && made != text, "{title}: {made}");
        editor.change(&uri, &made);
        editor.diagnosed(&uri, |all| all.iter().all(|one| one["code"] != code));
    }
}

#[test]
fn an_install_and_an_update_run_as_commands_and_say_how_they_go_on() {
    let garden = garden();
    garden.write("gate/bibliotax.toml", &manifest(&garden, "rain-ledger = \"= 2.4.0\""));
    garden.run(&["resolve"]).expect(0);
    garden.write("gate/bibliotax.toml", &garden.read("gate/bibliotax.toml").replace("= 2.4.0", "2"));
    let mut editor = Editor::start(&garden);
    let file = garden.path("gate/bibliotax.toml").display().to_string();
    let run = |editor: &mut Editor<'_>, command: &str, arguments: &Value| -> Result<String, String> {
        editor.said.clear();
        editor.ask("workspace/executeCommand", &json!({ "command": command, "arguments": arguments }))?;
        let said = editor.said.iter().find(|one| one["method"] == "window/showMessage").unwrap();
        assert!(
            editor
                .said
                .iter()
                .any(|one| one["method"] == "$/progress" && one["params"]["value"]["kind"] == "end")
        );
        Ok(said["params"]["message"].as_str().unwrap().to_owned())
    };
    let said = run(&mut editor, "bibliotax.install", &json!([file])).unwrap();
    assert_eq!(said, "install: lock and shelf are up to date");
    assert_eq!(run(&mut editor, "bibliotax.install", &json!([file])).unwrap(), "install: already up to date");
    assert_eq!(
        run(&mut editor, "bibliotax.update", &json!([file, "rain-ledger"])).unwrap(),
        "update: 1 change"
    );
    assert!(garden.read("gate/bibliotax.lock").contains("2.5.0"));
    let said = run(&mut editor, "bibliotax.update", &json!([file, "no-such"])).unwrap();
    assert!(said.contains("`no-such` is not in the lock"), "{said}");
    assert!(run(&mut editor, "bibliotax.dance", &json!([file])).is_err());
    assert!(run(&mut editor, "bibliotax.install", &json!([])).is_err());
}

#[test]
fn the_protocol_s_corners_are_met() {
    let garden = garden();
    let mut editor = Editor::with(&garden, &json!(["utf-8", "utf-16"]));
    assert!(editor.ask("textDocument/foldingRange", &json!({})).unwrap_err().contains("isn't supported"));
    assert!(editor.ask("textDocument/hover", &json!({ "position": 7 })).is_err());
    // Of a text that isn't open, or is no file, nothing is known.
    let nowhere =
        json!({ "textDocument": { "uri": "untitled:1" }, "position": { "line": 0, "character": 0 } });
    assert_eq!(editor.ask("textDocument/hover", &nowhere), Ok(Value::Null));
    editor.notify(
        "textDocument/didChange",
        &json!({ "textDocument": { "uri": "untitled:1", "version": 2 }, "contentChanges": [] }),
    );
    editor.notify("textDocument/didOpen", &json!("nonsense"));
    // With bytes agreed on, columns count bytes.
    let text = manifest(&garden, "dew-point = \"🌿\"");
    let uri = editor.open("gate/bibliotax.toml", &text);
    let found = editor.diagnosed(&uri, |all| all.len() == 1);
    let start = usize::try_from(found[0]["range"]["start"]["character"].as_u64().unwrap()).unwrap();
    let end = usize::try_from(found[0]["range"]["end"]["character"].as_u64().unwrap()).unwrap();
    assert!("dew-point = \"🌿\"".get(start..end).is_some_and(|part| part.contains('🌿')), "{start}..{end}");
    // Parts of a text are changed one after the other.
    editor.version += 1;
    let at = |line: u32, from: usize, to: usize| json!({ "start": { "line": line, "character": from }, "end": { "line": line, "character": to } });
    let line = u32::try_from(text[..text.find("dew-point").unwrap()].matches('\n').count()).unwrap();
    let changes = json!([{ "range": at(line, start, end), "text": "9" }, { "range": at(line, start, start + 1), "text": "\"1\"".trim_matches('"') }]);
    editor.notify(
        "textDocument/didChange",
        &json!({ "textDocument": { "uri": uri, "version": editor.version }, "contentChanges": changes }),
    );
    editor.codes(&uri, &[]);
    // Each question gets one answer, also when nobody wants it any more; those that wait are cancelled.
    let large = text.clone() + &"# A comment\n".repeat(20_000);
    editor.change(&uri, &large);
    let ids: Vec<i64> = (editor.asked + 1..=editor.asked + 40).collect();
    editor.asked += 40;
    let symbols = json!({ "textDocument": { "uri": uri } });
    for id in &ids {
        editor.send(&json!({ "jsonrpc": "2.0", "id": id, "method": "textDocument/documentSymbol", "params": symbols }));
    }
    for id in &ids {
        editor.notify("$/cancelRequest", &json!({ "id": id }));
    }
    let mut answers = BTreeMap::new();
    while answers.len() < ids.len() {
        let answer = editor.until(|_, message| message["method"].is_null());
        assert_eq!(answers.insert(answer["id"].as_i64().unwrap(), answer["error"]["code"].clone()), None);
    }
    assert_eq!(answers.keys().copied().collect::<Vec<_>>(), ids);
    assert!(answers.values().any(|code| *code == -32800), "{answers:?}");
    assert!(answers.values().all(|code| code.is_null() || *code == -32800), "{answers:?}");
    // A text that is closed has no problems any more.
    editor.notify("textDocument/didClose", &json!({ "textDocument": { "uri": uri } }));
    editor
        .until(|_, message| message["params"]["uri"] == uri && message["params"]["diagnostics"] == json!([]));
    assert_eq!(editor.ask("shutdown", &Value::Null), Ok(Value::Null));
    editor.notify("exit", &Value::Null);
    assert!(editor.child.wait().unwrap().success());
}

#[test]
fn an_answer_does_not_wait_for_a_registry_that_is_silent() {
    let garden = garden();
    let port = crate::web::free_port();
    let address = format!("127.0.0.1:{port}");
    let serve = || crate::server::serve_with(&garden, &["--listen", &address]).unwrap();
    let served = serve();
    let text = format!(
        "[project]\nname = \"gate\"\n[registries]\nseedhouse = \"http://{address}\"\n[needs]\nmoss-map = \"1\"\n"
    );
    let with_more = format!("{text}rain-ledger = \"2\"\n");
    let mut editor = Editor::start(&garden);
    let uri = editor.open("gate/bibliotax.toml", &text);
    editor.change(&uri, &format!("{text}nobody = \"1\"\n"));
    editor.codes(&uri, &["package.unknown"]);
    drop(served);
    let silent = std::net::TcpListener::bind(&address).unwrap();
    editor.change(&uri, &with_more);
    let known = editor.at(&uri, &with_more, "moss-map", false);
    let unknown = editor.at(&uri, &with_more, "rain-ledger", false);
    let mut said = |at: &Value| {
        let hover = editor.ask("textDocument/hover", at).unwrap();
        hover["contents"]["value"].as_str().map(|text| text.lines().next().unwrap().to_owned())
    };
    assert_eq!(said(&unknown), None);
    assert_eq!(said(&known).unwrap(), "**moss-map** 3.0.0");
    // Whoever asks the registry for what isn't known yet still waits for it.
    let (mut asker, _) = silent.accept().unwrap();
    asker.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    let ended = std::io::copy(&mut asker, &mut std::io::sink()).map_err(|error| error.kind());
    assert_eq!(
        ended,
        Err(std::io::ErrorKind::WouldBlock),
        "an answer came only after the registry was given up"
    );
    drop((asker, silent));
    let served = serve();
    let begun = Instant::now();
    while said(&unknown).as_deref() != Some("**rain-ledger** 2.5.0") {
        assert!(begun.elapsed() < PATIENCE, "the registry is back, and its packages aren't known");
        std::thread::yield_now();
    }
    // Nor does an end wait for a run that does.
    drop(served);
    let silent = std::net::TcpListener::bind(&address).unwrap();
    editor.change(&uri, &text);
    let (mut asker, _) = silent.accept().unwrap();
    std::io::Read::read_exact(&mut asker, &mut [0; 5]).unwrap();
    editor.ask("shutdown", &Value::Null).unwrap();
    editor.notify("exit", &Value::Null);
    let begun = Instant::now();
    assert!(editor.child.wait().unwrap().success());
    // A registry is given up after twenty seconds.
    assert!(begun.elapsed() < Duration::from_secs(15), "the end waited for the registry");
}

#[test]
fn an_editor_that_is_gone_ends_the_server() {
    let garden = garden();
    let mut command = garden.command("gate", &["language-server"]);
    let output = command.stdin(Stdio::null()).output().unwrap();
    let ran = garden.ran(output).expect(3);
    assert_eq!(ran.code(), "editor.protocol", "{}", ran.stderr);
    assert!(ran.stderr.contains("the input ended before it began"), "{}", ran.stderr);
}

#[test]
fn a_person_who_starts_the_server_learns_that_an_editor_does_that() {
    let garden = Garden::with(&[]);
    let mut terminal = crate::shells::Shell::start(&garden, "bibliotax language-server");
    terminal.until("standard input is a terminal");
    terminal.until("start it from an editor; docs/editors.md shows how");
}

#[test]
fn a_large_manifest_that_is_edited_a_hundred_times_is_followed() {
    let garden = garden();
    let mut editor = Editor::start(&garden);
    let many: String = (0..20_000)
        .map(|number| format!("# A comment to make the manifest as large as one may be: {number}\n"))
        .collect();
    let text = manifest(&garden, "dew-point = \"1\"") + &many[..many.len().min(900_000)];
    let uri = editor.open("gate/bibliotax.toml", &text);
    for number in 0..100 {
        let broken = text.replacen("dew-point = \"1\"", &format!("dew-point = \"1\" {number}"), 1);
        editor.change(&uri, if number == 99 { &text } else { &broken });
    }
    // Questions in between are answered.
    let items = editor.completed(&uri, &text, "[project]\n");
    assert!(labels(&items).contains(&"version"), "{items:?}");
    editor.codes(&uri, &[]);
}

#[test]
#[ignore = "needs an editor, which `.ci/run` sets up"]
fn neovim_shows_a_slip_takes_its_fix_completes_a_name_and_saves() {
    let garden = garden();
    garden.write("gate/bibliotax.toml", &manifest(&garden, ""));
    let program = garden.command("gate", &[]);
    let mut neovim = std::process::Command::new(needed("BIBLIOTAX_TEST_EDITOR"));
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/editors/neovim.lua");
    // A program of this version has no way to run a script with arguments of its own, so that they go by a variable.
    let begin = format!(
        "lua arg = {{ [1] = [[{}]], [2] = [[{}]] }} dofile([[{script}]])",
        program.get_program().display(),
        garden.path("gate/bibliotax.toml").display()
    );
    neovim
        .args(["--headless", "-u", "NONE", "-i", "NONE", "-n", "-c", &begin])
        .current_dir(garden.path("gate"));
    neovim.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = neovim.output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let lines: Vec<&str> = said.lines().map(str::trim).filter(|line| !line.is_empty()).collect();
    assert_eq!(
        lines,
        [
            "diagnostic: 1 bibliotax curly quotes aren't allowed here",
            "fixed: dew-point = \"1\"",
            "completed: rain-ledger = \"2.5 .. 3\"",
            "hover: **rain-ledger** 2.5.0",
            "saved",
        ],
        "{said}\n{}",
        String::from_utf8_lossy(&output.stderr)
    );
    assert!(
        garden
            .read("gate/bibliotax.toml")
            .contains("[needs]\ndew-point = \"1\"\nrain-ledger = \"2.5 .. 3\"\n")
    );
}

#[test]
#[ignore = "needs a client of the protocol, which `.ci/run` sets up"]
fn an_independent_client_meets_the_protocol_s_corners() {
    let garden = garden();
    let needs = "dew-point = \"1\"\nrain-ledger = \"2\"\n\"pergola/core\" = \"3\"";
    garden.write("gate/bibliotax.toml", &manifest(&garden, needs));
    garden.run(&["resolve"]).expect(0);
    let rules = "[rules.licenses]\naccept = [\"MIT\"]\n";
    garden.write("gate/bibliotax.toml", &format!("{}{rules}", garden.read("gate/bibliotax.toml")));
    let program = garden.command("gate", &[]);
    let mut client = std::process::Command::new(needed("BIBLIOTAX_TEST_EDITOR_CLIENT"));
    client.arg(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/editors/protocol.py"));
    client.arg(program.get_program()).arg(garden.path("gate/bibliotax.toml"));
    client.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
    let output = client.output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{said}\n{}", String::from_utf8_lossy(&output.stderr));
    let lines: Vec<&str> = said.lines().collect();
    assert_eq!(
        lines,
        [
            "answers: CompletionList, CompletionItem, Hover, InlayHint, CodeAction, Location, DocumentLink, DocumentSymbol, \
             PrepareRenamePlaceholder, WorkspaceEdit",
            "said: ['install: lock and shelf are up to date'], progress: begin to end",
            "ended: 0, refused: []",
            "offered ['utf-8', 'utf-16']: utf-8, the slip is behind \"é🌿👩\u{200d}🔧\" ",
            "offered ['utf-16']: utf-16, the slip is behind \"é🌿👩\u{200d}🔧\" ",
            "offered ['utf-32']: utf-16, the slip is behind \"é🌿👩\u{200d}🔧\" ",
            "offered ['latin-1']: utf-16, the slip is behind \"é🌿👩\u{200d}🔧\" ",
            "offered None: utf-16, the slip is behind \"é🌿👩\u{200d}🔧\" ",
            "in pieces: JsonRPCResponseMessage",
            "in one go: JsonRPCResponseMessage, JsonRPCResponseMessage",
            "latin-1: -32700",
            "utf-16: -32600",
            "cut off: -32700",
            "a list: -32600",
            "unknown: -32601",
            "in parts, if the server likes: True",
            "ended: 0",
            "answered or cancelled: 40, codes: [-32800], most cancelled: True",
            "after a hundred changes of 1 MB: moss-map = 1",
            "ended: 0",
            "exit alone: 1",
        ],
        "{}",
        String::from_utf8_lossy(&output.stderr)
    );
}
