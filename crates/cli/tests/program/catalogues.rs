//! Catalogues of archives that their authors have: fetched when cards are loaded, checked, and kept by mirrors.

use std::fs;

use crate::garden::{Garden, Ran};
use crate::web::Web;

/// A card with no more than a person knows of an archive.
fn card(web: &Web, exposes: &str) -> String {
    format!(
        "name = \"soil-curve\"\nversion = \"1.1.0\"\nlicense = \"MIT\"\nexposes = {{ include = [{exposes}] }}\n\n\
         [[files]]\nurl = \"{}/soil-curve-1.1\"\n",
        web.url
    )
}

fn load(garden: &Garden, card: &str) -> Ran {
    garden.write("catalogue/soil-curve.toml", card);
    garden.run_in(".", &["registry", "load", "seedhouse", "catalogue/soil-curve.toml", "--fetch"])
}

/// Puts an archive where its authors have it, under a name that tells nothing of its format.
fn write_upstream(garden: &Garden, header: &str) {
    let contents: &[(&str, &[u8])] = &[("soil-curve-1.1/include/soil.h", header.as_bytes())];
    garden.write_tar("web/soil-curve-1.1", contents);
}

/// Removes all that a machine has of packages.
fn forget(garden: &Garden) {
    for folder in ["store", "gate/shelf"] {
        let _ = fs::remove_dir_all(garden.path(folder));
    }
}

#[test]
#[ignore = "needs nginx, which `.ci/run` sets up"]
fn loading_fetches_what_cards_point_at_and_fills_in_what_they_lack() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let web = Web::start(&garden);
    write_upstream(&garden, "#define SOIL 1\n");
    let wrong = load(&garden, &card(&web, "\"headers\"")).expect(3);
    assert!(wrong.stderr.contains("headers"), "the archive holds no such folder: {wrong}");
    let unlike = card(&web, "\"include\"") + &format!("sha256 = \"{}\"\n", "0".repeat(64));
    let refused = load(&garden, &unlike).expect(3);
    assert!(refused.stderr.contains("the card says 0000"), "{refused}");
    let gone = card(&web, "\"include\"").replace("soil-curve-1.1\"", "soil-curve-9\"");
    assert!(load(&garden, &gone).expect(3).stderr.contains("soil-curve-9"), "nothing is there");

    let card = card(&web, "\"include\"");
    assert_eq!(load(&garden, &card).expect(0).stdout, "loaded 1 event into seedhouse\n");
    let again = load(&garden, &card).expect(0);
    assert_eq!(again.stdout, "loaded 0 events into seedhouse, 1 there already\n");
    garden.run(&["need", "soil-curve", "--quiet"]).expect(0);
    assert_eq!(
        garden.read("gate/shelf/soil-curve/include/soil.h"),
        "#define SOIL 1\n",
        "without its top folder"
    );
    let (lock, size) =
        (garden.read("gate/bibliotax.lock"), garden.path("web/soil-curve-1.1").metadata().unwrap());
    for part in ["\"format\":\"tar\"", "\"strip\":\"soil-curve-1.1\"", &format!("\"size\":{}", size.len())] {
        assert!(lock.contains(part), "{part} is not in {lock}");
    }
}

#[test]
#[ignore = "needs nginx, which `.ci/run` sets up"]
fn archives_of_a_catalogue_are_checked_and_kept_by_a_mirror() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let web = Web::start(&garden);
    write_upstream(&garden, "#define SOIL 1\n");
    load(&garden, &card(&web, "\"include\"")).expect(0);
    let check = ["registry", "check", "seedhouse", "--archives"];
    let whole = garden.run_in(".", &check).expect(0);
    assert!(whole.stdout.contains(", 1 archive from elsewhere"), "{whole}");

    let mirror = |args: &[&str]| {
        let args = [&["registry", "mirror", "seedhouse", "mirror"], args].concat();
        garden.run_in(".", &[&args[..], &["--format", "json"]].concat()).expect(0).json()["files"].clone()
    };
    assert_eq!(mirror(&["--files", "--dry-run"]), 4);
    assert_eq!(mirror(&["--files"]), 4, "two cards, an archive of the registry, and one of upstream");
    assert_eq!(mirror(&["--files"]), 0);

    write_upstream(&garden, "#define SOIL 9\n");
    let changed = garden.run_in(".", &check).expect(1);
    assert!(changed.stdout.contains("soil-curve") && changed.stdout.contains("digest"), "{changed}");
    fs::remove_file(garden.path("web/soil-curve-1.1")).unwrap();
    let gone = garden.run_in(".", &check).expect(1);
    assert!(gone.stdout.contains("soil-curve  1.1.0"), "{gone}");

    garden.run(&["need", "dew-point", "--quiet"]).expect(0);
    assert_eq!(garden.run(&["need", "soil-curve", "--quiet"]).expect(6).code(), "archive.gone");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("gate/bibliotax.toml", &manifest.replace("../seedhouse", "../mirror"));
    forget(&garden);
    garden.run(&["need", "soil-curve", "--quiet"]).expect(0);
    assert_eq!(garden.read("gate/shelf/soil-curve/include/soil.h"), "#define SOIL 1\n", "the mirror kept it");
}
