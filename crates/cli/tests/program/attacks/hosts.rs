//! A registry, or a card in it, that sends people to other hosts, or to places that only their own machine or network reaches.

use std::io::{BufRead as _, BufReader, Write as _};
use std::net::TcpListener;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::thread;

use serde_json::json;

use crate::garden::Garden;
use crate::server::serve;

/// A proxy that answers for a host outside with the files below a folder, and notes what it is asked for.
struct Proxy {
    url: String,
    asked: Arc<Mutex<Vec<String>>>,
}

fn proxy(folder: PathBuf) -> Proxy {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    let asked = Arc::new(Mutex::new(Vec::new()));
    let noted = Arc::clone(&asked);
    thread::spawn(move || {
        for mut stream in listener.incoming().map_while(Result::ok) {
            let mut lines = BufReader::new(stream.try_clone().unwrap()).lines().map_while(Result::ok);
            let head = lines.next().unwrap_or_default();
            lines.take_while(|line| !line.is_empty()).for_each(drop);
            let target = head.split(' ').nth(1).unwrap_or_default().to_owned();
            noted.lock().unwrap().push(target.clone());
            let path = target.strip_prefix("http://packages.seedhouse.example/").unwrap_or("nothing");
            let _ = match std::fs::read(folder.join(path)) {
                Ok(bytes) => write!(
                    stream,
                    "HTTP/1.1 200 OK\r\nconnection: close\r\ncontent-length: {}\r\n\r\n",
                    bytes.len()
                )
                .and_then(|()| stream.write_all(&bytes)),
                Err(_) => stream
                    .write_all(b"HTTP/1.1 404 Not Found\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"),
            };
        }
    });
    Proxy { url, asked }
}

/// Loads a release whose archive is elsewhere.
fn load_elsewhere(garden: &Garden, version: &str, url: &str) {
    let card = json!({ "name": "moss-map", "version": version, "published": "2026-03-01T09:00:00Z",
        "files": [{ "sha256": "0".repeat(64), "size": 10, "format": "tar.gz", "url": url }] });
    garden.load(&format!("{card}\n"));
}

