//! The page that `report` writes: what it shows, that nothing in it is a card's own markup, and how it works in a browser.

use std::fs;
use std::path::Path;

use bibliotax_test_browser::Browser;
use serde_json::{Value, json};

use crate::garden::{Garden, Ran};
use crate::outside::needed;
use crate::sources::{commit, git};

/// A text that tries to be more than text wherever it is shown.
const HOSTILE: &str =
    "Moss</td></script><script>document.title='evil'</script><img src=x onerror=\"document.title='evil'\">";

/// A project with two targets that needs packages of several licences, ages and fits, of which one is held back and one is affected by an
/// advisory; their texts are hostile.
fn garden() -> Garden {
    let garden = Garden::with(&[]);
    let card = |name: &str, version: &str, published: &str, more: Value| {
        let mut card = json!({ "name": name, "version": version, "published": format!("{published}T09:00:00Z"), "license": "MIT" });
        card.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        format!("{card}\n")
    };
    let linux = json!({ "os": "linux", "arch": "any" });
    let steps = json!([{ "id": "calibrate", "text": HOSTILE, "per": "project" }]);
    let cards = [
        card("bark-log", "1.1.0", "2026-02-20", json!({ "fits": linux, "license": "0BSD" })),
        card("dew-point", "1.3.0", "2025-01-01", json!({ "fits": linux })),
        card(
            "dew-point",
            "1.4.0",
            "2025-11-01",
            json!({ "fits": { "os": "windows", "arch": "any" }, "notes": HOSTILE }),
        ),
        card("dew-point", "2.0.0", "2026-01-01", json!({ "notes": HOSTILE })),
        card(
            "rain-ledger",
            "2.4.0",
            "2023-03-01",
            json!({ "needs": [{ "name": "dew-point", "range": "1" }],
            "license": "Apache-2.0", "fits": linux, "steps": steps }),
        ),
        card(
            "rain-ledger",
            "2.10.0",
            "2026-02-25",
            json!({ "needs": [{ "name": "dew-point", "range": "1" }], "fits": linux }),
        ),
        card(
            "soil-curve",
            "1.0.0",
            "2025-06-01",
            json!({ "needs": [{ "name": "rain-ledger", "range": "2" }] }),
        ),
    ];
    garden.load(&cards.concat());
    garden.run_in(".", &["registry", "create", "--quiet", "other"]).expect(0);
    let advisory = json!({ "schema_version": "1.7.0", "id": "FERN-2026-0001", "modified": "2026-02-01T09:00:00Z", "summary": HOSTILE,
        "affected": [{ "package": { "ecosystem": "Bibliotax", "name": "bark-log" },
            "ranges": [{ "type": "ECOSYSTEM", "events": [{ "introduced": "0" }] }] }] });
    garden.write("advisories/FERN-2026-0001.json", &advisory.to_string());
    let targets = "\n[targets.kiosk]\nos = \"linux\"\narch = \"x86_64\"\n[targets.desk]\nos = \"windows\"\narch = \"x86_64\"\n";
    let rules = "\n[rules.advisories]\nfeeds = [\"../advisories\"]\nrefuse = \"high\"\n";
    let needs = "bark-log = { range = \"1\", targets = [\"kiosk\"] }\nrain-ledger = { range = \"= 2.4.0\", targets = [\"kiosk\"] }\n\
                 soil-curve = { range = \"1\", targets = [\"kiosk\"] }\n";
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}{needs}{targets}{rules}"));
    garden.run(&["resolve"]).expect(0);
    garden
}

/// Where a browser finds a file of the garden.
fn address(garden: &Garden, path: &str) -> String {
    format!("file://{}", garden.path(path).display())
}

