//! The pages: what they say, that nothing in them is a card's own markup, and that they work with and without scripts.

use bibliotax_registry::publish::admit_release::admit_release;
use bibliotax_server::Limits;
use serde_json::json;

use crate::browser::Browser;
use crate::server::{Server, status};

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
            "provides": [{ "name": "wetness" }],
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
        &["no: works with os windows only", "class=\"yes\""],
    );
    assert!(output.contains("<option selected>linux</option>"));
    let dew = with(&server, "/browse/dew-point", &["Hold it into fog", "for each device", "wetness"]);
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
    with(&server, "/browse/moss-map", &["class=\"use\""]);
    let body = json!({ "name": "moss-map", "version": "1.0.0", "reason": "counts hail twice" }).to_string();
    let (status, answer) = server.ask("POST", "/api/v1/withdrawals", "", body.as_bytes());
    assert_eq!(status, 200, "{answer}");
    let shown = with(&server, "/browse/moss-map", &["withdrawn", "counts hail twice", ">Status<"]);
    assert!(!shown.contains("class=\"use\""), "{shown}");
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
fn a_browser_searches_while_one_types_and_breaks_no_policy() {
    let server = server();
    let mut browser = Browser::open(&format!("http://{}/", server.address));
    browser.value("window.broken = []; document.addEventListener('securitypolicyviolation', e => broken.push(e.blockedURI))");
    browser.value("document.getElementById('q').focus()");
    browser.write("moss");
    browser
        .until("document.querySelectorAll('#results .hits li').length == 1 && location.search == '?q=moss'");
    assert_eq!(browser.value("document.querySelector('#results h3 a').textContent"), "moss-map");
    browser.press("Enter", 13);
    browser.until("document.readyState == 'complete' && document.title.startsWith('moss')");
    assert_eq!(browser.value("document.querySelectorAll('#results .hits li').length"), 1);
    browser.value("location.href = '/browse/moss-map'");
    browser
        .until("document.readyState == 'complete' && document.querySelectorAll('.use button').length == 1");
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
