//! What opens hosts: found in variables, in a file and in the keyring, and sent nowhere else.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};

use insta::assert_snapshot;

use crate::garden::Garden;
use crate::outside::needed;
use crate::served::project;
use crate::server::{Place, serve};
use crate::web::Web;

/// A secret that can be found wherever it would lie.
const SECRET: &str = "moss-under-the-fourth-stone";

/// The password of the web server.
const PASSWORD: &str = "moss-under-the-third-stone";

/// Runs a command that gets this line on its input.
pub fn run_with_input(garden: &Garden, args: &[&str], line: &str, bus: Option<&str>) -> (i32, String) {
    let mut command = garden.command("gate", args);
    command.envs(bus.map(|bus| ("DBUS_SESSION_BUS_ADDRESS", bus)));
    let mut child =
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(format!("{line}\n").as_bytes()).unwrap();
    let output = child.wait_with_output().unwrap();
    let text = [output.stdout, output.stderr].map(|bytes| String::from_utf8(bytes).unwrap()).concat();
    (output.status.code().unwrap(), text)
}

/// Where a text is found below a folder.
pub fn found_below(folder: &Path, text: &str) -> Vec<String> {
    let out = Command::new("grep").args(["-rlaF", text]).arg(folder).output().unwrap();
    String::from_utf8(out.stdout).unwrap().lines().map(str::to_owned).collect()
}

/// A project that may publish to a served registry.
fn author(garden: &Garden, url: &str) {
    project(garden, "gate", url, "moss-map", "1.0.0");
    garden.write("gate/moss.c", "int moss;\n");
}

#[test]
fn a_token_is_kept_in_a_file_for_its_owner_alone_and_opens_its_host() {
    let garden = Garden::bare();
    let (served, token) = (serve(&garden), Place::folder().token(&garden));
    author(&garden, &served.url);
    let without = garden.run(&["publish"]).expect(2);
    assert!(without.code() == "token.missing" && without.stderr.contains("registry sign-in"), "{without}");
    let by_name = run_with_input(&garden, &["registry", "sign-in", "seedhouse", "--file"], &token, None);
    assert!(
        by_name.0 == 2 && by_name.1.contains(&format!("sign-in {}", served.url.trim_end_matches("/"))),
        "{}",
        by_name.1
    );
    let sign_in = ["registry", "sign-in", &served.url, "--file"];
    let (status, ran) = run_with_input(&garden, &sign_in, &token, None);
    assert!(status == 0 && !ran.contains(&token), "{ran}");
    let file = garden.path("home/.config/bibliotax/sign-ins.toml");
    assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    let ready = garden.run(&["ready"]).expect(0);
    assert!(
        ready
            .stdout
            .contains("with the credentials from the file GARDEN/home/.config/bibliotax/sign-ins.toml"),
        "{ready}"
    );
    assert!(!ready.to_string().contains(&token));
    garden.run(&["publish"]).expect(0);
    assert_eq!(found_below(&garden.path("."), &token).len(), 1, "nowhere else");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    assert_snapshot!(garden.run(&["publish"]), @"
    ----- stderr
    error: the file of credentials GARDEN/home/.config/bibliotax/sign-ins.toml can't be used: others may read it  (credentials.unusable)
    try: let only its owner read it (`chmod 600 GARDEN/home/.config/bibliotax/sign-ins.toml`), and name its tables after hosts
    ----- status 3
    ");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o600)).unwrap();
    garden.run(&["registry", "sign-out", "seedhouse"]).expect(0);
    assert!(!fs::read_to_string(&file).unwrap().contains(&token));
    assert!(
        garden
            .run(&["registry", "sign-out", "seedhouse"])
            .expect(0)
            .stdout
            .contains("no credentials are saved")
    );
    let wrong = run_with_input(&garden, &sign_in, "wrong", None);
    assert!(
        wrong.0 == 5 && wrong.1.contains("token.unknown") && wrong.1.contains("nothing was saved"),
        "{}",
        wrong.1
    );
    assert!(!fs::read_to_string(&file).unwrap().contains("wrong"));
    let nowhere = run_with_input(&garden, &["registry", "sign-in", &served.url], &token, None);
    assert!(nowhere.0 == 3 && nowhere.1.contains("--file"), "{}", nowhere.1);
    garden.run(&["registry", "token", "end", "../seedhouse", &token[10..18]]).expect(0);
    assert_eq!(run_with_input(&garden, &sign_in, &token, None).0, 5, "it was revoked");
    let elsewhere = ["registry", "sign-in", "http://127.0.0.1:9", "--file"];
    let untried = run_with_input(&garden, &elsewhere, "far away", None);
    assert!(untried.0 == 0 && untried.1.contains("couldn't be tried"), "{}", untried.1);
    assert_eq!(
        garden.run(&["registry", "sign-in", "../here", "--file"]).expect(2).code(),
        "credentials.host"
    );
    assert_eq!(garden.run(&sign_in).expect(2).code(), "token.missing");
}

#[test]
#[ignore = "needs a keyring, which `.ci/run` sets up"]
fn a_token_in_the_keyring_opens_its_host() {
    let bus = needed("BIBLIOTAX_TEST_KEYRING").into_string().unwrap();
    let garden = Garden::bare();
    let (served, token) = (serve(&garden), Place::folder().token(&garden));
    author(&garden, &served.url);
    let (status, ran) = run_with_input(&garden, &["registry", "sign-in", &served.url], &token, Some(&bus));
    assert!(status == 0 && ran.contains("in the keyring"), "{ran}");
    let with_bus = |args: &[&str]| {
        let out = garden.command("gate", args).env("DBUS_SESSION_BUS_ADDRESS", &bus).output().unwrap();
        (out.status.code().unwrap(), String::from_utf8([out.stdout, out.stderr].concat()).unwrap())
    };
    let (status, ran) = with_bus(&["ready"]);
    assert!(status == 0 && ran.contains("can be reached, with the credentials from the keyring"), "{ran}");
    assert_eq!(with_bus(&["publish"]).0, 0);
    assert!(with_bus(&["registry", "sign-out", "seedhouse"]).1.contains("deleted the credentials"));
    assert_eq!(with_bus(&["publish"]).0, 2);
    assert_eq!(found_below(&garden.path("home"), &token), [""; 0]);
}

#[test]
#[ignore = "needs nginx, which `.ci/run` sets up"]
fn what_wants_a_password_to_be_read_gets_it_and_other_hosts_never_do() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let web = Web::start(&garden);
    fs::rename(garden.path("seedhouse"), garden.path("web/closed")).unwrap();
    garden.write("web/closed-files/soil.tar", "");
    garden.write_tar("web/closed/soil-1.0.tar", &[("soil.h", b"1\n")]);
    let host = web.url.trim_start_matches("http://").to_owned();
    let manifest = format!(
        "[project]\nname = \"gate\"\n[registries]\nseedhouse = \"{}/closed\"\n[needs]\ndew-point = \"1\"\n",
        web.url
    );
    garden.write("gate/bibliotax.toml", &manifest);
    let refused = garden.run(&["install"]).expect(5);
    assert!(refused.code() == "token.unknown" && refused.stderr.contains("sign-in"), "{refused}");
    let sign_in = ["registry", "sign-in", &host, "--user", "moss", "--file"];
    assert_eq!(run_with_input(&garden, &sign_in, PASSWORD, None).0, 0);
    garden.run(&["install", "-vv"]).expect(0);
    let basic = "Basic bW9zczptb3NzLXVuZGVyLXRoZS10aGlyZC1zdG9uZQ==";
    let asked = Web::asked(&garden);
    assert!(asked.lines().any(|line| line.contains(basic) && line.ends_with("200")), "{asked}");
    // Sent on to another name of this machine, it is another host.
    garden.run(&["need", "soil", "--archive", &format!("{}/closed-sent-on/soil-1.0.tar", web.url)]).expect(5);
    let asked = Web::asked(&garden);
    let elsewhere: Vec<&str> = asked.lines().filter(|line| line.contains("localhost")).collect();
    assert!(!elsewhere.is_empty() && elsewhere.iter().all(|line| line.contains("[-]")), "{asked}");
}

