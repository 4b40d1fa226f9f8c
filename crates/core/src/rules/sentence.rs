//! What a release has to do with a rule, as a sentence that a person can check.

use super::{Breach, KnownAdvisory, Reason, day_of};
use crate::charter::CharterRelease;
use crate::name::Purpose;

/// A sentence as it stands by itself: with its full stop, and a capital unless a name begins it.
pub fn whole_sentence(text: &str) -> String {
    let text = text.strip_prefix("the ").map_or(text.to_owned(), |rest| format!("The {rest}"));
    format!("{text}.")
}

/// The rules of a charter, or the workspace's own, for a scope, as a sentence names them that doesn't begin with them.
pub fn rules_of(charter: Option<&CharterRelease>, scope: Option<&Purpose>) -> String {
    let rules =
        charter.map_or("the rules".to_owned(), |charter| format!("the rules of the charter {charter}"));
    scope.map_or(rules.clone(), |purpose| format!("{rules} for {purpose}"))
}

impl Breach {
    /// The sentence about releases, as they are named inside a sentence, of the rules of a scope. Without its full stop.
    pub fn sentence(&self, scope: Option<&Purpose>, who: &str, is_one: bool) -> String {
        self.reason.sentence(&rules_of(self.charter.as_ref(), scope), who, is_one)
    }
}

impl Reason {
    fn sentence(&self, rules: &str, who: &str, is_one: bool) -> String {
        let verb = |one: &'static str, many: &'static str| if is_one { one } else { many };
        let said = match self {
            Self::RefusedLicense(Some(license)) => format!("refuse {license}, the licence of {who}"),
            Self::RefusedLicense(None) => {
                format!("refuse packages without a licence, and {who} {} none", verb("declares", "declare"))
            }
            Self::UnacceptedLicense(Some(license)) => {
                return format!("{license}, the licence of {who}, isn't accepted yet");
            }
            Self::UnacceptedLicense(None) => {
                let declares = verb("declares", "declare");
                return format!("{who} {declares} no licence, which nobody accepted yet");
            }
            Self::Barred { reason, .. } => format!("bar {who} ({reason})"),
            Self::Young { published, age } => {
                let day = day_of(*published);
                let of = if is_one { format!("was published on {day}") } else { "are younger".to_owned() };
                format!("want releases to be {age} old, and {who} {of}")
            }
            Self::Source(source) => format!("don't allow {source} as the source of {who}"),
            Self::Withdrawn(withdrawal) => {
                format!(
                    "don't allow withdrawn releases, and {who} {} withdrawn ({})",
                    verb("was", "were"),
                    withdrawal.reason
                )
            }
            Self::Deprecated(deprecation) => {
                let is = verb("is", "are");
                format!("don't allow deprecated releases, and {who} {is} deprecated ({})", deprecation.reason)
            }
            Self::Moving { branch } => {
                format!(
                    "don't allow packages from branches, and {who} {} the tip of {branch}",
                    verb("is", "are")
                )
            }
            Self::Advisory(KnownAdvisory { id, severity, summary, .. }) => {
                let affected = verb("is", "are");
                format!(
                    "don't allow {severity} advisories, and {who} {affected} affected by {id} ({summary})"
                )
            }
            Self::StandIn(source) => format!("don't allow stand-ins, and {source} stands in for {who}"),
        };
        format!("{rules} {said}")
    }
}
