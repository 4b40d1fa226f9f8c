//! The tags of a package's repository: each names one event of its history.

use bibliotax_core::card::Event;
use bibliotax_core::digest::Digest;
use bibliotax_core::version::Version;

use crate::model::history_limits::line_of;

/// The tag of a package's whole history.
pub const INDEX: &str = "index";

/// The tag of what a registry says of itself.
pub const ABOUT: &str = "about";

/// How the tags of events begin that are no releases.
const EVENT: &str = "event-";

/// How the tags of releases begin whose versions are too long for one.
const RELEASE: &str = "release-";

/// Longest tag (distribution specification, "Pulling manifests").
const MAX_TAG_LEN: usize = 128;

/// How much of a digest tells events from each other.
const UNIQUE_PREFIX_LEN: usize = 40;

/// The tag of an event: of a release its version, of others what tells them apart.
pub fn tag_of(event: &Event) -> String {
    match event {
        Event::Release(entry) => release_tag(&entry.version),
        _ => format!("{EVENT}{}", short(&line_of(event))),
    }
}

/// The tag of a release.
pub fn release_tag(version: &Version) -> String {
    // No version has an underscore, and no tag a plus.
    let tag = version.as_str().replace('+', "_");
    if tag.len() <= MAX_TAG_LEN { tag } else { format!("{RELEASE}{}", short(&tag)) }
}

/// Whether a tag may be that of an event; what other tools put beside them is theirs.
pub fn is_of_event(tag: &str) -> bool {
    let is_digest =
        |rest: &str| rest.len() == UNIQUE_PREFIX_LEN && rest.bytes().all(|byte| byte.is_ascii_hexdigit());
    let is_told_apart = [EVENT, RELEASE].iter().filter_map(|start| tag.strip_prefix(start)).any(is_digest);
    is_told_apart || tag.replace('_', "+").parse::<Version>().is_ok()
}

fn short(text: &str) -> String {
    Digest::of(text.as_bytes()).to_string()[..UNIQUE_PREFIX_LEN].to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_event_has_a_tag_that_registries_take() {
        let long = format!("1.0.0-{}", "moss.".repeat(30) + "1");
        for version in ["1", "1.2.0", "2.0.0-rc.1", "1.0+spring", &long] {
            let tag = release_tag(&version.parse().unwrap());
            let is_allowed = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
            assert!(tag.len() <= MAX_TAG_LEN && tag.chars().all(is_allowed), "{tag}");
            assert!(is_of_event(&tag), "{tag}");
        }
        let withdrawn = r#"{"event":"withdrawn","version":"1.0","reason":"wet","at":"2026-04-01T08:00:00Z"}"#;
        let event: Event = serde_json::from_str(withdrawn).unwrap();
        assert!(is_of_event(&tag_of(&event)), "{}", tag_of(&event));
        for other in [INDEX, ABOUT, "latest", "event-x", "sha256-aa.sig"] {
            assert!(!is_of_event(other), "{other}");
        }
    }
}
