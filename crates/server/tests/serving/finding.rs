//! Searching a registry that is served: by its list of names, or by asking the server.

use bibliotax_core::facet::Target;
use bibliotax_core::manifest::RegistryDeclaration;
use bibliotax_registry::RegistryError;
use bibliotax_registry::catalogue::registry::Registry;
use bibliotax_registry::client::network::Network;
use bibliotax_registry::model::storage::ReadRegistryExt;
use bibliotax_registry::search::{FitWord, Found, Query, read_place};
use jiff::Timestamp;

use crate::pages::server;
use crate::server::{Server, status};

fn find(
    server: &Server,
    network: &Network,
    words: &str,
    places: Vec<Target>,
) -> Result<Found, RegistryError> {
    let declaration = RegistryDeclaration {
        name: "seedhouse".parse().unwrap(),
        url: format!("http://{}/", server.address),
        mirrors: Vec::new(),
        allowed: Default::default(),
        owns: Vec::new(),
        span: 0..0,
    };
    let folder = tempfile::tempdir().unwrap();
    let source = Registry::open(&declaration, folder.path(), network)?;
    let query = Query { words: words.to_owned(), places, page: 0 };
    source.find(&query, &source.all_facets(), folder.path(), Timestamp::now())
}

#[test]
fn asking_the_server_finds_what_its_list_would() {
    let server = server();
    let cache = tempfile::tempdir().unwrap();
    let by_list = Network { cache: Some(cache.path().to_owned()), ..Network::default() };
    let by_server = Network { longest_list: Some(0), ..by_list.clone() };
    for words in ["rain", "wether", "moss rain", "kettle", ""] {
        let linux = read_place("os:linux", &server.registry.all_facets()).unwrap();
        let [mut one, mut other] =
            [&by_server, &by_list].map(|network| find(&server, network, words, vec![linux.clone()]).unwrap());
        // The server has a clock of its own, so what is fresh differs by a little.
        for found in [&mut one, &mut other] {
            found.hits.iter_mut().for_each(|hit| hit.score = 0.0);
        }
        assert_eq!(one, other, "{words}");
    }
    let linux = read_place("os:linux", &server.registry.all_facets()).unwrap();
    let rain = &find(&server, &by_server, "rain", vec![linux]).unwrap().hits[0];
    assert_eq!(rain.newest_fitting, Some("2.4.0".parse().unwrap()));
    assert_eq!(rain.fits, [FitWord::Yes]);
}

#[test]
fn questions_that_make_no_sense_are_refused() {
    let server = server();
    for (query, wanted) in [
        ("q=rain&page=1", 200),
        ("q=rain&page=999999", 200),
        ("q=rain&page=minus", 400),
        ("q=rain&fits=os", 422),
        ("q=rain&fits=no-such-facet:3", 422),
        ("q=%22%20OR%20%28%2A%20NEAR%5E", 200),
        ("q=%00%ff%27%3B--", 200),
        (&format!("q={}", "a".repeat(600)), 400),
        (&"fits=os:linux&".repeat(30), 400),
        ("", 200),
    ] {
        let request = format!("GET /api/v1/find?{query} HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n");
        assert_eq!(status(&server.say(request.as_bytes())), wanted, "{query}");
    }
}
