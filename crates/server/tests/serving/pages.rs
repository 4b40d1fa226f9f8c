//! The pages: what they say, that nothing in them is a card's own markup, and that they work with and without scripts.

use bibliotax_registry::model::storage::WriteRegistryExt;
use bibliotax_registry::publish::admit_release::admit_release;
use bibliotax_server::Limits;
use serde_json::json;

use crate::server::{Server, status};
use bibliotax_test_browser::Browser;

/// A server whose cards say what they can.
pub fn server() -> Server {
    let server = Server::within(Limits::default());
    let evil = "<script>document.title='evil'</script><img src=x onerror=\"document.title='evil'\">";
    for card in [
        json!({ "name": "rain-ledger", "version": "2.4.0", "published": "2026-01-01T00:00:00Z", "license": "MIT",
            "summary": "An account of rain", "tags": ["weather"], "fits": { "os": ["linux", "windows"] },
            "needs": [{ "name": "dew-point", "range": "1" }, { "name": "elsewhere", "range": "any" }],
            "notes": "Counts snow, too." }),
        json!({ "name": "rain-ledger", "version": "3.0.0", "published": "2026-02-01T00:00:00Z",
            "summary": "An account of rain", "tags": ["weather"], "fits": { "os": "windows" } }),
        json!({ "name": "dew-point", "version": "1.4.0", "published": "2026-01-01T00:00:00Z", "summary": "Dew",
            "provides": [{ "name": "wetness" }], "upstream": ["pkg:generic/dew@1.4"],
            "steps": [{ "id": "calibrate", "per": "device", "text": "Hold it into fog" }] }),
        json!({ "name": "moss-map", "version": "1.0.0", "published": "2026-01-01T00:00:00Z", "summary": evil,
            "description": evil, "notes": evil, "homepage": "javascript:alert(1)", "repository": "https://moss.example/\"><b>",
            "steps": [{ "id": "evil", "text": evil }] }),
    ] {
        let card = serde_json::from_value(card).unwrap();
        admit_release(&server.registry, &card, || Ok(())).unwrap();
    }
    server
}

fn page(server: &Server, path: &str) -> (u16, String) {
    let answer =
        server.say(format!("GET {path} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").as_bytes());
    (status(&answer), answer)
}

fn with(server: &Server, path: &str, parts: &[&str]) -> String {
    let (status, text) = page(server, path);
    assert_eq!(status, 200, "{path}: {text}");
    for part in parts {
        assert!(text.contains(part), "{path} has no {part}:\n{text}");
    }
    text
}

#[test]
fn pages_tell_what_a_release_is_and_lead_to_what_it_needs() {
    let server = server();
    with(&server, "/", &["dew-point", "<form", "name=\"q\""]);
    with(&server, "/?q=wether", &["showing results for weather", "href=\"/browse/rain-ledger\"", "3.0.0"]);
    let part = with(&server, "/?q=rain&part=results", &["rain-ledger"]);
    assert!(!part.contains("<html"), "only the results are sent");
    with(
        &server,
        "/browse/rain-ledger",
        &["bibliotax need rain-ledger<", "rain-ledger = &quot;3 .. 4&quot;"],
    );
    let older = with(
        &server,
        "/browse/rain-ledger/2.4.0",
        &[
            "href=\"/browse/dew-point\"",
            "elsewhere",
            "Counts snow, too.",
            "the newest is 3.0.0",
            "&quot;2.4 .. 3&quot;",
        ],
    );
    assert!(!older.contains("href=\"/browse/elsewhere\""), "what isn't here has no page");
    let output = with(
        &server,
        "/browse/rain-ledger?on-os=linux",
        &["no: works only with os windows", "class=\"yes\""],
    );
    assert!(output.contains("<option selected>linux</option>"));
    let dew = with(
        &server,
        "/browse/dew-point",
        &["Hold it into fog", "for each device", "wetness", "Upstream", "dew@1.4"],
    );
    assert!(!dew.contains("href=\"/browse/rain-ledger\""), "only newest releases count");
    with(&server, "/browse/wetness", &["capability", "href=\"/browse/dew-point\""]);
    for missing in
        ["/browse/kettle", "/browse/rain-ledger/9", "/browse/", "/browse/%2e%2e/%2e%2e", "/browse/a//b"]
    {
        let (status, text) = page(&server, missing);
        assert_eq!(status, 404, "{missing}");
        assert!(text.contains("Not here"), "{text}");
    }
}

