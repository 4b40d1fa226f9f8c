//! What a registry requires of a card, from every source: checked when a release is published and when one is
//! loaded.

use std::collections::{BTreeSet, HashMap};

use bibliotax_core::card::{Card, CardNeed, Step};
use bibliotax_core::escape::{escaped, is_hidden};
use bibliotax_core::exposes::Exposed;
use bibliotax_core::facet::Facets;
use bibliotax_core::file_selection::FileSelection;
use bibliotax_core::follow::{Follow, FollowedPlace, UrlPattern};
use bibliotax_core::inner_path::{InnerPath, as_seen};
use bibliotax_core::name::PartName;
use serde_json::Value;
use url::Url;

use crate::model::card_problem::{CardProblem, MAX_STEP_LEN, MAX_STEPS, MAX_TAGS};
use crate::model::error::RegistryError;
use crate::model::private_hosts::is_loopback;

/// How many characters before a letter tell where it is.
const SHOWN_CONTEXT: usize = 30;

/// Whether a card may name a URL that is fetched: nobody on the way may read or change what comes.
fn is_safe_url(url: &str) -> bool {
    let parsed = Url::parse(url).ok().filter(|url| url.username().is_empty() && url.password().is_none());
    parsed.is_some_and(|url| url.scheme() == "https" || url.scheme() == "http" && is_loopback(&url))
}

fn check_url(url: &str) -> Result<(), CardProblem> {
    if is_safe_url(url) { Ok(()) } else { Err(CardProblem::FileUrl { url: url.to_owned() }) }
}

/// Checks the places where a card says that releases appear, and where their archives are.
fn check_follow(follow: &Follow) -> Result<(), CardProblem> {
    let is_container = |url: &str| {
        let is_registry = matches!(follow.place, FollowedPlace::Registry { .. });
        is_registry && url.strip_prefix("oci://").is_some_and(|rest| is_safe_url(&format!("https://{rest}")))
    };
    let archive = follow.archive.as_ref().filter(|pattern| pattern.is_whole()).map(UrlPattern::as_str);
    let unsafe_url = |url: &&str| !is_safe_url(url) && !is_container(url);
    match [Some(follow.place.url()), archive].into_iter().flatten().find(unsafe_url) {
        Some(url) => Err(CardProblem::FollowUrl { url: url.to_owned() }),
        None => Ok(()),
    }
}

/// Checks a card against what a registry defines, and its files against each other.
pub fn check_card(registry: &str, facets: &Facets, card: &Card) -> Result<(), CardProblem> {
    check_letters(card)?;
    check_facets(registry, facets, card)?;
    facets.check_variants(&card.files)?;
    card.files.iter().filter_map(|file| file.url.as_deref()).try_for_each(check_url)?;
    card.follow.as_ref().map_or(Ok(()), check_follow)?;
    if card.tags.len() > MAX_TAGS {
        return Err(CardProblem::ManyTags { count: card.tags.len() });
    }
    check_steps(&card.steps)?;
    check_charter(card)?;
    for (name, component) in &card.components {
        let has = |part: &PartName| card.files.iter().any(|file| file.part == *part);
        if let Some(part) = component.parts.iter().find(|part| !has(part)) {
            return Err(CardProblem::NoPart { component: name.clone(), part: part.clone() });
        }
    }
    Ok(())
}

/// Checks that no text of a card has letters that a terminal acts on or nobody sees, but for lines and tabs.
fn check_letters(card: &Card) -> Result<(), CardProblem> {
    // Names, texts and lists of them: nothing that could fail to be JSON.
    let mut open = vec![serde_json::to_value(card).unwrap_or_default()];
    while let Some(value) = open.pop() {
        match value {
            Value::String(text) => check_text(&text)?,
            Value::Array(values) => open.extend(values),
            Value::Object(fields) => {
                for (key, value) in fields {
                    check_text(&key)?;
                    open.push(value);
                }
            }
            Value::Null | Value::Bool(_) | Value::Number(_) => {}
        }
    }
    Ok(())
}