#[test]
#[ignore = "needs nginx, which `.ci/run` sets up"]
fn no_secret_is_left_in_files_messages_or_processes() {
    let garden = Garden::with(&["dew-point 1.4.0"]);
    let served = serve(&garden);
    author(&garden, &served.url);
    let web = Web::start(&garden);
    let manifest = garden.read("gate/bibliotax.toml");
    let mirrors = format!("{{ url = \"{}\", mirrors = [\"{}/mirror\"] }}", served.url, web.url);
    garden.write("gate/bibliotax.toml", &manifest.replace(&format!("\"{}\"", served.url), &mirrors));
    garden.write("web/mirror/registry.json", &garden.read("seedhouse/registry.json"));
    let mut said = String::new();
    for args in [
        &["need", "dew-point", "-vv"][..],
        &["publish", "-vv"],
        &["ready", "--format", "json"],
        &["describe", "dew-point"],
        &["withdraw", "dew-point", "1.4.0", "--reason", "x", "-vv"],
        &["kit", "make", "../gate.kit"],
        &["install", "--sealed"],
    ] {
        let mut command = garden.command("gate", args);
        command.env("BIBLIOTAX_TOKENS", format!("{} {SECRET}", served.url)).env("RUST_BACKTRACE", "1");
        let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let line = fs::read(format!("/proc/{}/cmdline", child.id())).unwrap_or_default();
        said += &String::from_utf8_lossy(&line);
        let output = child.wait_with_output().unwrap();
        said += &String::from_utf8_lossy(&[output.stdout, output.stderr].concat());
    }
    assert!(said.contains("dew-point") && !said.contains(SECRET), "{said}");
    assert!(!Web::asked(&garden).contains(SECRET) && !Web::asked(&garden).contains("Bearer"));
    assert_eq!(found_below(&garden.path("."), SECRET), [""; 0]);
}
