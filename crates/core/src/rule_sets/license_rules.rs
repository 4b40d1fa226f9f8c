//! Which licences are allowed: SPDX expressions held against lists of them.
//!
//! A package's expression offers choices (`OR`), each a set of licences that all apply (`AND`). The best choice counts. A list's entry
//! is an expression as well: each of its choices is a set of licences that the entry speaks of. `GPL-2.0-or-later` and `Apache-1.0+`
//! offer later versions, too. A licence `WITH` an exception is a licence of its own.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use spdx::expression::{ExprNode, Operator};
use spdx::{LicenseItem, LicenseReq};

use crate::license::License;

/// What a list names to speak of packages that declare no licence (SPDX Specification 2.3, clause 7.15).
pub const NO_LICENSE: &str = "NOASSERTION";

/// The most choices that an expression is looked through for. One that offers more was made to be misread.
const MAX_CHOICES: usize = 1_000;

/// What the rules say of a licence; the best first.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum LicenseVerdict {
    /// It is allowed.
    Accept,
    /// It is allowed once a person accepted it.
    #[default]
    Ask,
    /// It isn't allowed.
    Refuse,
}

impl LicenseVerdict {
    /// All of them with their words.
    pub const WORDS: [(&str, Self); 3] =
        [("accept", Self::Accept), ("ask", Self::Ask), ("refuse", Self::Refuse)];
}

/// What is said of which licences.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LicenseRules {
    /// Those that are allowed.
    #[serde(default, skip_serializing_if = "LicenseList::is_empty")]
    pub accept: LicenseList,
    /// Those that a person has to accept.
    #[serde(default, skip_serializing_if = "LicenseList::is_empty")]
    pub ask: LicenseList,
    /// Those that aren't allowed.
    #[serde(default, skip_serializing_if = "LicenseList::is_empty")]
    pub refuse: LicenseList,
    /// What is said of all others.
    pub otherwise: LicenseVerdict,
}

impl LicenseRules {
    /// What is said of a package's licence, `None` where it declares none.
    pub fn verdict(&self, license: Option<&License>) -> LicenseVerdict {
        let Some(license) = license else { return self.of_no_license() };
        match choices(license) {
            Some(choices) => {
                choices.iter().map(|choice| self.of_choice(choice)).min().unwrap_or(self.otherwise)
            }
            None => self.otherwise.max(LicenseVerdict::Ask),
        }
    }

    /// Whether they leave no licence at all.
    pub fn refuse_all(&self) -> bool {
        self.otherwise == LicenseVerdict::Refuse && self.accept.is_empty() && self.ask.is_empty()
    }

    fn of_no_license(&self) -> LicenseVerdict {
        let lists = [
            (&self.refuse, LicenseVerdict::Refuse),
            (&self.ask, LicenseVerdict::Ask),
            (&self.accept, LicenseVerdict::Accept),
        ];
        let named = lists.into_iter().find(|(list, _)| list.has_no_license);
        named.map_or(self.otherwise, |(_, verdict)| verdict)
    }

    /// What is said of licences that all apply.
    fn of_choice(&self, licenses: &Choice) -> LicenseVerdict {
        if self.refuse.speaks_of(licenses) {
            return LicenseVerdict::Refuse;
        }
        let asked = if self.ask.speaks_of(licenses) { LicenseVerdict::Ask } else { LicenseVerdict::Accept };
        let accepted = self.accept.satisfied(licenses);
        let asking = self.ask.satisfied(licenses);
        let of_one = |term: &Term| match (accepted.contains(term), asking.contains(term)) {
            (true, _) => LicenseVerdict::Accept,
            (false, true) => LicenseVerdict::Ask,
            (false, false) => self.otherwise,
        };
        licenses.iter().map(of_one).max().unwrap_or_default().max(asked)
    }
}

/// Licences that a rule lists.
#[derive(Debug, Clone, PartialEq, Eq, Default, JsonSchema)]
#[schemars(transparent)]
pub struct LicenseList {
    written: Vec<String>,
    #[schemars(skip)]
    entries: Vec<Choice>,
    #[schemars(skip)]
    has_no_license: bool,
}

impl LicenseList {
    /// Adds an entry: an expression, or [`NO_LICENSE`] for `None`.
    pub fn add(&mut self, entry: Option<&License>) {
        self.written.push(entry.map_or(NO_LICENSE.to_owned(), ToString::to_string));
        self.has_no_license |= entry.is_none();
        self.entries.extend(entry.and_then(choices).unwrap_or_default());
    }

    /// Whether it lists nothing.
    pub fn is_empty(&self) -> bool {
        self.written.is_empty()
    }

