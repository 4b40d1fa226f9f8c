//! Licence expressions of the SPDX Specification, annex "SPDX license expressions".

mod meant;
mod texts;

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

pub use self::meant::meant;
pub use self::texts::{FoundText, TextProblem, text_problems};
use crate::fault::Fault;
use crate::nearest::either;

/// A licence expression such as `MIT OR Apache-2.0`, checked and kept as written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct License(Box<str>);

impl FromStr for License {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        match spdx::Expression::parse(text) {
            Ok(_) => Ok(Self(text.into())),
            Err(error) => {
                let message = format!("`{text}` is not an SPDX licence expression");
                let fault = Fault::new("license.invalid", message, error.span)
                    .label("SPDX doesn't list this licence");
                Err(match meant_by(text, &fault) {
                    found if found.is_empty() => fault.advice("name a licence of your own `LicenseRef-…`"),
                    found => {
                        let span = fault.span.clone();
                        let fault =
                            found.iter().fold(fault, |fault, id| fault.fix(span.clone(), id.as_str()));
                        fault.advice(format!("write {}", either(&found)))
                    }
                })
            }
        }
    }
}

impl License {
    /// The expression, for its parts.
    pub(crate) fn expression(&self) -> spdx::Expression {
        spdx::Expression::parse(&self.0).expect("it was parsed when it was made")
    }
}

/// What was probably meant by a text, or by the part of it that is at fault, each as the whole text.
fn meant_by(text: &str, fault: &Fault) -> Vec<String> {
    let whole = meant(text);
    if !whole.is_empty() {
        return whole;
    }
    // A version's sign stands behind the word that it belongs to.
    let mut at = fault.span.clone();
    at.end += usize::from(text.get(at.end..).is_some_and(|rest| rest.starts_with('+')));
    let Some(word) = text.get(at.clone()) else { return Vec::new() };
    let other = |one: String| format!("{}{one}{}", &text[..at.start], &text[at.end..]);
    meant(word).into_iter().map(other).collect()
}

impl fmt::Display for License {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl Serialize for License {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for License {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = std::borrow::Cow::<str>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}
