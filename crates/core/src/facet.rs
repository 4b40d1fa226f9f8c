//! Facets, the axes of compatibility; targets, where a project has to run; and whether a release fits.
//!
//! A *ladder* has ordered levels: a target at a level can use what requires that level or a lower one. Of a
//! *choice* a target has one value, and a release lists those that it works with. A *claim* is something that a
//! release declares true, or false, or not at all. `os` and `arch` are choices that are always defined; all
//! others are defined by a registry or a manifest.

mod known;
pub mod words;

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

pub use self::known::known_values;
use crate::name::{FacetName, PartName};

/// Stands for every value of a choice in what a release works with.
const ANY: &str = "any";

/// One axis of compatibility.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase", deny_unknown_fields)]
pub enum Facet {
    /// Levels, the lowest first, and older names of some of them.
    Ladder {
        /// The levels, rising.
        levels: Vec<String>,
        /// Other names for levels.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        aliases: BTreeMap<String, String>,
    },
    /// Values of which a target has one; any, where none are listed.
    Choice {
        /// The possible values.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        values: Vec<String>,
    },
    /// Something that is true or false.
    Claim,
}

/// Why a definition makes no sense.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DefinitionProblem {
    /// A ladder without levels.
    #[error("a ladder has at least one level")]
    NoLevels,
    /// A word that stands for two levels, or for a level twice.
    #[error("`{0}` is there twice")]
    Twice(String),
    /// An alias of no level.
    #[error("`{alias}` is an alias of `{level}`, which isn't a level")]
    NoLevel {
        /** The alias. */
        alias: String,
        /** What it is said to stand for. */
        level: String,
    },
}

impl Facet {
    /// Whether the definition makes sense.
    pub fn check(&self) -> Result<(), DefinitionProblem> {
        let twice = |words: &[String]| {
            let again = words.iter().enumerate().find(|(at, word)| words[..*at].contains(word));
            again.map_or(Ok(()), |(_, word)| Err(DefinitionProblem::Twice(word.clone())))
        };
        match self {
            Self::Claim => Ok(()),
            Self::Choice { values } => twice(values),
            Self::Ladder { levels, .. } if levels.is_empty() => Err(DefinitionProblem::NoLevels),
            Self::Ladder { levels, aliases } => {
                twice(&levels.iter().chain(aliases.keys()).cloned().collect::<Vec<_>>())?;
                let lost = aliases.iter().find(|(_, level)| !levels.contains(level));
                lost.map_or(Ok(()), |(alias, level)| {
                    Err(DefinitionProblem::NoLevel { alias: alias.clone(), level: level.clone() })
                })
            }
        }
    }
}

/// What a release, a promise or a target says of one facet.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(untagged)]
pub enum FitValue {
    /// Whether a claim holds.
    Claim(bool),
    /// A level, or the one value of a choice.
    One(String),
    /// The values of a choice.
    Many(Vec<String>),
}

impl FitValue {
    /// The values, as texts; none of a claim.
    pub fn values(&self) -> &[String] {
        match self {
            Self::Claim(_) => &[],
            Self::One(value) => std::slice::from_ref(value),
            Self::Many(values) => values,
        }
    }
}

impl std::fmt::Display for FitValue {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Claim(holds) => f.write_str(if *holds { "yes" } else { "no" }),
            other => f.write_str(&other.values().join(" or ")),
        }
    }
}

/// What is said of facets.
pub type Fits = BTreeMap<FacetName, FitValue>;

/// An environment that a project has to run in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// Its name in the manifest.
    pub name: String,
    /// Its values; of a library's promise, all values of a choice that it promises.
    pub values: Fits,
    /// Whether it stands for what the project promises of itself.
    pub is_promise: bool,
}

impl Target {
    /// What projects of a workspace without targets of their own run in, where others have some.
    pub const THIS_MACHINE: &'static str = "this-machine";

    /// Whatever machine it is.
    pub fn this_machine() -> Self {
        Self { name: Self::THIS_MACHINE.to_owned(), values: Fits::new(), is_promise: false }
    }

    /// Whether files on it can have every name, as far as its operating system is declared.
    pub fn has_any_names(&self) -> bool {
        let os =
            self.values.iter().find(|(facet, _)| facet.as_str() == "os").map(|(_, value)| value.values());
        os.is_some_and(|systems| !systems.is_empty() && systems.iter().all(|os| known::has_any_names(os)))
    }

    /// Whether it is any machine, so that nothing is known of it.
    pub fn is_open(&self) -> bool {
        self.name == Self::THIS_MACHINE
    }
}

/// The facets that are defined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Facets(BTreeMap<FacetName, Facet>);