    /// What is in two lists alike, as it is written in the other one.
    pub fn shared_with<'l>(&self, other: &'l Self) -> Option<&'l str> {
        let alike = |written: &&String| {
            let mut one = Self::default();
            let license = (*written != NO_LICENSE).then(|| written.parse().ok()).flatten();
            one.add(license.as_ref());
            one.entries.iter().any(|entry| self.entries.contains(entry))
                || one.has_no_license && self.has_no_license
        };
        other.written.iter().find(alike).map(String::as_str)
    }

    /// Whether an entry names licences that all apply, no matter which later version is chosen.
    fn speaks_of(&self, licenses: &Choice) -> bool {
        let is_there = |named: &Term| licenses.iter().any(|term| named.includes(term));
        self.entries.iter().any(|entry| entry.iter().all(is_there))
    }

    /// The licences that can be had under what is listed.
    fn satisfied<'t>(&self, licenses: &'t Choice) -> BTreeSet<&'t Term> {
        let is_there = |named: &Term| licenses.iter().any(|term| named.satisfies(term));
        let entries = self.entries.iter().filter(|entry| entry.iter().all(is_there));
        let named = entries.flatten();
        named.flat_map(|named| licenses.iter().filter(|term| named.satisfies(term))).collect()
    }
}

impl Serialize for LicenseList {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.written.serialize(serializer)
    }
}

impl<'de> Deserialize<'de> for LicenseList {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let mut list = Self::default();
        for entry in Vec::<String>::deserialize(deserializer)? {
            let license = (entry != NO_LICENSE).then(|| entry.parse::<License>()).transpose();
            list.add(license.map_err(|fault| serde::de::Error::custom(fault.message))?.as_ref());
        }
        Ok(list)
    }
}

/// Licences that all apply.
type Choice = BTreeSet<Term>;

/// A licence of an expression.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Term {
    /// Its name without a version.
    family: String,
    /// The numbers of its version, none where it has none.
    version: Vec<u32>,
    /// Whether later versions are offered, too.
    or_later: bool,
    /// What stands behind `WITH`.
    exception: Option<String>,
}

impl Term {
    fn of(req: &LicenseReq) -> Self {
        let exception = req.addition.as_ref().map(ToString::to_string);
        let (name, or_later) = match &req.license {
            LicenseItem::Spdx { id, or_later } => (id.name.to_owned(), *or_later),
            LicenseItem::Other(own) => (own.to_string(), false),
        };
        let (name, or_later) = match name.strip_suffix("-or-later") {
            Some(name) => (name.to_owned(), true),
            None => (name.strip_suffix("-only").unwrap_or(&name).to_owned(), or_later),
        };
        let version =
            |piece: &str| piece.split('.').map(|number| number.parse().ok()).collect::<Option<Vec<u32>>>();
        let (versions, words): (Vec<&str>, Vec<&str>) =
            name.split('-').partition(|piece| version(piece).is_some());
        Self {
            family: words.join("-"),
            version: versions.iter().filter_map(|piece| version(piece)).flatten().collect(),
            or_later,
            exception,
        }
    }

    fn is_related(&self, other: &Self) -> bool {
        self.family == other.family && self.exception == other.exception
    }

    /// Whether this means all that `other` offers.
    fn includes(&self, other: &Self) -> bool {
        self == other || self.or_later && self.is_related(other) && other.version >= self.version
    }

    /// Whether `other` can be had under this: as the same licence, or as a later version where that is offered.
    fn satisfies(&self, other: &Self) -> bool {
        self.includes(other) || other.or_later && self.is_related(other) && self.version >= other.version
    }
}

/// The choices that an expression offers, none of them more than another with something added; `None` where there are too many.
fn choices(license: &License) -> Option<Vec<Choice>> {
    let expression = license.expression();
    let mut stack: Vec<Vec<Choice>> = Vec::new();
    for node in expression.iter() {
        let choices = match node {
            ExprNode::Req(req) => vec![Choice::from([Term::of(&req.req)])],
            ExprNode::Op(operator) => {
                let (right, left) = (stack.pop()?, stack.pop()?);
                match operator {
                    Operator::Or => left.into_iter().chain(right).collect(),
                    Operator::And if left.len() * right.len() > MAX_CHOICES => return None,
                    Operator::And => {
                        let both =
                            |one: &Choice| right.iter().map(|other| one | other).collect::<Vec<Choice>>();
                        left.iter().flat_map(both).collect()
                    }
                }
            }
        };
        let choices = smallest(choices);
        if choices.len() > MAX_CHOICES {
            return None;
        }
        stack.push(choices);
    }
    stack.pop()
}

/// The choices that don't contain another one.
fn smallest(mut choices: Vec<Choice>) -> Vec<Choice> {
    choices.sort_by_key(BTreeSet::len);
    let mut kept: Vec<Choice> = Vec::new();
    for choice in choices {
        if !kept.iter().any(|other| other.is_subset(&choice)) {
            kept.push(choice);
        }
    }
    kept
}
