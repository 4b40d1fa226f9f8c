//! Registries of containers that lie, go round in circles, or ask for what is not theirs.

#![allow(clippy::unwrap_used, reason = "a test that can't go on has failed")]

mod lying;

use std::net::TcpStream;
use std::sync::Arc;
use std::time::Duration;

use bibliotax_core::digest::Digest;
use bibliotax_core::manifest::Allowed;
use bibliotax_registry::RegistryError;
use bibliotax_registry::client::credentials::{Credential, CredentialRequest, Credentials};
use bibliotax_registry::client::network::Network;
use bibliotax_registry::client::oci::Oci;
use bibliotax_registry::model::release_status::Change;
use serde_json::json;

use crate::lying::{Server, package, release, whole};

const ABOUT: &str = "{\"format\":1,\"name\":\"seedhouse\"}\n";

/// Has one password, for every registry.
struct Pocket;

impl Credentials for Pocket {
    fn find(&self, _: &CredentialRequest<'_>) -> Result<Option<Credential>, RegistryError> {
        Ok(Some(Credential::password("moss", "fern-secret", "a pocket")))
    }
}

/// `moss:fern-secret` in Base64 (RFC 4648), in lowercase as heads are counted.
const SECRET: &str = "bw9zczpmzxjulxnly3jlda==";