#[test]
fn a_page_shows_problems_packages_graph_fits_licences_ages_and_steps() {
    let garden = garden();
    let ran = garden.run(&["report"]).expect(0);
    assert!(ran.stdout.starts_with("wrote bibliotax-report.html: 4 packages, 1 warning ("), "{}", ran.stdout);
    let page = garden.read("gate/bibliotax-report.html");
    for part in [
        "<h1>Dependencies of gate-kiosk</h1>",
        "<strong class=\"unsure\">1</strong> <span>problem</span>",
        "<strong class=\"unsure\">2</strong> <span>outdated</span>",
        "<strong class=\"unsure\">1</strong> <span>open step</span>",
        "3 direct, 1 transitive",
        "<a href=\"#package-bark-log\">bark-log</a>",
        "<tr id=\"package-dew-point\" data-flags=\"outdated\">",
        "held back by rain-ledger 2.4.0 (needs 1)",
        "<td class=\"date\" data-sort=\"1735722000\">2025-01-01<br><small>13 months ago</small></td>",
        "<a data-n=\"2\" href=\"#package-dew-point\">",
        "kiosk: not declared: arch, os",
        "<th scope=\"row\">Apache-2.0</th><td class=\"number\">1</td><td class=\"number\">25 %</td>",
        "<th scope=\"row\">1 to 2 years</th><td class=\"number\">1</td><td class=\"number\">1</td>",
        "once, for the project: <span class=\"unsure\">open</span>",
    ] {
        assert!(page.contains(part), "{part}\n{page}");
    }
    // Nothing is loaded, and nothing runs but the page's own script.
    let policy =
        page.split("Content-Security-Policy\" content=\"").nth(1).unwrap().split('"').next().unwrap();
    assert!(
        policy.starts_with("default-src 'none'; style-src 'unsafe-inline'; script-src 'sha256-"),
        "{policy}"
    );
    assert_eq!((page.matches("<script").count(), page.matches("<img").count()), (1, 0), "{page}");
    assert!(!page.contains("<link") && !page.contains("url("), "{page}");
}

#[test]
fn a_page_of_the_same_lock_and_day_has_the_same_bytes() {
    let garden = garden();
    let written = garden.run(&["report", "--output", "-"]).expect(0).stdout;
    garden.run(&["report", "-o", "again.html"]).expect(0);
    assert_eq!(written.trim_end(), garden.read("gate/again.html").trim_end());
    let told = garden.run(&["report", "-o", "again.html", "--format", "json"]).expect(0).json();
    assert_eq!(
        (&told["packages"], &told["problems"]),
        (&json!(4), &json!({ "errors": 0, "warnings": 1, "notes": 0 }))
    );
    assert!(told["file"].as_str().unwrap().ends_with("again.html") && told["page"].is_null(), "{told}");
    let told = garden.run(&["report", "-o", "-", "--format", "json"]).expect(0).json();
    assert_eq!(told["page"].as_str().unwrap(), garden.read("gate/again.html"));
}

#[test]
fn changes_since_a_revision_are_on_the_page_and_only_then() {
    let garden = garden();
    assert!(!garden.run(&["report", "-o", "-"]).expect(0).stdout.contains("id=\"changes\""));
    git(&garden, ".", &["init", "-q"]);
    commit(&garden, ".");
    garden.run(&["need", "rain-ledger", "2", "--target", "kiosk"]).expect(0);
    garden.run(&["update"]).expect(0);
    let page = garden.run(&["report", "--since", "HEAD", "-o", "-"]).expect(0).stdout;
    assert!(page.contains("<h2>Changes since HEAD</h2>") && page.contains("2.4.0 → 2.10.0"), "{page}");
    assert!(page.contains("other licence: rain-ledger (Apache-2.0 → MIT)"), "{page}");
    let page = garden.run(&["report", "--since", "bibliotax.lock", "-o", "-"]).expect(0).stdout;
    assert!(page.contains("<p>nothing differs</p>"), "{page}");
    assert_eq!(garden.run(&["report", "--since", "no-such"]).expect(2).code(), "compare.unknown");
    assert!(!garden.path("gate/bibliotax-report.html").exists());
}

