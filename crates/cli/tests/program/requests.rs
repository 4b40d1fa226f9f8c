//! How often a registry is asked: once for what can be asked at once.

use std::collections::BTreeMap;
use std::fs;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use crate::garden::Garden;
use crate::proxy;
use crate::served::{project, tokens_for, with_token};
use crate::server::{Buckets, Served, serve};

/// How many packages the registry has.
const PACKAGES: usize = 60;

/// Passes everything on to a server, and notes what it is asked.
struct Listening {
    url: String,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Listening {
    fn before(served: &Served) -> Self {
        Self::before_address(proxy::address_of(&served.url))
    }

    fn before_address(server: &str) -> Self {
        let asked = Arc::<Mutex<Vec<String>>>::default();
        let noted = asked.clone();
        let url = proxy::before(server, move |bytes| note(bytes, &noted), |_| ());
        Self { url, asked }
    }

    /// What was asked since the last time.
    fn all(&self) -> Vec<String> {
        self.asked.lock().unwrap().drain(..).collect()
    }

    /// What was asked since the last time, by kind.
    fn counts(&self) -> BTreeMap<String, usize> {
        let mut counts = BTreeMap::new();
        for request in self.all() {
            let (method, path) = request.split_once(' ').unwrap();
            let kind = match path.trim_start_matches('/').trim_start_matches("api/v1/") {
                path if path.starts_with("files/") => "files",
                path if path.starts_with("packages/") => "history",
                path => path,
            };
            *counts.entry(format!("{method} {kind}")).or_default() += 1;
        }
        counts
    }
}

/// Notes the request lines in these bytes: a client sends each request in a write of its own.
fn note(bytes: &[u8], asked: &Mutex<Vec<String>>) {
    let line = bytes.split(|byte| *byte == b'\r').next().unwrap_or_default();
    let line = String::from_utf8_lossy(line);
    if let Some(request) = line.strip_suffix(" HTTP/1.1") {
        asked.lock().unwrap().push(request.to_owned());
    }
}

/// A registry of packages that need the next one each.
fn chain() -> Vec<String> {
    let one = |number: usize| match number {
        0 => "moss-0 1.0.0".to_owned(),
        _ => format!("moss-{number} 1.0.0: moss-{} 1", number - 1),
    };
    (0..PACKAGES).map(one).collect()
}

fn asked(pairs: &[(&str, usize)]) -> BTreeMap<String, usize> {
    pairs.iter().map(|(kind, count)| ((*kind).to_owned(), *count)).collect()
}

#[test]
fn what_can_be_asked_at_once_is_asked_once() {
    let releases = chain();
    let releases: Vec<&str> = releases.iter().map(String::as_str).collect();
    let garden = Garden::with(&releases);
    let served = serve(&garden);
    let listening = Listening::before(&served);
    project(&garden, "gate", &listening.url, "gate-kiosk", "1.0.0");
    garden.run(&["need", "moss-59"]).expect(0);
    let all = [("GET registry.json", 1), ("POST closure", 1), ("GET files", PACKAGES)];
    assert_eq!(listening.counts(), asked(&all), "need");

    // Histories and cards are known from here on, the archives are not.
    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    fs::remove_dir_all(garden.path("store")).unwrap();
    garden.run(&["install"]).expect(0);
    assert_eq!(listening.counts(), asked(&all), "install on a new machine");

    fs::remove_dir_all(garden.path("gate/shelf")).unwrap();
    garden.run(&["install", "--offline"]).expect(0);
    assert_eq!(listening.counts(), asked(&[]), "install offline");

    garden.publish(&["moss-0 1.1.0", "moss-30 1.1.0: moss-29 1"]);
    garden.run(&["update"]).expect(0);
    let update = [("GET registry.json", 1), ("POST closure", 1), ("GET files", 2)];
    assert_eq!(listening.counts(), asked(&update), "update");

    project(&garden, "valve", &listening.url, "fernhollow/valve-core", "0.4.0");
    garden.write("valve/src/valve.c", "int valve;\n");
    let args = ["registry", "token", "issue", "seedhouse", "a test", "--only", "*", "--format", "json"];
    let token = garden.run_in(".", &args).expect(0).json()["token"].as_str().unwrap().to_owned();
    assert!(tokens_for(&garden, "valve", &token).contains(&listening.url));
    let (status, output) = with_token(&garden, "valve", &["publish"], &token);
    assert_eq!(status, 0, "{output}");
    let publish = [
        ("GET registry.json", 1),
        ("GET history", 1),
        ("HEAD files", 1),
        ("PUT files", 1),
        ("POST releases", 1),
    ];
    assert_eq!(listening.counts(), asked(&publish), "publish");
}

#[test]
fn offline_no_card_is_asked_for_of_a_package_whose_history_is_known() {
    let garden = Garden::with(&["moss-map 1.0.0", "dew-point 1.0.0"]);
    let served = serve(&garden);
    let listening = Listening::before(&served);
    project(&garden, "gate", &listening.url, "gate-kiosk", "1.0.0");
    let targets = format!("{}[targets.kiosk]\nos = \"linux\"\n", garden.read("gate/bibliotax.toml"));
    garden.write("gate/bibliotax.toml", &targets);
    garden.run(&["fit", "moss-map"]).expect(0);
    assert_eq!(listening.counts(), asked(&[("GET registry.json", 1), ("GET history", 1)]), "fit");
    let mut offline = garden.command("gate", &["describe", "moss-map"]);
    let described = garden.ran(offline.env("BIBLIOTAX_OFFLINE", "1").output().unwrap()).expect(5);
    assert_eq!(described.code(), "registry.offline", "{described}");
    assert_eq!(listening.counts(), asked(&[]), "describe");
}

/// Whether a request to the bucket is one for each publish: not one that is made now and then only: who has tokens, how much
/// waits for its release, and that marks go which are of no use any more.
fn is_for_this_publisher(request: &str) -> bool {
    let lists_uploads =
        request.starts_with("GET ") && request.contains("prefix=") && request.contains("uploads");
    !(lists_uploads || request.contains("tokens.jsonl") || request.starts_with("POST "))
}

#[test]
#[ignore = "needs the bucket server of `tests/bucket-server`, which `.ci/run` sets up"]
fn a_publisher_asks_a_bucket_eight_times_at_most() {
    let garden = Garden::bare();
    let buckets = Buckets::start(&garden);
    let listening = Listening::before_address(&buckets.address());
    let place = buckets.place("seedhouse").through(&listening.url);
    place.run(&garden, &["registry", "create", &place.path, "--name", "seedhouse"]);
    let token = place.token(&garden);
    let served = place.try_to_serve(&garden, &["--listen", "127.0.0.1:0"]).unwrap();
    for version in ["1.0.0", "1.1.0", "1.2.0"] {
        project(&garden, version, &served.url, "moss-map", version);
        garden.write(&format!("{version}/moss.c"), &format!("int moss; // {version}\n"));
        listening.all();
        let (status, output) = with_token(&garden, version, &["publish"], &token);
        assert_eq!(status, 0, "{output}");
        let mut asked = listening.all();
        asked.retain(|request| is_for_this_publisher(request));
        // The first one finds out where the list of names ends.
        let most = if version == "1.0.0" { 12 } else { 8 };
        assert!((6..=most).contains(&asked.len()), "{version}: {asked:#?}");
    }
    let checked = place.run(&garden, &["registry", "check", &place.path]);
    assert_eq!(checked["findings"], serde_json::json!([]), "{checked}");
    // The marks of uploads go a moment after their releases.
    let uploads = garden.path("buckets/garden/seedhouse/private/uploads");
    let marks = || {
        let folders = fs::read_dir(&uploads).into_iter().flatten().flatten();
        folders.flat_map(|folder| fs::read_dir(folder.path()).into_iter().flatten()).count()
    };
    let is_clear = (0..500).any(|_| {
        thread::sleep(Duration::from_millis(20));
        marks() == 0
    });
    assert!(is_clear, "{}", marks());
}
