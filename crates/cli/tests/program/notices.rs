//! The licence texts that go with a product, by real texts.

use std::fs;
use std::process::Command;

use serde_json::json;

use crate::garden::Garden;
use crate::outside::needed;

const MIT: &str = include_str!("../texts/MIT.txt");
const APACHE: &str = include_str!("../texts/Apache-2.0.txt");
const BSD: &str = include_str!("../texts/BSD-3-Clause.txt");

/// The same with blanks at the ends of lines.
const MIT_WITH_BLANKS: &str = concat!(include_str!("../texts/MIT.txt"), "  \n\n");

/// A text that tries to be more than text wherever it is shown.
const HOSTILE: &str = "Moss</pre><script>alert(1)</script> & \"more\"\n````\n# Not a heading\n````\n";

/// Files with their texts.
type Files = &'static [(&'static str, &'static str)];

/// Packages with a MIT text, two of them the same, Apache-2.0 with a NOTICE, a choice, a mismatch, and no text.
fn garden() -> Garden {
    let garden = Garden::with(&[]);
    let packages: [(&str, &str, Files); 7] = [
        ("bark-log", "MIT", &[("LICENSE", MIT), ("src/license.c", "int x;")]),
        ("dew-point", "MIT", &[("COPYING.txt", MIT_WITH_BLANKS), ("AUTHORS", "Moss\n")]),
        ("leaf-palette", "Apache-2.0", &[("LICENSE", APACHE), ("NOTICE", "Leaf palette, by the garden\n")]),
        ("moss-map", "MIT OR Apache-2.0", &[("LICENSES/MIT.txt", MIT), ("vendor/zinc/LICENSE", BSD)]),
        ("rain-ledger", "MIT", &[("LICENSE", BSD)]),
        ("soil-curve", "Zlib", &[("soil.h", "1")]),
        ("sun-arc", "LicenseRef-garden", &[("LICENSE", HOSTILE)]),
    ];
    let mut cards = String::new();
    for (name, license, files) in packages {
        let archive = format!("archives/{name}.tar");
        let files: Vec<(&str, &[u8])> = files.iter().map(|(path, text)| (*path, text.as_bytes())).collect();
        garden.write_tar(&archive, &files);
        let card = json!({ "name": name, "version": "1.0.0", "published": "2026-03-01T09:00:00Z", "license": license,
            "homepage": format!("https://garden.example/{name}?a=\"&b=<"), "files": [{ "path": archive }] });
        cards += &format!("{card}\n");
    }
    garden.load(&cards);
    let needs: String = packages.iter().map(|(name, ..)| format!("{name} = \"1\"\n")).collect();
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &format!("{manifest}{needs}"));
    garden.run(&["install"]).expect(0);
    garden
}

#[test]
fn each_different_text_stands_once_with_those_that_it_is_of() {
    let garden = garden();
    let ran = garden.run(&["export", "notices"]).expect(0);
    let text = &ran.stdout;
    assert_eq!(text.matches("Permission is hereby granted").count(), 1, "{text}");
    assert!(text.contains("Text 1: MIT\n"), "{text}");
    assert!(
        text.contains(
            "Of bark-log 1.0.0 (LICENSE), dew-point 1.0.0 (COPYING.txt), moss-map 1.0.0 (LICENSES/MIT.txt)\n"
        ),
        "{text}"
    );
    assert!(
        text.contains("Leaf palette, by the garden") && text.contains("Of dew-point 1.0.0 (AUTHORS)"),
        "{text}"
    );
    assert!(
        text.contains("Apache License") && text.contains("    https://garden.example/moss-map"),
        "{text}"
    );
    assert!(
        text.contains("soil-curve 1.0.0\n    Zlib\n") && text.contains("    It has no licence text.\n"),
        "{text}"
    );
    assert!(!text.contains("int x;"));
    for told in [
        "rain-ledger 1.0.0 declares MIT, but LICENSE reads like BSD-3-Clause",
        "moss-map 1.0.0 declares MIT OR Apache-2.0, but vendor/zinc/LICENSE reads like BSD-3-Clause",
        "no licence text is in soil-curve",
        "rain-ledger 1.0.0 has no text of MIT",
    ] {
        assert!(ran.stderr.contains(told), "{told}: {}", ran.stderr);
    }
    // What was found out is remembered, and leads to the same.
    assert!(garden.path("store/registries/license-texts.json").exists());
    assert_eq!(garden.run(&["export", "notices"]).expect(0).stdout, *text);
    garden.write("store/registries/license-texts.json", "{");
    assert_eq!(garden.run(&["export", "notices"]).expect(0).stdout, *text);
}

#[test]
fn mismatches_are_findings_of_check() {
    let garden = garden();
    let json = garden.run(&["check", "--format", "json"]).expect(0).json();
    let findings = json["findings"].as_array().unwrap();
    let found: Vec<_> = findings
        .iter()
        .map(|one| {
            (one["code"].as_str().unwrap(), one["package"].as_str().unwrap(), one["text"].as_str().unwrap())
        })
        .collect();
    assert_eq!(
        found,
        [("license-text", "moss-map", "vendor/zinc/LICENSE"), ("license-text", "rain-ledger", "LICENSE")]
    );
    assert_eq!(findings[1]["reads-like"], json!(["BSD-3-Clause"]));
    assert!(
        findings[1]["message"]
            .as_str()
            .unwrap()
            .contains("declares MIT, but LICENSE reads like BSD-3-Clause")
    );
    // Without the packages in the store there is nothing to read.
    fs::remove_dir_all(garden.path("store")).unwrap();
    assert_eq!(garden.run(&["check", "--format", "json"]).expect(0).json()["findings"], json!([]));
}

#[test]
fn nothing_in_a_text_acts_in_markdown_or_html() {
    let garden = garden();
    let markdown = garden.run(&["export", "notices", "--as", "markdown"]).expect(0).stdout;
    assert!(markdown.contains("\n`````text\nMoss</pre>"), "{markdown}");
    let html = garden.run(&["export", "notices", "--as", "html"]).expect(0).stdout;
    assert!(!html.contains("<script") && html.contains("Moss&lt;&#x2f;pre&gt;&lt;script&gt;"), "{html}");
    assert!(!html.contains("?a=\"&b=<"), "{html}");
}

#[test]
#[ignore = "needs a browser, which `.ci/run` sets up"]
fn the_page_shows_in_a_browser() {
    let garden = garden();
    garden.run(&["export", "notices", "--as", "html", "-o", "notices.html"]).expect(0);
    let profile = format!("--user-data-dir={}", garden.path("profile").display());
    let page = format!("file://{}", garden.path("gate/notices.html").display());
    let mut browser = Command::new(needed("BIBLIOTAX_TEST_BROWSER"));
    let output =
        browser.args(["--headless", "--no-sandbox", "--dump-dom", &profile, &page]).output().unwrap();
    let dom = String::from_utf8(output.stdout).unwrap();
    assert!(dom.contains("<h1>Third-party notices for gate-kiosk</h1>"), "{dom}");
    assert_eq!(dom.matches("<tr>").count(), 8, "{dom}");
    assert!(!dom.contains("<script"), "{dom}");
}