#[test]
fn a_report_of_one_project_is_about_what_that_needs() {
    let garden = Garden::with(&["bark-log 1.0.0", "dew-point 1.0.0"]);
    garden.write(
        "bibliotax.toml",
        "[workspace]\nfolders = [\"gate\", \"hand\"]\n[registries]\nseedhouse = \"seedhouse\"\n",
    );
    garden.write("gate/bibliotax.toml", "[project]\nname = \"gate-kiosk\"\n[needs]\nbark-log = \"1\"\n");
    garden.write("hand/bibliotax.toml", "[project]\nname = \"hand-unit\"\n[needs]\ndew-point = \"1\"\n");
    garden.run(&["resolve"]).expect(0);
    let both = garden.run(&["report", "-o", "-"]).expect(0).stdout;
    assert!(
        both.contains("Dependencies of gate-kiosk, hand-unit") && both.contains("package-dew-point"),
        "{both}"
    );
    assert!(both.contains("<tr id=\"project-hand-unit\">"), "{both}");
    let one = garden.run(&["report", "-o", "-", "--in", "gate-kiosk"]).expect(0).stdout;
    assert!(one.contains("Dependencies of gate-kiosk<") && !one.contains("package-dew-point"), "{one}");
    assert_eq!(garden.run(&["report", "--in", "gate-kisk"]).expect(2).code(), "workspace.unknown-project");
}

#[test]
fn a_report_says_what_it_can_and_refuses_what_makes_none() {
    let bare = Garden::with(&[]);
    assert_eq!(bare.run(&["report"]).expect(3).code(), "lock.missing");
    bare.run(&["resolve"]).expect(0);
    let page = bare.run(&["report", "-o", "-"]).expect(0).stdout;
    for part in
        ["Nothing is needed.", "No problems found.", "No targets are declared.", "No package has steps"]
    {
        assert!(page.contains(part), "{part}\n{page}");
    }
    let garden = garden();
    let ran = garden.run(&["report", "-o", "missing/page.html"]).expect(74);
    assert_eq!(ran.code(), "disk.missing", "{}", ran.stderr);
    assert_eq!(garden.run(&["report", "--open", "-o", "-"]).expect(2).code(), "usage.conflict");
    // A lock that is behind the manifest is a problem like others.
    let manifest = garden.read("gate/bibliotax.toml").replace("= 2.4.0", "2");
    garden.write("gate/bibliotax.toml", &manifest);
    let page = garden.run(&["report", "-o", "-"]).expect(0).stdout;
    assert!(page.contains("manifests changed since the lock was written"), "{page}");
    // What nothing resolves any more can still be looked at.
    garden.write(
        "gate/bibliotax.toml",
        &manifest.replace("soil-curve = { range = \"1\"", "soil-curve = { range = \"9\""),
    );
    let ran = garden.run(&["report", "-o", "-"]).expect(0);
    assert!(ran.stderr.contains("warning: newer releases aren't known: "), "{}", ran.stderr);
    assert!(
        ran.stdout.contains("<strong class=\"unsure\">?</strong> <span>outdated</span>"),
        "{}",
        ran.stdout
    );
}

/// Runs `report --open` where a program that opens files notes what it is asked to open.
fn opened(garden: &Garden, opener: &str) -> Ran {
    let bin = garden.path("bin");
    fs::create_dir_all(&bin).unwrap();
    for name in ["xdg-open", "gio", "gnome-open", "kde-open"] {
        garden.write(&format!("bin/{name}"), opener);
        let made = std::process::Command::new("chmod").arg("+x").arg(bin.join(name)).status().unwrap();
        assert!(made.success());
    }
    let mut command = garden.command("gate", &["report", "--open"]);
    garden.ran(command.env("PATH", format!("{}:/usr/bin:/bin", bin.display())).output().unwrap())
}

