//! Pages and feeds of upstreams, of any text: reading ends, and each link is a whole URL.

#![no_main]

use bibliotax_core::follow::UrlPattern;
use bibliotax_registry::catalogue::upstream_releases::links::links_in;
use libfuzzer_sys::fuzz_target;
use url::Url;

fuzz_target!(|text: &str| {
    let place = Url::parse("https://files.example/moss/").unwrap();
    let pattern: UrlPattern = "moss-{version}.zip".parse().unwrap();
    for link in links_in(text, &place) {
        assert!(Url::parse(&link.url).is_ok_and(|url| matches!(url.scheme(), "https" | "http")));
        if let Some((_, text)) = pattern.release_of(&link.url) {
            assert!(link.url.contains(text));
        }
    }
});
