//! What `docs/operations.md` has people put into the configuration of other programs works as it stands there.

use std::fs;
use std::process::{Command, Stdio};

use crate::docs::{blocks, text_of};
use crate::garden::Garden;
use crate::outside::needed;
use crate::served::{project, write_certificates};
use crate::server::Place;
use crate::web::{Web, free_port, wait_for};

/// The block of the page in this language that has these words in it.
fn block(language: &str, words: &str) -> String {
    let all = blocks(&text_of("docs/operations.md"), language);
    all.into_iter().find(|block| block.contains(words)).unwrap()
}

/// A text with each of these words replaced, all of which have to be there.
fn with(text: &str, replaced: &[(&str, &str)]) -> String {
    replaced.iter().fold(text.to_owned(), |text, (old, new)| {
        assert!(text.contains(old), "{old} is not in {text}");
        text.replace(old, new)
    })
}

#[test]
#[ignore = "needs a web server, which `.ci/run` sets up"]
fn a_proxy_with_tls_leads_to_a_registry() {
    let garden = Garden::with(&["dew-point 1.0.0"]);
    write_certificates(&garden, &["localhost"], 2020..2090);
    let (outer, inner) = (free_port(), free_port());
    let file = |name: &str| garden.path(name).display().to_string();
    let server = with(
        &block("nginx", "proxy_pass"),
        &[
            ("listen 443", &format!("listen 127.0.0.1:{outer}")),
            ("/etc/ssl/packages.example.pem", &file("own.pem")),
            ("/etc/ssl/packages.example.key", &file("key.pem")),
            ("127.0.0.1:8630", &format!("127.0.0.1:{inner}")),
        ],
    );
    let place = Place::folder();
    let token = place.token(&garden);
    let listen = format!("127.0.0.1:{inner}");
    let served = place.try_to_serve(&garden, &["--listen", &listen, "--plain"]).unwrap();
    let _web = Web::with(&garden, &server, outer);
    let url = format!("https://localhost:{outer}");
    project(&garden, "gate", &url, "gate-kiosk", "1.0.0");
    // Larger than the proxy takes without being told to.
    let noise: Vec<u8> =
        (0..3_000_000_u32).map(|number| (number.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    fs::write(garden.path("gate/noise.bin"), noise).unwrap();
    let through = |args: &[&str]| {
        let mut command = garden.command("gate", args);
        command.env("SSL_CERT_FILE", garden.path("authority.pem"));
        let address = format!("{url} {token}");
        garden.ran(command.env("BIBLIOTAX_TOKENS", address).output().unwrap())
    };
    through(&["publish"]).expect(0);
    project(&garden, "gate", &url, "user", "1.0.0");
    through(&["need", "gate-kiosk", "dew-point"]).expect(0);
    assert_eq!(fs::metadata(garden.path("gate/shelf/gate-kiosk/noise.bin")).unwrap().len(), 3_000_000);
    drop(served);
}

#[test]
#[ignore = "needs a checker of services, which `.ci/run` sets up"]
fn a_service_is_one_that_systemd_takes_and_ends_when_it_is_told_to() {
    let garden = Garden::with(&["dew-point 1.0.0"]);
    let port = free_port();
    let program = garden.command(".", &[]).get_program().to_str().unwrap().to_owned();
    let unit = with(
        &block("ini", "[Service]"),
        &[
            ("/usr/bin/bibliotax", &program),
            ("/srv/registry", &garden.path("seedhouse").display().to_string()),
            ("8630", &port.to_string()),
        ],
    );
    let name = unit.lines().next().unwrap().rsplit('/').next().unwrap();
    garden.write(name, &unit);
    let mut checker = Command::new(needed("BIBLIOTAX_TEST_SERVICE_CHECKER"));
    let checked = checker.args(["verify", "--man=no"]).arg(garden.path(name)).output().unwrap();
    let said = String::from_utf8_lossy(&checked.stderr);
    let about: Vec<&str> = said.lines().filter(|line| line.contains(name)).collect();
    assert!(checked.status.success() && about.is_empty(), "{said}");
    let line = unit.lines().find_map(|line| line.strip_prefix("ExecStart=")).unwrap();
    let words: Vec<&str> = line.split(' ').collect();
    let mut service = garden.command(".", &words[1..]);
    let mut child = service.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    wait_for(port);
    project(&garden, "gate", &format!("http://127.0.0.1:{port}"), "user", "1.0.0");
    garden.run(&["need", "dew-point"]).expect(0);
    let told = Command::new("kill").arg("-TERM").arg(child.id().to_string()).status().unwrap();
    assert!(told.success() && child.wait().unwrap().success());
}
