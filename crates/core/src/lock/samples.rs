//! Sample locks, for tests here and in other crates (feature `samples`).

#![allow(clippy::unwrap_used, reason = "the samples are fixed")]

mod any;

use crate::charter::{Charter, LockedCharter};
use crate::digest::Digest;
use crate::lock::{Lock, LockedNeed, LockedPackage, LockedProject};
use crate::name::{PackageName, RegistryName};
use crate::source::Source;

pub use self::any::{any_lock, slowly_reached, slowly_reached_in};

/// The source that tests have, and others beside it.
pub fn test_source(name: &str) -> Source {
    Source::Registry(name.parse::<RegistryName>().unwrap())
}

/// A lock with these packages and versions, all needed by one project, for tests here and next door.
pub fn test_lock(packages: &[(&str, &str)]) -> Lock {
    let package = |(name, version): &(&str, &str)| LockedPackage {
        name: name.parse().unwrap(),
        version: version.parse().unwrap(),
        source: test_source("seedhouse"),
        stood_in: false,
        card: Some(Digest::of(format!("{name} {version}").as_bytes())),
        license: Some("MIT".parse().unwrap()),
        targets: Vec::new(),
        components: Vec::new(),
        files: vec![],
        needs: vec![],
        left_out: Vec::new(),
        provides: Vec::new(),
        steps: Vec::new(),
        exposes: crate::exposes::Exposes::default(),
    };
    let need = |(name, _): &(&str, &str)| LockedNeed {
        name: name.parse().unwrap(),
        purpose: None,
        targets: Vec::new(),
    };
    let project = LockedProject {
        name: "gate-kiosk".parse().unwrap(),
        path: ".".into(),
        targets: Vec::new(),
        needs: packages.iter().map(need).collect(),
    };
    let registries = [("seedhouse".parse().unwrap(), Some("../registry".into()))].into();
    let packages = packages.iter().map(package).collect();
    let charters = Vec::new();
    Lock { made_from: Digest::of(b"inputs"), registries, charters, projects: vec![project], packages }
}

/// A charter's release with these ranges, as a lock has it.
pub fn test_charter(name: &str, version: &str, ranges: &[(&str, &str)]) -> LockedCharter {
    let range = |(name, range): &(&str, &str)| (name.parse().unwrap(), range.parse().unwrap());
    LockedCharter {
        name: name.parse().unwrap(),
        version: version.parse().unwrap(),
        source: "seedhouse".parse().unwrap(),
        card: Digest::of(format!("{name} {version}").as_bytes()),
        charter: Charter { ranges: ranges.iter().map(range).collect(), ..Charter::default() },
    }
}

/// `kiosk` and `hand` need moss, and `hand` probe for tests; moss needs stone and rain, rain needs dew, probe needs stone.
pub fn garden_lock() -> Lock {
    let mut lock =
        test_lock(&[("dew", "1"), ("moss", "2"), ("probe", "0.9"), ("rain", "2.4"), ("stone", "1")]);
    let name = |text: &str| text.parse::<PackageName>().unwrap();
    for (package, needs) in [("moss", &["rain", "stone"][..]), ("rain", &["dew"]), ("probe", &["stone"])] {
        let at = lock.packages.iter().position(|p| p.name == name(package)).unwrap();
        lock.packages[at].needs = needs.iter().map(|need| name(need)).collect();
    }
    let need = |package: &str, purpose: Option<&str>| LockedNeed {
        name: name(package),
        purpose: purpose.map(|purpose| purpose.parse().unwrap()),
        targets: Vec::new(),
    };
    let kiosk = lock.projects[0].clone();
    lock.projects = vec![
        LockedProject { name: name("kiosk"), needs: vec![need("moss", None)], ..kiosk.clone() },
        LockedProject {
            name: name("hand"),
            needs: vec![need("moss", None), need("probe", Some("test"))],
            ..kiosk
        },
    ];
    lock
}