/// Why what is said of a facet makes no sense.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FacetProblem {
    /// Nobody defines it.
    #[error("the facet `{0}` isn't defined")]
    Unknown(FacetName),
    /// A value of another kind.
    #[error("`{facet}` is a {kind}, and can't be `{value}`")]
    WrongKind {
        /** The facet. */
        facet: FacetName,
        /** What it is. */
        kind: &'static str,
        /** What was said. */
        value: String,
    },
    /// A name of a system or processor that is called otherwise here, or a slip of one.
    #[error("`{facet}` has no `{value}`; use `{ours}`")]
    CalledOtherwise {
        /** The facet. */
        facet: FacetName,
        /** What was said. */
        value: String,
        /** What it is called. */
        ours: String,
    },
    /// A value that the definition doesn't list.
    #[error("`{facet}` has no `{value}`: there are {known}")]
    NoValue {
        /** The facet. */
        facet: FacetName,
        /** What was said. */
        value: String,
        /** What there is. */
        known: String,
    },
}

impl FacetProblem {
    /// The facet that it is about.
    pub fn facet(&self) -> &FacetName {
        match self {
            Self::Unknown(facet)
            | Self::WrongKind { facet, .. }
            | Self::CalledOtherwise { facet, .. }
            | Self::NoValue { facet, .. } => facet,
        }
    }
}

impl Default for Facets {
    fn default() -> Self {
        let built_in = |name: &str, values: &[&str]| {
            let values = values.iter().map(|value| (*value).to_owned()).collect();
            // These two are names.
            name.parse().ok().map(|name: FacetName| (name, Facet::Choice { values }))
        };
        Self(built_in("os", &[]).into_iter().chain(built_in("arch", &[])).collect())
    }
}

impl Facets {
    /// With further definitions, as far as none is another one's.
    #[must_use]
    pub fn with(mut self, more: &BTreeMap<FacetName, Facet>) -> Self {
        for (name, facet) in more {
            // The reader decides which of two that differ holds.
            let _ = self.define(name, facet);
        }
        self
    }

    /// Adds a definition; the one that was there where it is another.
    pub fn define(&mut self, name: &FacetName, facet: &Facet) -> Result<(), Facet> {
        match self.0.get(name) {
            Some(there) if there != facet => Err(there.clone()),
            _ => {
                self.0.insert(name.clone(), facet.clone());
                Ok(())
            }
        }
    }

    /// The definition of a facet.
    pub fn get(&self, name: &FacetName) -> Option<&Facet> {
        self.0.get(name)
    }

    /// The names of all facets.
    pub fn names(&self) -> impl Iterator<Item = &FacetName> {
        self.0.keys()
    }

    /// What is said of a facet, a level by its own name instead of an older one.
    pub fn plain(&self, name: &FacetName, value: &FitValue) -> FitValue {
        match (self.0.get(name), value) {
            (Some(Facet::Ladder { aliases, .. }), FitValue::One(level)) => {
                FitValue::One(aliases.get(level).unwrap_or(level).clone())
            }
            _ => value.clone(),
        }
    }

    /// The levels of a ladder, the lowest first; none of anything else.
    pub fn levels(&self, name: &FacetName) -> &[String] {
        match self.0.get(name) {
            Some(Facet::Ladder { levels, .. }) => levels,
            _ => &[],
        }
    }

    /// Whether what is said of facets makes sense.
    pub fn check(&self, fits: &Fits) -> Result<(), FacetProblem> {
        fits.iter().try_for_each(|(name, value)| self.check_one(name, value))
    }

    fn check_one(&self, name: &FacetName, value: &FitValue) -> Result<(), FacetProblem> {
        let facet = self.0.get(name).ok_or_else(|| FacetProblem::Unknown(name.clone()))?;
        let wrong = |kind| FacetProblem::WrongKind { facet: name.clone(), kind, value: value.to_string() };
        match (facet, value) {
            (Facet::Claim, FitValue::Claim(_)) => Ok(()),
            (Facet::Claim, _) => Err(wrong("claim")),
            (Facet::Ladder { levels, aliases }, FitValue::One(level)) => {
                match level_of(levels, aliases, level) {
                    Some(_) => Ok(()),
                    None => Err(no_value(name, level, levels.iter().chain(aliases.keys()))),
                }
            }
            (Facet::Ladder { .. }, _) => Err(wrong("ladder")),
            (Facet::Choice { .. }, FitValue::Claim(_)) => Err(wrong("choice")),
            (Facet::Choice { values }, said) => {
                let is_known = |one: &&String| values.is_empty() || values.contains(one) || *one == ANY;
                let unknown = said.values().iter().find(|one| !is_known(one));
                said.values().iter().try_for_each(|one| known::check(name, one))?;
                unknown.map_or(Ok(()), |unknown| Err(no_value(name, unknown, values.iter())))
            }
        }
    }

