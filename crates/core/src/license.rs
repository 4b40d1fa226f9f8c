//! Licence expressions of the SPDX Specification, annex "SPDX license expressions".

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;
use crate::nearest::{either, nearest};

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
                Err(match meant(text, &fault) {
                    names if names.is_empty() => fault.advice("name a licence of your own `LicenseRef-…`"),
                    names => fault.advice(format!("write {}", either(&names))),
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

/// The licences that were probably meant at the place of a fault.
fn meant<'t>(text: &'t str, fault: &Fault) -> Vec<&'t str> {
    let word = text.get(fault.span.clone()).unwrap_or(text);
    if let Some((id, _)) = spdx::imprecise_license_id(word) {
        return vec![id.name];
    }
    nearest(word, spdx::identifiers::LICENSES.iter().map(|license| license.name), 2)
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