/// The manifest of an artifact with a text of this kind, which describes the text as it should be.
fn manifest(kind: &str, text: &str) -> String {
    let empty =
        json!({ "mediaType": "application/vnd.oci.empty.v1+json", "size": 2, "digest": sha256("{}") });
    let blob = json!({ "mediaType": kind, "size": text.len(), "digest": sha256(text) });
    let manifest = json!({ "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "config": empty, "layers": [blob] });
    manifest.to_string()
}

fn sha256(text: &str) -> String {
    format!("sha256:{}", Digest::of(text.as_bytes()))
}

fn index(text: &str) -> String {
    manifest("application/vnd.bibliotax.history.v1+jsonl", text)
}

/// A registry that says properly what it is, and behaves so with everything else.
fn described(
    behaviour: impl Fn(&str, &mut TcpStream) -> std::io::Result<()> + Send + Sync + 'static,
) -> Server {
    Server::new(move |head, stream| {
        let about = manifest("application/vnd.bibliotax.registry.v1+json", ABOUT);
        match head {
            head if head.contains("/manifests/about") => whole(stream, "200 OK", "", about.as_bytes()),
            head if head.contains(&sha256(ABOUT)) => whole(stream, "200 OK", "", ABOUT.as_bytes()),
            head => behaviour(head, stream),
        }
    })
}

fn open(server: &Server) -> Oci {
    open_allowed(server, &Allowed::default())
}

fn open_allowed(server: &Server, allowed: &Allowed) -> Oci {
    let silence = Some(Duration::from_secs(20));
    let network = Network { credentials: Some(Arc::new(Pocket)), silence, ..Network::default() };
    let place = server.url.replace("http://", "oci://");
    Oci::open(&"seedhouse".parse().unwrap(), &format!("{place}garden"), allowed, &network).unwrap()
}

/// Asks for a history; how many releases it has, or the code of the error.
fn asked(server: &Server) -> Result<usize, &'static str> {
    let history = open(server).history(&package()).map_err(|error| error.code())?;
    Ok(history.map_or(0, |history| history.releases().len()))
}

fn withdraw(server: &Server) -> RegistryError {
    let change = Change::Withdraw { version: "1.0.0".parse().unwrap(), reason: "leaks".into() };
    open(server).change(&package(), &change, "2026-04-01T08:00:00Z".parse().unwrap()).unwrap_err()
}

#[test]
fn only_what_its_digest_says_is_a_history() {
    let with = |index: String, blob: String| {
        asked(&described(move |head, stream| match head {
            head if head.contains("/manifests/index") => whole(stream, "200 OK", "", index.as_bytes()),
            _ => whole(stream, "200 OK", "", blob.as_bytes()),
        }))
    };
    assert_eq!(with(index(&release()), release()), Ok(1));
    let other = release().replace("1.0.0", "9.0.0");
    assert_eq!(with(index(&release()), other.clone()), Err("registry.wrong-answer"), "another text");
    let held = index(&release()).replace("\"size\":", "\"data\":\"e30=\",\"size\":");
    assert_eq!(with(held, release()), Ok(1), "what a manifest holds is believed by its digest alone");
    let rows = [
        ("{}", "registry.wrong-answer"),
        ("<html>", "registry.wrong-answer"),
        (&manifest("text/plain", &release()), "registry.wrong-answer"),
        (&index(&release()).replace("sha256:", "md5:"), "registry.wrong-answer"),
        (&index("{\"event\":\"gone\"}\n"), "registry.wrong-answer"),
    ];
    for (index, code) in rows {
        assert_eq!(with(index.to_owned(), release()), Err(code), "{index}");
    }
    assert_eq!(with(index("<html>\n"), "<html>\n".to_owned()), Err("registry.broken"));
    assert_eq!(
        with("x".repeat(5 << 20), release()),
        Err("registry.wrong-answer"),
        "larger than any manifest"
    );
}

#[test]
fn lists_that_lead_round_in_circles_end() {
    let server = described(|head, stream| match head {
        head if head.contains("/tags/list") => {
            let next = "link: </v2/garden/moss-map/tags/list?last=a>; rel=\"next\"\r\n";
            whole(stream, "200 OK", next, b"{\"tags\":[\"1.0.0\"]}")
        }
        _ => whole(stream, "404 Not Found", "", b""),
    });
    let refused = withdraw(&server);
    assert!(refused.to_string().contains("no end"), "{refused}");
    assert!(server.count(|head| head.contains("/tags/list")) < 5, "{}", server.output());
}

#[test]
fn a_password_is_sent_once_it_is_asked_for_and_to_nobody_else() {
    let other = Server::new(|_, stream| whole(stream, "200 OK", "", release().as_bytes()));
    let elsewhere = other.url.clone();
    let server = described(move |head, stream| {
        let is_let_in = head.to_lowercase().contains(SECRET);
        let location = format!("location: {elsewhere}blob\r\n");
        match head {
            _ if !is_let_in => {
                whole(stream, "401 Unauthorized", "www-authenticate: Basic realm=\"garden\"\r\n", b"")
            }
            head if head.contains("/manifests/index") => {
                whole(stream, "200 OK", "", index(&release()).as_bytes())
            }
            head if head.contains("/tags/list") => whole(stream, "200 OK", "", b"{\"tags\":[\"1.0.0\"]}"),
            head if head.starts_with("GET") => whole(stream, "307 Temporary Redirect", &location, b""),
            head if head.starts_with("POST") => whole(stream, "202 Accepted", &location, b""),
            _ => whole(stream, "404 Not Found", "", b""),
        }
    });
    assert_eq!(asked(&server), Ok(1), "a blob may lie elsewhere: {}", server.output());
    let _ = withdraw(&server);
    assert!(
        other.count(|head| head.starts_with("put ")) > 0,
        "an upload may go elsewhere: {}",
        other.output()
    );
    assert_eq!(other.count(|head| head.contains("authorization")), 0, "{}", other.output());
    assert_eq!(
        server.count(|head| head.contains("/about") && head.contains(SECRET)),
        0,
        "it wasn't asked for"
    );
}

#[test]
fn who_lets_nobody_in_is_not_asked_for_ever() {
    let server = described(|_, stream| {
        whole(stream, "401 Unauthorized", "www-authenticate: Basic realm=\"garden\"\r\n", b"")
    });
    assert_eq!(asked(&server), Err("registry.refused"));
    assert_eq!(server.count(|head| head.contains("/manifests/index")), 2, "{}", server.output());
}

#[test]
fn no_password_goes_where_tokens_are_given_out_without_encryption() {
    let server = described(|_, stream| {
        let realm =
            "www-authenticate: Bearer realm=\"http://tokens.seedhouse.example/token\",service=\"garden\"\r\n";
        whole(stream, "401 Unauthorized", realm, b"")
    });
    let refused = open(&server).history(&package()).unwrap_err();
    assert_eq!(refused.code(), "registry.plain", "{refused}");
    assert_eq!(server.count(|head| head.contains("authorization")), 0, "{}", server.output());
}

#[test]
fn a_password_goes_to_another_host_for_a_token_only_where_the_manifest_names_it() {
    let tokens = Server::new(|_, stream| whole(stream, "200 OK", "", b"{\"token\":\"let-me-in\"}"));
    let elsewhere = tokens.url.trim_end_matches('/').replace("127.0.0.1", "localhost");
    let realm = format!("www-authenticate: Bearer realm=\"{elsewhere}/token\",service=\"garden\"\r\n");
    let server = described(move |head, stream| match head {
        head if head.contains("let-me-in") && head.contains("/manifests/index") => {
            whole(stream, "200 OK", "", index(&release()).as_bytes())
        }
        head if head.contains("let-me-in") => whole(stream, "200 OK", "", release().as_bytes()),
        _ => whole(stream, "401 Unauthorized", &realm, b""),
    });
    let ask = |allowed: &Allowed| {
        let opened = open_allowed(&server, allowed);
        opened.history(&package()).map(|history| history.map_or(0, |history| history.releases().len()))
    };
    for realm in [None, Some("https://other.example".to_owned())] {
        let refused = ask(&Allowed { realm, ..Allowed::default() }).unwrap_err();
        assert!(
            refused.code() == "registry.other-host" && refused.to_string().contains(&elsewhere),
            "{refused}"
        );
        assert_eq!(tokens.count(|_| true), 0, "{}", tokens.output());
    }
    let allowed = Allowed { realm: Some(elsewhere.clone()), ..Allowed::default() };
    assert_eq!(ask(&allowed).unwrap(), 1);
    assert!(tokens.count(|head| head.contains(SECRET)) > 0, "{}", tokens.output());
}