    /// What a text says of a facet: `yes` or `no` of a claim, else a value, or several with `|` between.
    pub fn read_value(&self, name: &FacetName, text: &str) -> FitValue {
        let values: Vec<String> = text.split('|').map(str::to_owned).collect();
        match (self.0.get(name), text) {
            (Some(Facet::Claim), "yes" | "no") => FitValue::Claim(text == "yes"),
            _ if values.len() > 1 => FitValue::Many(values),
            _ => FitValue::One(text.to_owned()),
        }
    }

    /// Whether what a release says suits a target, facet by facet of those that the target has.
    pub fn fit(&self, release: &Fits, target: &Target) -> Fit {
        let mut undeclared = Vec::new();
        for (name, wanted) in &target.values {
            match release.get(name) {
                None => undeclared.push(name.clone()),
                Some(said) if self.suits(name, said, wanted) => {}
                Some(said) => {
                    let (wanted, said) = (self.plain(name, wanted), self.plain(name, said));
                    return Fit::No(Misfit::Facet { facet: name.clone(), wanted, said });
                }
            }
        }
        if undeclared.is_empty() { Fit::Yes } else { Fit::NotDeclared(undeclared) }
    }

    fn suits(&self, name: &FacetName, said: &FitValue, wanted: &FitValue) -> bool {
        match (self.0.get(name), said, wanted) {
            (Some(Facet::Ladder { levels, aliases }), FitValue::One(asks), FitValue::One(has)) => {
                let place = |level| level_of(levels, aliases, level);
                place(asks).zip(place(has)).is_some_and(|(asks, has)| asks <= has)
            }
            // Who doesn't want the claim can use what keeps it as well as what doesn't.
            (_, FitValue::Claim(said), FitValue::Claim(wanted)) => *said || !*wanted,
            (_, said, wanted) => {
                let works_with = |value| said.values().iter().any(|said| said == value || said == ANY);
                wanted.values().iter().all(works_with)
            }
        }
    }

    /// Whether conditions hold on a target; a facet that the target doesn't have fails.
    pub fn holds(&self, when: &Fits, target: &Target) -> bool {
        when.iter()
            .all(|(name, value)| target.values.get(name).is_some_and(|has| self.holds_of(name, value, has)))
    }

    /// Whether a condition on a facet holds for what a target has of it.
    pub fn holds_of(&self, name: &FacetName, value: &FitValue, has: &FitValue) -> bool {
        match (self.0.get(name), has) {
            (Some(Facet::Ladder { .. }), has) => self.suits(name, value, has),
            (_, FitValue::Claim(has)) => *value == FitValue::Claim(*has),
            (_, has) => {
                let includes = |has: &String| value.values().iter().any(|one| one == has || one == ANY);
                has.values().iter().any(includes)
            }
        }
    }

    /// Whether wherever the one condition on a facet holds, the other holds, too.
    pub fn implies(&self, name: &FacetName, one: &FitValue, other: &FitValue) -> bool {
        match (self.0.get(name), one, other) {
            (Some(Facet::Ladder { .. }), one, other) => self.suits(name, other, one),
            (_, FitValue::Claim(one), FitValue::Claim(other)) => one == other,
            (_, one, other) => {
                let includes = |one: &String| other.values().iter().any(|value| value == one || value == ANY);
                one.values().iter().all(includes)
            }
        }
    }
}

fn no_value<'v>(facet: &FacetName, value: &str, known: impl Iterator<Item = &'v String>) -> FacetProblem {
    let known: Vec<&str> = known.map(String::as_str).collect();
    FacetProblem::NoValue { facet: facet.clone(), value: value.to_owned(), known: known.join(", ") }
}

/// The place of a level on its ladder.
fn level_of(levels: &[String], aliases: &BTreeMap<String, String>, level: &String) -> Option<usize> {
    let level = aliases.get(level).unwrap_or(level);
    levels.iter().position(|other| other == level)
}

/// Whether a release works on a target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fit {
    /// It does, as far as the target's facets go.
    Yes,
    /// It says nothing of these facets, and nothing against the others.
    NotDeclared(Vec<FacetName>),
    /// It doesn't.
    No(Misfit),
}

/// Why a release doesn't work on a target.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Misfit {
    /// What it says of a facet doesn't suit.
    Facet {
        /// The facet that it fails on.
        facet: FacetName,
        /// What the target has.
        wanted: FitValue,
        /// What the release asks for, or works with.
        said: FitValue,
    },
    /// None of the files of a part is for the target.
    Part {
        /// The part.
        part: PartName,
        /// What its files are for.
        there_are: Vec<Fits>,
    },
}