#[test]
fn a_withdrawn_release_offers_nothing_to_copy_but_the_reason() {
    let server = server();
    with(&server, "/browse/moss-map", &["<dt>Declaration</dt>"]);
    let body = json!({ "name": "moss-map", "version": "1.0.0", "reason": "counts hail twice" }).to_string();
    let (status, answer) = server.ask("POST", "/api/v1/withdrawals", "", body.as_bytes());
    assert_eq!(status, 200, "{answer}");
    let shown = with(&server, "/browse/moss-map", &["withdrawn", "counts hail twice", ">Status<"]);
    assert!(!shown.contains("<dt>Declaration</dt>") && !shown.contains("bibliotax need"), "{shown}");
}

#[test]
fn a_withdrawn_release_says_what_to_use() {
    let server = server();
    let newer = json!({ "name": "moss-map", "version": "1.1.0", "published": "2026-03-01T00:00:00Z" });
    admit_release(&server.registry, &serde_json::from_value(newer).unwrap(), || Ok(())).unwrap();
    let body = json!({ "name": "moss-map", "version": "1.0.0", "reason": "counts hail" }).to_string();
    assert_eq!(server.ask("POST", "/api/v1/withdrawals", "", body.as_bytes()).0, 200);
    with(&server, "/browse/moss-map/1.0.0", &["counts hail", "href=\"/browse/moss-map/1.1.0\""]);
}

#[test]
fn every_page_says_how_to_use_the_registry() {
    let server = server();
    let line = "seedhouse = { url = &quot;http:&#x2f;&#x2f;x&#x2f;&quot;, plain = true }";
    for path in ["/", "/?q=moss", "/browse/moss-map", "/browse/wetness"] {
        with(&server, path, &["bibliotax.toml", line, "rel=\"icon\""]);
    }
    assert!(page(&server, "/browse/kettle").1.contains(line));
    let (status, icon) = page(&server, "/page/icon.svg");
    assert!(status == 200 && icon.contains("image/svg+xml"), "{icon}");
}

#[test]
fn a_release_lists_its_contents_and_shows_its_description() {
    let server = server();
    let mut archive = tar::Builder::new(Vec::new());
    for (name, contents) in [("include/frost.h", "int frost;\n"), ("a&b.txt", "x")] {
        let mut header = tar::Header::new_gnu();
        header.set_mode(0o644);
        header.set_size(contents.len() as u64);
        archive.append_data(&mut header, name, contents.as_bytes()).unwrap();
    }
    let bytes = archive.into_inner().unwrap();
    let (sha256, size) = server.registry.keep(server.registry.stage_bytes(&bytes).unwrap()).unwrap();
    let card = json!({ "name": "night-frost", "version": "1.0.0", "published": "2026-01-01T00:00:00Z",
        "description": "Warns of *frost*.\n\n- by night\n- [more](https://seedhouse.example)\n\n<b>bold</b>",
        "files": [{ "sha256": sha256, "size": size, "format": "tar" }] });
    admit_release(&server.registry, &serde_json::from_value(card).unwrap(), || Ok(())).unwrap();
    for _ in 0..2 {
        let shown = with(
            &server,
            "/browse/night-frost",
            &[
                "include&#x2f;frost.h",
                "a&amp;b.txt",
                "2 files",
                "<em>frost</em>",
                "<li>by night</li>",
                "<a href=\"https://seedhouse.example\">more</a>",
            ],
        );
        assert!(!shown.contains("<b>"), "{shown}");
    }
}

#[test]
fn only_facets_with_values_can_be_chosen() {
    let server = server();
    with(&server, "/browse/rain-ledger", &["name=\"on-os\""]);
    assert!(!with(&server, "/browse/dew-point", &[]).contains("<select"));
}

