//! Values of facets in words.

use super::Fits;

/// What is said of facets, in words: `linux/x86_64`, `linux with orchard-runtime 4`.
pub fn fits(said: &Fits) -> String {
    let machine = machine(said);
    let rest = said.iter().filter(|(facet, _)| !SPEAKING.contains(&facet.as_str()));
    let rest: Vec<String> = rest.map(|(facet, value)| format!("{facet} {value}")).collect();
    match (machine.is_empty(), rest.is_empty()) {
        (true, true) => "every target".to_owned(),
        (true, false) => rest.join(" and "),
        (false, true) => machine,
        (false, false) => format!("{machine} with {}", rest.join(" and ")),
    }
}

/// The facets whose values speak for themselves, in the order in which people name them.
const SPEAKING: [&str; 2] = ["os", "arch"];

/// What is said of system and processor: `linux/x86_64`; nothing where that is nothing.
pub fn machine(said: &Fits) -> String {
    let value = |facet: &str| said.iter().find(|(name, _)| name.as_str() == facet).map(|(_, value)| value);
    let shown = |facet: &&str| {
        let value = value(facet)?;
        Some(if value.values().len() > 1 { format!("({value})") } else { value.to_string() })
    };
    SPEAKING.iter().filter_map(shown).collect::<Vec<_>>().join("/")
}
