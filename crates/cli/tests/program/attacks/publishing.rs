//! Publishers who say something else the second time, or publish what nobody can install.

use std::fs;

use crate::garden::{Garden, Ran};
use crate::server::{Place, serve};

const MANIFEST: &str = "[project]\nname = \"moss-map\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n[registries]\nseedhouse = \"../seedhouse\"\n\
    [card]\nsummary = \"Where moss grows\"\n[card.exposes]\ninclude = \"include\"\n";

fn garden() -> Garden {
    let garden = Garden::with(&[]);
    garden.write("moss/bibliotax.toml", MANIFEST);
    garden.write("moss/include/moss.h", "#define MOSS 1\n");
    garden.write("moss/lib/moss.txt", "moss\n");
    garden
}

#[test]
fn a_release_published_again_is_the_same_in_all_that_its_card_says() {
    let garden = garden();
    let (served, token) = (serve(&garden), Place::folder().token(&garden));
    // Parts alone: the manifest, which says something else each time, doesn't go along.
    let registries = format!("[registries]\nserved = \"{}\"\n", served.url);
    let manifest = MANIFEST.replace("[registries]\n", &registries) + "[[card.parts]]\nfrom = \"files\"\n";
    garden.write("moss/files/include/moss.h", "#define MOSS 1\n");
    garden.write("moss/files/lib/moss.txt", "moss\n");
    let publish = |to: &str, text: &str| -> Ran {
        garden.write("moss/bibliotax.toml", text);
        let host = served.url.trim_start_matches("http://").trim_end_matches('/');
        let mut command = garden.command("moss", &["publish", to]);
        garden.ran(command.env("BIBLIOTAX_TOKENS", format!("{host} {token}")).output().unwrap())
    };
    publish("seedhouse", &manifest).expect(0);
    for to in ["seedhouse", "served"] {
        let again = publish(to, &manifest).expect(0);
        assert!(again.stdout.contains("already"), "{again}");
        for (was, is, key) in [
            ("include = \"include\"", "include = \"lib\"", "`exposes`"),
            ("Where moss grows", "Where no moss grows", "`summary`"),
            ("[card]\n", "[card]\nhomepage = \"https://moss.example/\"\n", "`homepage`"),
            (
                "[card.exposes]",
                "[[card.steps]]\nid = \"wet\"\ntext = \"Water it\"\n[card.exposes]",
                "`steps`",
            ),
            ("license = \"MIT\"", "license = \"0BSD\"", "`license`"),
        ] {
            let refused = publish(to, &manifest.replace(was, is)).expect(5);
            assert!(
                refused.code() == "registry.exists"
                    && refused.stderr.contains(&format!("with different {key}")),
                "{to} {key}: {refused}"
            );
        }
    }
}

#[test]
fn what_can_not_be_installed_is_published_nowhere() {
    for path in ["include/CON.h", "include/MOSS.H", "include/a\u{301}.h"] {
        let garden = garden();
        garden.write(&format!("moss/{path}"), "more\n");
        garden.write("moss/include/\u{e1}.h", "more\n");
        let refused = garden.run_in("moss", &["publish"]);
        assert!(refused.status == 3 && refused.stderr.contains(path), "{path}: {refused}");
        assert!(fs::read_dir(garden.path("seedhouse/packages")).map_or(0, Iterator::count) == 0, "{path}");
        // Nor by an archive that is taken in with a card.
        garden.write_tar(
            "moss.tar",
            &[("include/moss.h", b"one"), (path, b"two"), ("include/\u{e1}.h", b"three")],
        );
        garden.write("cards.jsonl", "{\"name\":\"moss-map\",\"version\":\"1.0.0\",\"published\":\"2026-03-01T09:00:00Z\",\"files\":[{\"path\":\"moss.tar\"}]}\n");
        for more in [&["--dry-run"][..], &[]] {
            let args = [&["registry", "load", "seedhouse", "cards.jsonl"][..], more].concat();
            let refused = garden.run_in(".", &args).expect(3);
            assert!(refused.stderr.contains("can't be"), "{path}: {refused}");
        }
        assert!(fs::read_dir(garden.path("seedhouse/packages")).map_or(0, Iterator::count) == 0, "{path}");
    }
}