#[test]
fn nothing_that_a_card_says_is_markup_or_a_link_but_to_the_web() {
    let server = server();
    for path in
        ["/?q=moss", "/browse/moss-map", "/browse/%3Cb%3E", "/?q=%3Cscript%3Ealert(1)%3C/script%3E&page=1"]
    {
        let (_, text) = page(&server, path);
        let body =
            text.split("\r\n\r\n").nth(1).unwrap().replace("<script src=\"/page/search.js\" defer>", "");
        for evil in ["<script", "<img", "<b>", "href=\"javascript:", "onerror=\""] {
            assert!(!body.contains(evil), "{path} has {evil}:\n{body}");
        }
        assert!(text.contains("content-security-policy: default-src 'none'"), "{text}");
    }
    assert!(with(&server, "/browse/moss-map", &["https:&#x2f;&#x2f;moss.example"]).contains("nofollow"));
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn nothing_is_cut_on_a_narrow_screen() {
    let server = server();
    let mut browser = Browser::open(&format!("http://{}/", server.address));
    browser.narrow_to(400);
    for path in ["/", "/?q=rain", "/browse/rain-ledger?on-os=linux", "/browse/moss-map", "/browse/kettle"] {
        browser.value(&format!("location.href = '{path}'"));
        let there = format!("document.readyState == 'complete' && location.href.endsWith('{path}')");
        browser.until(&there);
        let width = browser.value("document.documentElement.scrollWidth");
        assert!(width.as_u64().unwrap() <= 400, "{path} is {width} wide");
        let cut = "[...document.querySelectorAll('main *')].filter(e => e.id != 'count' && e.scrollWidth > e.clientWidth + 1 && getComputedStyle(e).overflowX != 'visible').length";
        assert_eq!(browser.value(cut), 0, "{path}");
    }
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn a_browser_searches_while_one_types_and_breaks_no_policy() {
    let server = server();
    let mut browser = Browser::open(&format!("http://{}/", server.address));
    browser.value("window.broken = []; document.addEventListener('securitypolicyviolation', e => broken.push(e.blockedURI))");
    browser.value("document.getElementById('q').focus()");
    browser.write("moss");
    browser
        .until("document.querySelectorAll('#results .hits li').length == 1 && location.search == '?q=moss'");
    assert_eq!(browser.value("document.querySelector('#results h3 a').textContent"), "moss-map");
    assert_eq!(browser.value("document.title"), "moss – seedhouse");
    assert_eq!(browser.value("document.querySelectorAll('[aria-live]').length"), 1);
    assert_eq!(browser.value("document.querySelector('[aria-live]').textContent"), "1 package for “moss”");
    browser.value("window.isBefore = true");
    browser.press("Enter", 13);
    browser
        .until("!window.isBefore && document.readyState == 'complete' && document.title.startsWith('moss')");
    assert_eq!(browser.value("document.querySelectorAll('#results .hits li').length"), 1);
    browser.value("location.href = '/browse/moss-map'");
    browser
        .until("document.readyState == 'complete' && document.querySelectorAll('.use button').length == 2");
    assert_eq!(browser.value("document.title.includes('evil')"), false);
    assert_eq!(
        browser.value("getComputedStyle(document.body).maxWidth !== '' && document.styleSheets.length"),
        1
    );
    // What a screen reader goes by: one main part, every field labelled, headings without gaps.
    let sound = "document.querySelectorAll('main').length == 1 && document.documentElement.lang == 'en'
        && [...document.querySelectorAll('input, select')].every(field => field.labels.length == 1)
        && [...document.querySelectorAll('section')].every(part => document.getElementById(part.getAttribute('aria-labelledby')))";
    assert_eq!(browser.value(sound), true);
    assert_eq!(browser.value("(window.broken ?? []).length"), 0);
    browser.value("document.activeElement.blur()");
    browser.press("Tab", 9);
    assert_eq!(
        browser.value("document.activeElement.className"),
        "skip",
        "the first stop leads past the head"
    );
}
