//! Errors of the libraries that a test can't bring about through the program, as failures with their codes.

use std::io::{Error, ErrorKind};

use bibliotax_app::failure::Failure;
use bibliotax_archive::error::ArchiveError;
use bibliotax_core::digest::Digest;
use bibliotax_core::manifest::LinkWay;
use bibliotax_core::name::PackageName;
use bibliotax_disk::DiskError;
use bibliotax_registry::RegistryError;
use bibliotax_store::StoreError;

fn moss() -> PackageName {
    "moss-map".parse().unwrap()
}

#[test]
fn what_a_disk_refuses_is_told_by_what_helps() {
    for (kind, code) in [
        (ErrorKind::PermissionDenied, "disk.denied"),
        (ErrorKind::StorageFull, "disk.full"),
        (ErrorKind::ReadOnlyFilesystem, "disk.read-only"),
        (ErrorKind::NotFound, "disk.missing"),
        (ErrorKind::TimedOut, "disk.failed"),
    ] {
        let failure = Failure::from(DiskError::new("write", "shelf", Error::from(kind)));
        assert_eq!(failure.code, code);
        assert!(failure.advice.is_some(), "{code}");
    }
}

#[test]
fn what_a_store_refuses_has_a_code_and_advice() {
    let cut = ArchiveError::BrokeOff { what: "the connection".to_owned() };
    for (error, code) in [
        (StoreError::Lost { package: moss() }, "store.lost"),
        (StoreError::Damaged { package: moss(), archive: Digest::of(b"moss") }, "store.damaged"),
        (StoreError::Archive { package: moss(), source: cut }, "archive.broke-off"),
        (
            StoreError::NoSuchWay {
                way: LinkWay::Reflink,
                path: "shelf".into(),
                source: Error::from(ErrorKind::Unsupported),
            },
            "shelf.link",
        ),
    ] {
        let failure = Failure::from(error);
        assert_eq!(failure.code, code);
        assert!(failure.advice.is_some(), "{code}");
    }
}

#[test]
fn what_a_registry_refuses_has_a_code_and_advice() {
    for (error, code) in [
        (RegistryError::OnlyFiles { registry: "seedhouse".parse().unwrap() }, "registry.only-files"),
        (RegistryError::Undeclared { package: moss(), registry: "weeds".to_owned() }, "registry.undeclared"),
        (RegistryError::NoRoom { package: moss(), why: "it is full".to_owned() }, "event.no-room"),
    ] {
        let failure = Failure::from(error);
        assert_eq!(failure.code, code);
        assert!(failure.advice.is_some(), "{code}");
    }
}