#[test]
fn no_card_makes_this_machine_ask_inside_for_a_registry_that_is_outside() {
    let garden = Garden::with(&[]);
    let inside = TcpListener::bind("127.0.0.1:0").unwrap();
    inside.set_nonblocking(true).unwrap();
    let port = inside.local_addr().unwrap().port();
    let urls = [
        format!("http://127.0.0.1:{port}/secret.tar.gz"),
        format!("http://localhost:{port}/secret.tar.gz"),
        format!("http://[::1]:{port}/secret.tar.gz"),
        format!("https://127.1:{port}/secret.tar.gz"),
        format!("https://2130706433:{port}/secret.tar.gz"),
        "https://169.254.169.254/latest/moss.tar.gz".to_owned(),
        "https://10.0.0.7/moss.tar.gz".to_owned(),
        "https://printer.local/moss.tar.gz".to_owned(),
        "https://[fd00::1]/moss.tar.gz".to_owned(),
    ];
    for (number, url) in urls.iter().enumerate() {
        load_elsewhere(&garden, &format!("1.{number}.0"), url);
    }
    let proxy = proxy(garden.path("seedhouse"));
    let manifest = |need: &str| {
        format!(
            "[project]\nname = \"gate-kiosk\"\n[registries]\n\
             seedhouse = {{ url = \"http://packages.seedhouse.example/\", plain = true }}\n[needs]\n{need}\n"
        )
    };
    for (number, url) in urls.iter().enumerate() {
        garden.write("gate/bibliotax.toml", &manifest(&format!("moss-map = \"= 1.{number}.0\"")));
        let mut command = garden.command("gate", &["install"]);
        let output = command.env("http_proxy", &proxy.url).env("no_proxy", "").output().unwrap();
        let stderr = String::from_utf8(output.stderr).unwrap();
        assert_eq!(output.status.code(), Some(6), "{url}: {stderr}");
        assert!(stderr.contains("(card.inner-url)"), "{url}: {stderr}");
    }
    // Nor do the places where cards say that upstream's releases appear.
    for (number, url) in urls.iter().enumerate() {
        let version = format!("2.{number}.0");
        let places = [
            json!({ "page": url, "archive": "moss-{version}.zip" }),
            json!({ "git": url }),
            json!({ "registry": url }),
        ];
        let card = json!({ "name": "moss-map", "version": version, "published": "2026-03-01T09:00:00Z",
            "follow": places[number % places.len()] });
        garden.load(&format!("{card}\n"));
        let mut command = garden.command("gate", &["describe", "moss-map", &version]);
        let output = command.env("http_proxy", &proxy.url).env("no_proxy", "").output().unwrap();
        let stdout = String::from_utf8(output.stdout).unwrap();
        assert!(
            output.status.success() && stdout.contains("inside this machine"),
            "{url}: {stdout} {}",
            String::from_utf8_lossy(&output.stderr)
        );
    }
    assert!(inside.accept().is_err(), "somebody asked inside");
    let asked = proxy.asked.lock().unwrap();
    assert!(
        !asked.is_empty() && asked.iter().all(|url| url.starts_with("http://packages.seedhouse.example/"))
    );
    // A registry on this machine may name others here.
    garden.write(
        "gate/bibliotax.toml",
        &manifest("moss-map = \"= 1.0.0\"").replace("http://packages.seedhouse.example/", "../seedhouse"),
    );
    inside.set_nonblocking(false).unwrap();
    let met = thread::spawn(move || {
        // Whoever comes is answered that there is nothing.
        let (mut stream, _) = inside.accept().unwrap();
        let lines = BufReader::new(stream.try_clone().unwrap()).lines().map_while(Result::ok);
        lines.take_while(|line| !line.is_empty()).for_each(drop);
        let _ = stream.write_all(b"HTTP/1.1 404 Not Found\r\nconnection: close\r\ncontent-length: 0\r\n\r\n");
    });
    let ran = garden.run(&["install"]);
    assert_eq!(ran.code(), "archive.gone", "{ran}");
    met.join().unwrap();
}

#[test]
fn an_interface_at_another_host_is_asked_only_where_the_manifest_says_so() {
    let garden = Garden::needing(&["dew-point 1.4.0"], "dew-point = \"1\"");
    let served = serve(&garden);
    let api = served.url.trim_end_matches('/').replace("127.0.0.1", "localhost");
    let manifest = garden.read("gate/bibliotax.toml");
    garden.write("copy/bibliotax.toml", "");
    // The same files behind another port, with an interface that somebody else answers.
    let copied = std::process::Command::new("cp")
        .arg("-a")
        .arg(garden.path("seedhouse"))
        .arg(garden.path("other"))
        .status();
    assert!(copied.unwrap().success());
    garden.write(
        "other/registry.json",
        &json!({ "format": 1, "name": "seedhouse", "service": format!("{api}/api/v1") }).to_string(),
    );
    let files = crate::attacks::exhaustion::drip(garden.path("other"), "\0");
    let with = |more: &str| {
        garden.write(
            "gate/bibliotax.toml",
            &manifest.replace("\"../seedhouse\"", &format!("{{ url = \"{files}\"{more} }}")),
        );
    };
    with("");
    let refused = garden.run(&["install"]).expect(6);
    assert_eq!(refused.code(), "registry.other-host");
    assert!(
        refused.stderr.contains("`service =") && refused.stderr.contains(&format!("\"{api}\"`")),
        "{refused}"
    );
    with(", service = \"https://somewhere.example\"");
    assert_eq!(garden.run(&["install"]).expect(6).code(), "registry.other-host");
    with(&format!(", service = \"{api}\""));
    garden.run(&["install"]).expect(0);
}
