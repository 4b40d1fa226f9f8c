//! Numbers, needs and fits in words.

use bibliotax_core::card::CardNeed;
pub use bibliotax_core::facet::words::{fits, machine};
use bibliotax_core::facet::{Facet, Facets, Fit, FitValue, Misfit, Target};
use bibliotax_core::license::License;
use bibliotax_core::name::{ComponentName, FacetName, PackageName};
use bibliotax_core::range::Range;
use bibliotax_core::steps::Place;
use bibliotax_core::version::Version;

/// A licence, or that none is declared.
pub fn license_words(license: Option<&License>) -> String {
    license.map_or_else(|| "no licence declared".to_owned(), ToString::to_string)
}

/// A size in bytes with three digits or so: `812 B`, `18.2 KiB`.
pub fn size(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return format!("{bytes} B");
    }
    let mut amount = bytes as f64 / 1024.0;
    let mut unit = 0;
    while amount >= 1024.0 && unit + 1 < UNITS.len() {
        amount /= 1024.0;
        unit += 1;
    }
    format!("{amount:.1} {}", UNITS[unit])
}

/// `1 package`, `2 packages`.
pub fn count(number: usize, what: &str) -> String {
    format!("{number} {}", noun(number, what))
}

/// The noun of a number of things: `package`, `packages`.
pub fn noun(number: usize, one: &str) -> String {
    if number == 1 { one.to_owned() } else { format!("{one}s") }
}

/// A sentence begins with a capital letter.
pub fn capitalised(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// A need of a card: `valve-proto 1 with trace where linux`.
pub fn need(need: &CardNeed) -> String {
    format!("{} {}", need.name, need_beside_name(need))
}

/// What a need of a card says beside the name.
pub fn need_beside_name(need: &CardNeed) -> String {
    let names: Vec<&str> = need.components.iter().map(ComponentName::as_str).collect();
    let with = if names.is_empty() { String::new() } else { format!(" with {}", names.join(" and ")) };
    let bare = if need.bare { ", bare" } else { "" };
    let purpose = need.purpose.as_ref().map(|purpose| format!(" for {purpose}")).unwrap_or_default();
    let when = if need.when.is_empty() { String::new() } else { format!(" where {}", fits(&need.when)) };
    format!("{}{with}{bare}{purpose}{when}", need.range)
}

/// The line of a manifest that declares a package from a version on.
pub fn manifest_line(name: &PackageName, version: &Version) -> String {
    format!("{} = \"{}\"", manifest_key(name), Range::from_version(version))
}

/// A package's name as a key of a manifest: one with a scope stands in quotes.
pub fn manifest_key(name: &PackageName) -> String {
    if name.as_str().contains('/') { format!("\"{name}\"") } else { name.to_string() }
}

/// Where a step is to be done.
pub fn step_place(place: &Place) -> String {
    match place {
        Place::Project => "once, for the project".to_owned(),
        Place::Target(target) => format!("for {target}"),
        Place::Device(device) => format!("on {device}"),
        Place::EachDevice(Some(target)) => format!("on each device of {target}"),
        Place::EachDevice(None) => "on each device".to_owned(),
    }
}

/// Whether a release fits, and why not.
pub fn fit(fit: &Fit, facets: &Facets) -> String {
    match fit {
        Fit::Yes => "yes".to_owned(),
        Fit::NotDeclared(undeclared) => {
            let names: Vec<&str> = undeclared.iter().map(FacetName::as_str).collect();
            format!("not declared: {}", names.join(", "))
        }
        Fit::No(Misfit::Part { part, there_are }) => {
            let there_are: Vec<String> = there_are.iter().map(fits).collect();
            format!("no: has {part} only for {}", there_are.join(" or "))
        }
        Fit::No(Misfit::Facet { facet, wanted, said }) => match (facets.get(facet), said) {
            (Some(Facet::Ladder { .. }), _) => format!("no: asks for {facet} {said}, not {wanted}"),
            (_, FitValue::Claim(_)) => format!("no: declares that it doesn't support {facet}"),
            _ => format!("no: works only with {facet} {said}"),
        },
    }
}

/// What a place is called beside others; whose promise it is goes without saying where a project is alone.
pub fn place_name(place: &Target, is_alone: bool) -> String {
    match (place.is_promise, is_alone) {
        (false, _) => place.name.clone(),
        (true, true) => "the promise".to_owned(),
        (true, false) => format!("{}'s promise", place.name),
    }
}

/// One word: `yes`, `no`, `not declared`.
pub fn fit_word(fit: &Fit) -> &'static str {
    match fit {
        Fit::Yes => "yes",
        Fit::NotDeclared(_) => "not declared",
        Fit::No(_) => "no",
    }
}

/// The first of some words with commas between them, and how many more there are.
pub fn first_few(words: &[impl AsRef<str>], most: usize) -> String {
    let shown: Vec<&str> = words.iter().take(most).map(AsRef::as_ref).collect();
    let more = words.len().saturating_sub(most);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    shown.join(", ") + &more
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_short_and_counts_agree() {
        let rows =
            [(0, "0 B"), (1023, "1023 B"), (1024, "1.0 KiB"), (18_637, "18.2 KiB"), (5 << 30, "5.0 GiB")];
        for (bytes, text) in rows {
            assert_eq!(size(bytes), text);
        }
        assert_eq!((count(1, "file"), count(0, "file")), ("1 file".into(), "0 files".into()));
    }
}
