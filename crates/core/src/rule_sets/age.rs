//! Ages, such as `5 days`.

use std::fmt;
use std::str::FromStr;

use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp, Unit};
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::fault::Fault;

/// The longest age that makes sense, in years.
const MAX_YEARS: i64 = 100;

/// The day of a time, in the calendar of UTC.
pub fn day_of(at: Timestamp) -> Date {
    at.to_zoned(TimeZone::UTC).date()
}

/// An age as people write it: `5 days`, `2 weeks`, `18 months`.
#[derive(Debug, Clone, JsonSchema)]
#[schemars(transparent)]
pub struct Age {
    text: Box<str>,
    #[schemars(skip)]
    span: Span,
}

impl Age {
    /// What has this age at a time, in the calendar of UTC.
    pub fn before(&self, now: Timestamp) -> Timestamp {
        let then = now.to_zoned(TimeZone::UTC).checked_sub(self.span);
        then.map_or(Timestamp::MIN, |then| then.timestamp())
    }
}

impl PartialEq for Age {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Age {}

impl FromStr for Age {
    type Err = Fault;

    fn from_str(text: &str) -> Result<Self, Fault> {
        let invalid = |message: String| {
            Fault::new("rules.age", message, 0..text.len())
                .advice("write a number and a unit: `5 days`, `2 weeks`, `18 months` or `3 years`")
        };
        let span: Span = text.trim().parse().map_err(|_| invalid(format!("`{text}` isn't an age")))?;
        if span.is_negative() {
            return Err(invalid(format!("`{text}` is negative")));
        }
        let epoch = jiff::civil::date(2000, 1, 1);
        let years = span.total((Unit::Year, epoch)).unwrap_or(f64::MAX);
        if years > MAX_YEARS as f64 {
            return Err(invalid(format!("`{text}` is longer than {MAX_YEARS} years")));
        }
        Ok(Self { text: text.trim().into(), span })
    }
}

impl fmt::Display for Age {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl Serialize for Age {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

impl<'de> Deserialize<'de> for Age {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(|fault: Fault| serde::de::Error::custom(fault.message))
    }
}