#[test]
fn a_page_is_opened_in_the_program_for_it() {
    let garden = garden();
    opened(&garden, &format!("#!/bin/sh\necho \"$1\" > {}\n", garden.path("opened.part").display()))
        .expect(0);
    let note = garden.path("opened.part");
    let noted = |path: &Path| fs::read_to_string(path).is_ok_and(|text| text.ends_with('\n'));
    for _ in 0..500 {
        if noted(&note) {
            break;
        }
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    assert!(garden.read("opened.part").trim_end().ends_with("gate/bibliotax-report.html"));
    let ran = opened(&garden, "#!/bin/sh\nexit 3\n").expect(0);
    assert!(ran.stderr.contains("warning: no browser could be started on this machine"), "{}", ran.stderr);
}

/// Clicks the head of a column of the packages; the packages in their order then.
fn sorted_by(browser: &mut Browser, head: &str) -> Value {
    browser.value(&format!(
        "[...document.querySelectorAll('#package-table thead button')].find((one) => one.textContent === '{head}').click()"
    ));
    shown(browser)
}

/// The packages that are shown, in their order.
fn shown(browser: &mut Browser) -> Value {
    browser.value("[...document.querySelectorAll('#package-table tbody tr')].filter((row) => !row.hidden).map((row) => row.cells[0].textContent)")
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn packages_are_sorted_and_narrowed_in_a_browser() {
    let garden = garden();
    garden.run(&["report"]).expect(0);
    let mut browser = Browser::open(&address(&garden, "gate/bibliotax-report.html"));
    let browser = &mut browser;
    assert_eq!(browser.value("document.title"), "Dependencies of gate-kiosk");
    assert_eq!(shown(browser), json!(["bark-log", "dew-point", "rain-ledger", "soil-curve"]));
    let by_date = json!(["rain-ledger", "dew-point", "soil-curve", "bark-log"]);
    assert_eq!(sorted_by(browser, "Published"), by_date);
    let backwards = json!(["bark-log", "soil-curve", "dew-point", "rain-ledger"]);
    assert_eq!(sorted_by(browser, "Published"), backwards);
    assert_eq!(browser.value("document.querySelector('[aria-sort=descending]').textContent"), "Published");
    browser.value("document.querySelector('#packages input').focus()");
    browser.write("RAIN apache");
    assert_eq!(shown(browser), json!(["rain-ledger"]));
    assert_eq!(
        browser.value("document.querySelector('#packages [role=status]').textContent"),
        "1 of 4 packages"
    );
    let choose = |flag: &str| {
        format!(
            "document.querySelector('#packages input').value = ''; const choice = document.querySelector('#packages select'); \
             choice.value = '{flag}'; choice.dispatchEvent(new Event('change'))"
        )
    };
    for (flag, expected) in [
        ("direct", json!(["bark-log", "soil-curve", "rain-ledger"])),
        ("outdated", json!(["dew-point", "rain-ledger"])),
        ("problem", json!(["bark-log"])),
        ("", backwards),
    ] {
        browser.value(&format!("{{ {} }}", choose(flag)));
        assert_eq!(shown(browser), expected, "{flag}");
    }
    // A link shows its row, also one that is filtered away.
    browser.value(&format!("{{ {} }}", choose("problem")));
    browser.value("location.hash = '#package-dew-point'");
    browser.until("!document.getElementById('package-dew-point').hidden");
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn the_graph_is_searched_zoomed_and_followed_with_keys_in_a_browser() {
    let garden = garden();
    garden.run(&["report"]).expect(0);
    let mut browser = Browser::open(&address(&garden, "gate/bibliotax-report.html"));
    let at = "document.activeElement.querySelector('text').textContent";
    browser.value("document.querySelector('.picture a[tabindex]:not([tabindex=\"-1\"]), .picture a:not([tabindex])').focus()");
    assert_eq!(browser.value(at), "gate-kiosk");
    for (key, code, expected) in [
        ("ArrowRight", 39, "bark-log 1.1.0"),
        ("ArrowDown", 40, "soil-curve 1.0.0"),
        ("ArrowRight", 39, "rain-ledger 2.4.0"),
        ("ArrowRight", 39, "dew-point 1.3.0"),
        ("ArrowLeft", 37, "rain-ledger 2.4.0"),
    ] {
        browser.press(key, code);
        assert_eq!(browser.value(at), expected, "{key}");
    }
    let about = browser.value("document.querySelector('#graph p.keys').textContent");
    assert_eq!(about, "rain-ledger 2.4.0 needs dew-point 1.3.0; needed by gate-kiosk, soil-curve 1.0.0");
    assert_eq!(browser.value("document.querySelectorAll('.picture a').length - document.querySelectorAll('.picture a[tabindex=\"-1\"]').length"), 1);
    browser.press("Enter", 13);
    browser.until("location.hash === '#package-rain-ledger'");
    browser.value("document.querySelector('#graph input').focus()");
    browser.write("dew");
    assert_eq!(
        browser.value("document.querySelector('.picture .found text').textContent"),
        "dew-point 1.3.0"
    );
    let wide = "document.querySelector('.picture svg').getBoundingClientRect().width";
    let before = browser.value(wide).as_f64().unwrap();
    browser.value("[...document.querySelectorAll('#graph button')].find((one) => one.textContent === 'Zoom in').click()");
    let after = browser.value(wide).as_f64().unwrap();
    assert!((after / before - 1.25).abs() < 0.01, "{before} {after}");
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn a_page_is_read_without_scripts_on_a_phone_and_on_paper() {
    let garden = garden();
    garden.run(&["report"]).expect(0);
    let mut browser = Browser::start();
    browser.without_scripts();
    browser.narrow_to(400);
    browser.go_to(&address(&garden, "gate/bibliotax-report.html"));
    let browser = &mut browser;
    assert_eq!(shown(browser), json!(["bark-log", "dew-point", "rain-ledger", "soil-curve"]));
    assert_eq!(browser.value("document.querySelectorAll('.picture a text').length"), 5);
    assert_eq!(browser.value("document.querySelectorAll('.tools').length"), 0);
    assert_eq!(browser.value("document.documentElement.scrollWidth"), 400);
    assert!(browser.printed().len() > 10_000);
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn no_text_of_a_card_or_feed_acts_on_the_page() {
    let garden = garden();
    let bark = format!("bark-log 1.1.0 is affected by FERN-2026-0001, medium ({HOSTILE})");
    garden.run(&["deprecate", "dew-point", "1", "--reason", HOSTILE]).expect(0);
    fs::copy(garden.path("gate/bibliotax.lock"), garden.path("gate/<script>document.title='evil'<")).unwrap();
    garden.run(&["report", "--since", "<script>document.title='evil'<"]).expect(0);
    let mut browser = Browser::start();
    // Escaping has to do, also where the page's policy doesn't help.
    browser.without_policy();
    browser.go_to(&address(&garden, "gate/bibliotax-report.html"));
    assert_eq!(browser.value("document.title"), "Dependencies of gate-kiosk");
    assert_eq!(browser.value("document.querySelectorAll('script, img').length"), 1);
    let text = browser.value("document.body.textContent");
    assert!(text.as_str().unwrap().contains(&bark), "{bark}");
    assert!(text.as_str().unwrap().contains(&format!("deprecated: {HOSTILE}")));
}

#[test]
#[ignore = "needs a browser and a checker of accessibility, which `.ci/run` sets up"]
fn a_checker_of_accessibility_finds_nothing_serious() {
    let garden = garden();
    garden.run(&["need", "bark-log", "1"]).expect(0);
    fs::copy(garden.path("gate/bibliotax.lock"), garden.path("gate/before.lock")).unwrap();
    garden.run(&["need", "rain-ledger", "2", "--target", "kiosk"]).expect(0);
    garden.run(&["update"]).expect(0);
    garden.run(&["report", "--since", "before.lock"]).expect(0);
    let axe = fs::read_to_string(needed("BIBLIOTAX_TEST_AXE")).unwrap();
    for (is_dark, width) in [(false, 1280), (true, 1280), (false, 400)] {
        let mut browser = Browser::start();
        browser.without_policy();
        browser.narrow_to(width);
        if is_dark {
            browser.in_the_dark();
        }
        browser.go_to(&address(&garden, "gate/bibliotax-report.html"));
        browser.value(&format!("{axe}; 1"));
        let found = browser.value(
            "axe.run().then((found) => ({ passes: found.passes.length, violations: found.violations.map((one) => \
             [one.id, one.impact, one.nodes[0].html]) }))",
        );
        assert!(found["passes"].as_u64().unwrap() > 20, "{found:#}");
        assert_eq!(found["violations"], json!([]), "{found:#}");
    }
}
