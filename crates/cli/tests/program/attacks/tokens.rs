//! A manifest that wants a secret to go where it chooses.

use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};
use std::thread;

use crate::garden::Garden;

/// A server that asks everybody for what they have, and what it was sent.
struct Greedy {
    port: u16,
    heard: Arc<Mutex<String>>,
}

impl Greedy {
    fn start() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let (port, heard) = (listener.local_addr().unwrap().port(), Arc::new(Mutex::new(String::new())));
        let shared = Arc::clone(&heard);
        thread::spawn(move || {
            for mut stream in listener.incoming().map_while(Result::ok) {
                let mut request = [0; 4096];
                let read = stream.read(&mut request).unwrap_or(0);
                shared.lock().unwrap().push_str(&String::from_utf8_lossy(&request[..read]));
                let answer = "HTTP/1.1 401 Unauthorized\r\nwww-authenticate: Basic realm=\"moss\"\r\nconnection: close\r\ncontent-length: 0\r\n\r\n";
                let _ = stream.write_all(answer.as_bytes());
            }
        });
        Self { port, heard }
    }

    fn heard(&self) -> String {
        self.heard.lock().unwrap().to_lowercase()
    }
}

const SECRET: &str = "moss-under-the-fifth-stone";

#[test]
fn no_name_in_a_manifest_selects_a_secret() {
    let greedy = Greedy::start();
    let garden = Garden::bare();
    let port = greedy.port;
    garden.write(
        "home/.config/bibliotax/sign-ins.toml",
        &format!("[\"https://127.0.0.1:{port}\"]\ntoken = \"{SECRET}\"\n"),
    );
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        let file = garden.path("home/.config/bibliotax/sign-ins.toml");
        std::fs::set_permissions(file, std::fs::Permissions::from_mode(0o600)).unwrap();
    }
    // The secret is meant for other hosts, for the same host by an encrypted way, and for another port.
    let tokens = [
        "https://fernhollow",
        "https://packages.example",
        &format!("https://127.0.0.1:{port}"),
        "http://127.0.0.1",
    ]
    .map(|host| format!("{host} {SECRET}\n"))
    .concat();
    for name in ["fernhollow", "packages-example", "packages"] {
        for url in [
            format!("http://127.0.0.1:{port}"),
            format!("http://localhost:{port}"),
            format!("oci://127.0.0.1:{port}/x"),
        ] {
            let manifest = format!(
                "[project]\nname = \"gate\"\nversion = \"1.0.0\"\nlicense = \"MIT\"\n[registries]\n{name} = \"{url}\"\n[needs]\ndew-point = \"1\"\n"
            );
            garden.write("gate/bibliotax.toml", &manifest);
            for args in [&["install"][..], &["publish"], &["ready"], &["find", "dew"]] {
                let mut command = garden.command("gate", args);
                for variable in ["FERNHOLLOW", "PACKAGES_EXAMPLE", "PACKAGES", "127_0_0_1"] {
                    command.env(format!("BIBLIOTAX_TOKEN_{variable}"), SECRET);
                }
                let output = command.env("BIBLIOTAX_TOKENS", &tokens).output().unwrap();
                assert!(!output.status.success(), "{args:?}");
                assert!(!String::from_utf8_lossy(&output.stderr).contains(SECRET), "{args:?}");
            }
        }
    }
    let heard = greedy.heard();
    assert!(heard.contains("get /"), "it was asked: {heard}");
    assert!(!heard.contains("authorization"), "{heard}");
}

#[test]
fn a_secret_goes_to_the_host_that_its_line_names() {
    let greedy = Greedy::start();
    let garden = Garden::bare();
    let url = format!("http://127.0.0.1:{}", greedy.port);
    garden.write(
        "gate/bibliotax.toml",
        &format!("[project]\nname = \"gate\"\n[registries]\nmoss = \"{url}\"\n[needs]\ndew-point = \"1\"\n"),
    );
    let mut command = garden.command("gate", &["install"]);
    command
        .env("BIBLIOTAX_TOKENS", format!("https://packages.example other\n{url} {SECRET}"))
        .output()
        .unwrap();
    assert!(greedy.heard().contains(&format!("authorization: bearer {SECRET}")), "{}", greedy.heard());
    let mut command = garden.command("gate", &["install"]);
    let output = command.env("BIBLIOTAX_TOKENS", SECRET).output().unwrap();
    let ran = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.code() == Some(3) && ran.contains("line 1"), "{ran}");
    assert!(!ran.contains(SECRET), "{ran}");
}
