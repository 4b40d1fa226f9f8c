//! How the feeds of advisories stand.

use bibliotax_core::rules::Rules;
use bibliotax_present::words::{count, first_few};
use bibliotax_registry::advisories::FeedStatus;
use bibliotax_registry::catalogue::registries::Registries;

use super::{Finding, Level, Place, Subject};
use crate::context::Context;
use crate::workspace::WorkspaceFolder;

/// Most records that are named in a finding.
const MAX_SHOWN: usize = 3;

/// That feeds are away or old, or have records that can't be read.
pub(super) fn findings(
    workspace: &WorkspaceFolder,
    registries: &Registries,
    context: &Context<'_>,
) -> Vec<Finding> {
    let rules = &workspace.declared.rules;
    let statuses = registries.feeds().statuses();
    statuses.iter().flat_map(|status| of_feed(status, rules, context)).collect()
}

fn of_feed(status: &FeedStatus, rules: &Rules, context: &Context<'_>) -> Vec<Finding> {
    let FeedStatus { place, records, faults, fetched, away, is_known } = status;
    let at = rules.feeds.places.iter().find(|feed| feed.place == *place).map(|feed| feed.span.clone());
    let finding = |code, level, message: String, advice: &str| {
        let subject = Subject::Feed { place: place.clone() };
        Finding::new(code, level, message, advice, (Place::Manifest(String::new(), at.clone()), subject))
    };
    let mut found = Vec::new();
    if let Some(why) = away {
        let known = if *is_known { "; what was known of it before is used" } else { "" };
        let level = if *is_known { Level::Warning } else { Level::Error };
        let message = format!("the feed {place} can't be read{known}: {why}");
        let advice = "check its place under `[rules] advisories = { feeds = … }`, or the network";
        found.push(finding("advisories.away", level, message, advice));
    } else if !is_known {
        let message = format!("nothing is known of the feed {place}, and offline mode is on");
        let advice = "run `bibliotax check` once with a network";
        found.push(finding("advisories.away", Level::Error, message, advice));
    }
    if let (Some(age), Some(fetched)) = (&rules.feeds.max_age, fetched)
        && *fetched < age.before(context.environment.now)
    {
        let message = format!("the feed {place} was fetched last on {fetched}, more than {age} ago");
        let advice = "run `bibliotax check` with a network";
        found.push(finding("advisories.old", Level::Warning, message, advice));
    }
    if !faults.is_empty() {
        let named: Vec<String> =
            faults.iter().map(|fault| format!("{} ({})", fault.name, fault.why)).collect();
        let unread = count(faults.len(), "record");
        let message = format!(
            "{unread} of the feed {place} can't be read: {}; {} can",
            first_few(&named, MAX_SHOWN),
            count(*records, "record")
        );
        let advice = "tell whoever keeps the feed, or mend it";
        found.push(finding("advisories.unreadable", Level::Warning, message, advice));
    }
    found
}
