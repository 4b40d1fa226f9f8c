//! What the README and the guide tell people to type works as it stands there.

use std::fs;
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

use toml_edit::DocumentMut;

use crate::containers::{Containers, Open};
use crate::garden::{Garden, Ran};
use crate::server::Buckets;

/// A file of the project.
pub fn text_of(file: &str) -> String {
    fs::read_to_string(format!("{}/../../{file}", env!("CARGO_MANIFEST_DIR"))).unwrap()
}

/// The blocks of code in a text that are in this language.
pub fn blocks(text: &str, language: &str) -> Vec<String> {
    let mark = format!("```{language}\n");
    text.split(&mark).skip(1).map(|rest| rest.split("```").next().unwrap().to_owned()).collect()
}

/// Runs a script as a person would type it, each line of which has to succeed, with the program on the path.
fn typed(garden: &Garden, folder: &str, script: &str, env: &[(&str, String)]) -> Ran {
    let program = garden.command(folder, &[]);
    let bin = std::path::Path::new(program.get_program()).parent().unwrap().to_owned();
    let path = std::env::var("PATH").unwrap();
    let mut shell = Command::new("sh");
    shell.arg("-euc").arg(script).current_dir(program.get_current_dir().unwrap());
    shell.envs(program.get_envs().filter_map(|(key, value)| Some((key, value?))));
    shell.env("PATH", format!("{}:{path}", bin.display())).envs(env.iter().cloned());
    garden.ran(shell.stdin(Stdio::null()).output().unwrap())
}

#[test]
fn the_tour_of_the_readme_can_be_typed_as_it_stands() {
    let garden = Garden::bare();
    garden.run_in(".", &["demo", "--all", "demo"]).expect(0);
    let readme = text_of("README.md");
    let (_, tour) = readme.split_once("## A tour").unwrap();
    let script = blocks(tour, "sh").concat();
    assert!(script.lines().count() > 15, "{script}");
    let ran = typed(&garden, "demo", &script, &[]).expect(0);
    for part in [
        "no match for `sensr`",
        "21 packages are there",
        "no problems found",
        "valve-core 0.4.0 exists already",
    ] {
        assert!(ran.stdout.contains(part), "{part} is not in {ran}");
    }
}

#[test]
fn the_guide_s_makefile_builds_a_program() {
    let garden = Garden::bare();
    garden.run_in(".", &["demo", "demo"]).expect(0);
    let guide = text_of("docs/guide.md");
    let (links, makefile) = (blocks(&guide, "toml"), blocks(&guide, "make").concat());
    let links = links.into_iter().find(|block| block.starts_with("[links]")).unwrap();
    garden.write("demo/new/Makefile", &makefile);
    let main = "#include \"soil_curve.h\"\nint main(void) { return 0; }\n";
    garden.write("demo/new/main.c", main);
    garden
        .run_in(
            "demo/new",
            &["init", "--name", "gate-kiosk", "--registry", "seedhouse=../registries/seedhouse"],
        )
        .expect(0);
    let manifest = garden.read("demo/new/bibliotax.toml");
    garden.write("demo/new/bibliotax.toml", &format!("{manifest}\n{links}"));
    garden.run_in("demo/new", &["need", "soil-curve", "rain-ledger"]).expect(0);
    typed(&garden, "demo/new", "make\n./kiosk\n", &[]).expect(0);
}

/// The lines of a block of the guide that has this in it, but for those that leave something out.
fn lines_of_guide(part: &str) -> Vec<String> {
    let block =
        blocks(&text_of("docs/guide.md"), "sh").into_iter().find(|block| block.contains(part)).unwrap();
    block.lines().filter(|line| !line.contains('…')).map(str::to_owned).collect()
}

/// A garden whose registry stands where the guide's commands have it.
fn garden_of_guide() -> Garden {
    let garden = Garden::with(&["moss-map 1.0.0"]);
    fs::create_dir_all(garden.path("gate")).unwrap();
    fs::rename(garden.path("seedhouse"), garden.path("registry")).unwrap();
    garden
}