fn check_text(text: &str) -> Result<(), CardProblem> {
    let is_hidden = |c: char| is_hidden(c) && !matches!(c, '\n' | '\t');
    match text.char_indices().find(|(_, c)| is_hidden(*c)) {
        None => Ok(()),
        Some((at, hidden)) => {
            let before: Vec<char> = text[..at].chars().rev().take(SHOWN_CONTEXT).collect();
            let before: String = before.into_iter().rev().collect();
            let place = if at == 0 { "at its beginning".to_owned() } else { format!("after `{before}`") };
            Err(CardProblem::HiddenLetter {
                hidden: escaped(hidden.encode_utf8(&mut [0; 4])).into_owned(),
                place,
            })
        }
    }
}

/// Checks that a charter brings nothing.
fn check_charter(card: &Card) -> Result<(), CardProblem> {
    let brought = [
        ("files", card.files.is_empty()),
        ("needs", card.needs.is_empty()),
        ("components", card.components.is_empty()),
        ("capabilities", card.provides.is_empty()),
        ("conflicts", card.conflicts.is_empty()),
        ("family", card.family.is_none()),
        ("steps", card.steps.is_empty()),
        ("exposed paths", card.exposes.is_empty()),
    ];
    let mut brought = brought.into_iter().filter(|(_, is_empty)| !is_empty && card.charter.is_some());
    brought.next().map_or(Ok(()), |(what, _)| Err(CardProblem::CharterWith { what }))
}

fn check_steps(steps: &[Step]) -> Result<(), CardProblem> {
    if steps.len() > MAX_STEPS {
        return Err(CardProblem::ManySteps { count: steps.len() });
    }
    for (at, step) in steps.iter().enumerate() {
        let (id, length) = (step.id.clone(), step.text.chars().count());
        if steps[..at].iter().any(|other| other.id == id) {
            return Err(CardProblem::TwoSteps { id });
        }
        if length > MAX_STEP_LEN {
            return Err(CardProblem::LongStep { id, length });
        }
    }
    Ok(())
}

fn check_facets(registry: &str, facets: &Facets, card: &Card) -> Result<(), CardProblem> {
    let of_components = card.components.values().flat_map(|component| &component.needs);
    let condition = |need: &CardNeed| (format!("the condition on {}", need.name), need.when.clone());
    let conditions = card.needs.iter().chain(of_components).map(condition);
    let files =
        card.files.iter().map(|file| (format!("`for` of the part `{}`", file.part), file.only_for.clone()));
    let steps =
        card.steps.iter().map(|step| (format!("`for` of the step `{}`", step.id), step.only_for.clone()));
    let all = [("`fits`".to_owned(), card.fits.clone())].into_iter();
    let all = all.chain(conditions).chain(files).chain(steps);
    for (what, said) in all {
        facets.check(&said).map_err(|problem| {
            let registry = registry.to_owned();
            CardProblem::Facet { what, registry, problem }
        })?;
    }
    Ok(())
}

/// Checks the paths in a card's archives, each with its part: what the card exposes is a file that goes along or a folder
/// above one, and no two parts hold the same path, for they are in one folder on a shelf. Archives of one part are for
/// different targets.
pub fn check_contents<'c>(
    card: &Card,
    contents: impl Iterator<Item = (&'c PartName, &'c str)>,
) -> Result<(), RegistryError> {
    let mut paths: BTreeSet<&str> = BTreeSet::new();
    let mut holders: HashMap<String, &PartName> = HashMap::new();
    for (part, path) in contents {
        let holder = holders.entry(as_seen(path).into_owned()).or_insert(part);
        if *holder != part {
            let (one, other) = ((*holder).clone(), part.clone());
            return Err(RegistryError::PartsClash { file: path.to_owned(), one, other });
        }
        paths.insert(path);
    }
    let is_there = |exposed: &InnerPath| {
        let below = format!("{exposed}/");
        let next = paths.range(below.as_str()..).next();
        paths.contains(exposed.as_str()) || next.is_some_and(|path| path.starts_with(&below))
    };
    let holds = |exposed: &Exposed| match exposed {
        Exposed::Path(path) => path.inside().is_none_or(is_there),
        Exposed::Files(pattern) => {
            let selection = FileSelection { include: vec![pattern.clone()], ..FileSelection::default() };
            let selection = selection.compiled();
            paths.iter().any(|path| selection.takes(path))
        }
        Exposed::Except(_) | Exposed::Value(_) => true,
    };
    for (role, exposed) in card.exposes.iter() {
        if let Some(path) = exposed.iter().find(|exposed| !holds(exposed)) {
            return Err(RegistryError::ExposesNothing { role: role.clone(), path: path.clone() });
        }
    }
    Ok(())
}
