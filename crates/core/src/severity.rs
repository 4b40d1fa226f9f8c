//! How bad something is.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The qualitative rating of the Common Vulnerability Scoring System (CVSS 3.1, section 5; CVSS 4.0, section 6).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// A score of 0.
    None,
    /// A score of 0.1 to 3.9.
    Low,
    /// A score of 4.0 to 6.9.
    Medium,
    /// A score of 7.0 to 8.9.
    High,
    /// A score of 9.0 to 10.0.
    Critical,
}

impl Severity {
    /// All of them with their words.
    pub const WORDS: [(&str, Self); 5] = [
        ("none", Self::None),
        ("low", Self::Low),
        ("medium", Self::Medium),
        ("high", Self::High),
        ("critical", Self::Critical),
    ];

    /// What a word means, in any case; many records say `moderate`.
    pub fn of_word(word: &str) -> Option<Self> {
        let word = word.trim().to_lowercase();
        let word = if word == "moderate" { "medium" } else { &word };
        Self::WORDS.iter().find(|(known, _)| *known == word).map(|(_, severity)| *severity)
    }
}

impl fmt::Display for Severity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(Self::WORDS.iter().find(|(_, severity)| severity == self).map_or("", |(word, _)| word))
    }
}

/// A rating, with the score that it follows from where there is one.
#[derive(Debug, Clone, PartialEq)]
pub struct Rating {
    /// How bad it is.
    pub severity: Severity,
    /// The score, from 0 to 10.
    pub score: Option<f64>,
}

impl Rating {
    /// The rating that a CVSS vector leads to, of version 3 or 4.
    pub fn of_vector(vector: &str) -> Option<Self> {
        let vector: cvss::Cvss = vector.trim().parse().ok()?;
        let severity = match vector.severity() {
            cvss::Severity::None => Severity::None,
            cvss::Severity::Low => Severity::Low,
            cvss::Severity::Medium => Severity::Medium,
            cvss::Severity::High => Severity::High,
            cvss::Severity::Critical => Severity::Critical,
        };
        Some(Self { severity, score: Some(vector.score()) })
    }

    /// The rating that a word is.
    pub fn of_word(word: &str) -> Option<Self> {
        Some(Self { severity: Severity::of_word(word)?, score: None })
    }
}