#[cfg(test)]
mod tests {
    use super::*;

    fn facets() -> Facets {
        let mut facets = Facets::default();
        let levels = (1..=6).map(|level| level.to_string()).collect();
        let aliases = [("thicket".to_owned(), "2".to_owned())].into_iter().collect();
        facets.define(&name("orchard-runtime"), &Facet::Ladder { levels, aliases }).unwrap();
        facets.define(&name("ahead-of-time"), &Facet::Claim).unwrap();
        facets
    }

    fn name(text: &str) -> FacetName {
        text.parse().unwrap()
    }

    fn fits(text: &str) -> Fits {
        serde_json::from_str(text).unwrap()
    }

    fn target(text: &str) -> Target {
        Target { name: "hand-unit".into(), values: fits(text), is_promise: false }
    }

    #[test]
    fn a_release_fits_where_every_facet_of_the_target_suits() {
        let hand_unit =
            target(r#"{"os":"linux","arch":"aarch64","orchard-runtime":"3","ahead-of-time":true}"#);
        let rows = [
            (
                r#"{"os":["linux","macos"],"arch":["aarch64"],"orchard-runtime":"3","ahead-of-time":true}"#,
                "yes",
            ),
            (r#"{"os":"linux","arch":["aarch64"],"orchard-runtime":"thicket","ahead-of-time":true}"#, "yes"),
            (
                r#"{"os":"linux","arch":"aarch64","orchard-runtime":"4","ahead-of-time":true}"#,
                "orchard-runtime",
            ),
            (r#"{"os":"linux","arch":"x86_64","orchard-runtime":"1","ahead-of-time":true}"#, "arch"),
            (
                r#"{"os":"linux","arch":"aarch64","orchard-runtime":"1","ahead-of-time":false}"#,
                "ahead-of-time",
            ),
            (r#"{"os":"linux","arch":"aarch64"}"#, "not declared: ahead-of-time orchard-runtime"),
            (r#"{"orchard-runtime":"5"}"#, "orchard-runtime"),
            (r#"{"os":"any","arch":["any"],"orchard-runtime":"1","ahead-of-time":true}"#, "yes"),
        ];
        for (release, expected) in rows {
            let shown = match facets().fit(&fits(release), &hand_unit) {
                Fit::Yes => "yes".to_owned(),
                Fit::NotDeclared(facets) => {
                    let names: Vec<&str> = facets.iter().map(FacetName::as_str).collect();
                    format!("not declared: {}", names.join(" "))
                }
                Fit::No(Misfit::Facet { facet, .. }) => facet.to_string(),
                Fit::No(Misfit::Part { part, .. }) => part.to_string(),
            };
            assert_eq!(shown, expected, "{release}");
        }
    }

    #[test]
    fn conditions_hold_by_level_value_and_claim() {
        let hand_unit = target(r#"{"os":"linux","orchard-runtime":"3","ahead-of-time":true}"#);
        let rows = [
            (r#"{"os":"linux"}"#, true),
            (r#"{"os":["windows","macos"]}"#, false),
            (r#"{"orchard-runtime":"2"}"#, true),
            (r#"{"orchard-runtime":"4"}"#, false),
            (r#"{"ahead-of-time":true,"os":["linux","macos"]}"#, true),
            (r#"{"arch":"aarch64"}"#, false),
        ];
        for (when, holds) in rows {
            assert_eq!(facets().holds(&fits(when), &hand_unit), holds, "{when}");
        }
    }

    #[test]
    fn what_makes_no_sense_is_told() {
        let rows = [
            (
                r#"{"os":"linux","orchard-runtime":"sapling"}"#,
                "`orchard-runtime` has no `sapling`: there are 1, 2, 3, 4, 5, 6, thicket",
            ),
            (r#"{"orchard-runtime":true}"#, "`orchard-runtime` is a ladder, and can't be `yes`"),
            (r#"{"ahead-of-time":"yes"}"#, "`ahead-of-time` is a claim, and can't be `yes`"),
            (r#"{"orchid":"1"}"#, "the facet `orchid` isn't defined"),
        ];
        for (said, shown) in rows {
            assert_eq!(facets().check(&fits(said)).unwrap_err().to_string(), shown);
        }
        assert_eq!(facets().check(&fits(r#"{"os":"linux","orchard-runtime":"thicket"}"#)), Ok(()));
        assert!(facets().define(&name("ahead-of-time"), &Facet::Choice { values: vec![] }).is_err());
    }
}