#[test]
#[ignore = "needs the bucket server of `tests/bucket-server`, which `.ci/run` sets up"]
fn the_guide_s_commands_for_buckets_work() {
    let garden = garden_of_guide();
    let buckets = Buckets::start(&garden);
    let env = buckets.place("seedhouse").env().to_vec();
    for line in lines_of_guide("s3://") {
        if !line.contains("serve") {
            typed(&garden, "gate", &line, &env).expect(0);
            continue;
        }
        let words: Vec<&str> = line.split_whitespace().skip(1).collect();
        let mut server = garden.command("gate", &[&words[..], &["--listen", "127.0.0.1:0"]].concat());
        let mut child = server.envs(env.iter().cloned()).stdout(Stdio::piped()).spawn().unwrap();
        let told = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
        assert!(told.into_iter().any(|told| told.contains("serving seedhouse at http://")), "{line}");
        child.kill().unwrap();
        child.wait().unwrap();
    }
}

#[test]
#[ignore = "needs a container registry, which `.ci/run` sets up"]
fn the_guide_s_commands_for_container_registries_work() {
    let garden = garden_of_guide();
    let containers = Containers::start(&garden, Open::ToAll);
    for line in lines_of_guide("oci://") {
        let line = line.replace("containers.fernhollow.example", &containers.host);
        typed(&garden, "gate", &line, &[]).expect(0);
    }
}

/// What stands behind the program's name wherever a text names a command.
fn commands_in(text: &str) -> Vec<String> {
    let spans = text.split('`').skip(1).step_by(2);
    spans.filter_map(|span| span.strip_prefix("bibliotax ")).map(|span| span.replace('\n', " ")).collect()
}

/// Words as a shell has them, as far as texts need it.
fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut is_quoted = false;
    for letter in line.chars() {
        match letter {
            '"' => is_quoted = !is_quoted,
            ' ' if !is_quoted => words.push(String::new()),
            letter => words.last_mut().unwrap().push(letter),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}

#[test]
fn every_command_that_a_text_names_is_one() {
    let garden = Garden::bare();
    fs::create_dir_all(garden.path("empty")).unwrap();
    let mut tried = 0;
    for file in ["README.md", "docs/guide.md", "docs/errors.md", "docs/security.md", "docs/formats.md"] {
        for line in commands_in(&text_of(file)) {
            let line = line.split(" < ").next().unwrap();
            let mut args = words(line);
            // What runs until it is ended, or is a form and no command.
            if line.contains("serve") || line.contains("--watch") || args[0] == "demo" || args[0] == "COMMAND"
            {
                args.truncate(1);
                args.retain(|word| word != "COMMAND");
                args.push("--help".to_owned());
            }
            let args: Vec<&str> = args.iter().map(String::as_str).collect();
            let ran = garden.run_in("empty", &args);
            let wrong = ["unexpected argument", "unrecognized subcommand", "invalid value"];
            assert!(
                !wrong.iter().any(|wrong| ran.stderr.contains(wrong)),
                "{file}: `bibliotax {line}`: {ran}"
            );
            fs::remove_dir_all(garden.path("empty")).unwrap();
            fs::create_dir_all(garden.path("empty")).unwrap();
            tried += 1;
        }
    }
    assert!(tried > 60, "{tried}");
}

#[test]
fn the_guide_s_manifests_are_manifests() {
    let guide = text_of("docs/guide.md");
    let all = blocks(&guide, "toml");
    assert!(all.len() > 10);
    for block in all {
        let parsed = block.parse::<DocumentMut>().unwrap_or_else(|error| panic!("{error}: {block}"));
        let is_manifest = parsed.iter().all(|(key, _)| {
            ["registries", "needs", "replace", "shelf", "tasks", "devices", "card"].contains(&key)
        });
        if !is_manifest || block.contains('…') {
            continue;
        }
        let garden = Garden::bare();
        let targets = "[targets.hand-unit]\narch = \"aarch64\"\n";
        let text = format!("[project]\nname = \"gate-kiosk\"\nversion = \"1.0.0\"\n\n{targets}\n{block}");
        garden.write("gate/bibliotax.toml", &text);
        let ran = garden.run(&["check"]);
        assert!(!ran.stderr.contains("manifest."), "{block}: {ran}");
    }
}
