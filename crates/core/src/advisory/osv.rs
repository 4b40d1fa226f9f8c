//! Reads records of the OSV format (schema 1.7): what is needed of them, each within bounds.
//!
//! Unknown fields are passed over, as the format asks for. What a record can't do without is its `id` and `modified`.

use std::borrow::Cow;
use std::collections::BTreeSet;

use jiff::Timestamp;
use serde::Deserialize;
use serde_json::value::RawValue;

use super::affected::{Affected, CommitEvents, VersionEvents};
use super::key::Key;
use super::{Advisory, ECOSYSTEM};
use crate::package_url::PackageUrl;
use crate::severity::{Rating, Severity};

/// The largest record that is read, in bytes.
pub const MAX_RECORD_SIZE: usize = 16 << 20;

/// The longest summary that is kept, in characters.
const MAX_SUMMARY: usize = 300;

/// The longest id or alias, in bytes.
const MAX_ID: usize = 200;

/// What an index has of a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Brief {
    /// Its name.
    pub id: String,
    /// What it is looked up by; nothing of a record that was withdrawn.
    pub keys: BTreeSet<Key>,
}

/// A record as it is written. Borrowed texts keep reading many of them fast.
#[derive(Deserialize)]
struct Written<'t> {
    #[serde(borrow)]
    id: Cow<'t, str>,
    modified: Cow<'t, str>,
    #[serde(default)]
    withdrawn: Option<Cow<'t, str>>,
    #[serde(default)]
    aliases: Option<Vec<Cow<'t, str>>>,
    #[serde(default)]
    summary: Option<Cow<'t, str>>,
    #[serde(default, borrow)]
    details: Option<&'t RawValue>,
    #[serde(default)]
    severity: Option<Vec<WrittenSeverity<'t>>>,
    #[serde(default)]
    affected: Option<Vec<WrittenAffected<'t>>>,
    #[serde(default)]
    references: Option<Vec<WrittenReference<'t>>>,
    #[serde(default)]
    database_specific: Option<WithRating>,
}

#[derive(Deserialize)]
struct WrittenSeverity<'t> {
    #[serde(rename = "type", borrow)]
    kind: Cow<'t, str>,
    score: Cow<'t, str>,
}

#[derive(Deserialize)]
struct WrittenReference<'t> {
    #[serde(rename = "type", borrow)]
    kind: Cow<'t, str>,
    url: Cow<'t, str>,
}

/// What databases say in their own words: many rate records there.
#[derive(Deserialize)]
struct WithRating {
    #[serde(default)]
    severity: serde_json::Value,
}

#[derive(Deserialize)]
struct WrittenAffected<'t> {
    #[serde(default, borrow)]
    package: Option<WrittenPackage<'t>>,
    #[serde(default)]
    severity: Option<Vec<WrittenSeverity<'t>>>,
    #[serde(default)]
    ranges: Option<Vec<WrittenRange<'t>>>,
    #[serde(default)]
    versions: Option<Vec<Cow<'t, str>>>,
    #[serde(default)]
    ecosystem_specific: Option<WithRating>,
    #[serde(default)]
    database_specific: Option<WithRating>,
}

#[derive(Deserialize)]
struct WrittenPackage<'t> {
    #[serde(borrow)]
    ecosystem: Cow<'t, str>,
    name: Cow<'t, str>,
    #[serde(default)]
    purl: Option<Cow<'t, str>>,
}

#[derive(Deserialize)]
struct WrittenRange<'t> {
    #[serde(rename = "type", borrow)]
    kind: Cow<'t, str>,
    #[serde(default)]
    repo: Option<Cow<'t, str>>,
    events: Vec<WrittenEvent<'t>>,
}

#[derive(Deserialize)]
struct WrittenEvent<'t> {
    #[serde(default, borrow)]
    introduced: Option<Cow<'t, str>>,
    #[serde(default)]
    fixed: Option<Cow<'t, str>>,
    #[serde(default)]
    last_affected: Option<Cow<'t, str>>,
    #[serde(default)]
    limit: Option<Cow<'t, str>>,
}

/// What an index needs of a record: far less than all of it.
#[derive(Deserialize)]
struct WrittenBrief<'t> {
    #[serde(borrow)]
    id: Cow<'t, str>,
    modified: Cow<'t, str>,
    #[serde(default)]
    withdrawn: Option<Cow<'t, str>>,
    #[serde(default)]
    affected: Option<Vec<BriefAffected<'t>>>,
}

#[derive(Deserialize)]
struct BriefAffected<'t> {
    #[serde(default, borrow)]
    package: Option<WrittenPackage<'t>>,
    #[serde(default)]
    ranges: Option<Vec<BriefRange<'t>>>,
}

#[derive(Deserialize)]
struct BriefRange<'t> {
    #[serde(default, borrow)]
    repo: Option<Cow<'t, str>>,
}

/// Reads what an index needs of a record; the reason if it can't be read.
pub fn read_brief(text: &[u8]) -> Result<Brief, String> {
    check_size(text)?;
    let written: WrittenBrief<'_> = serde_json::from_slice(text).map_err(|error| error.to_string())?;
    check_id(&written.id)?;
    modified(&written.modified)?;
    let mut keys = BTreeSet::new();
    for affected in written.affected.iter().flatten().filter(|_| written.withdrawn.is_none()) {
        keys.extend(affected.package.as_ref().and_then(key_of));
        let repositories = affected.ranges.iter().flatten().filter_map(|range| range.repo.as_deref());
        keys.extend(repositories.filter_map(Key::of_repository));
    }
    Ok(Brief { id: written.id.into_owned(), keys })
}

/// Reads a record; `None` where it was withdrawn, and the reason if it can't be read.
pub fn read(text: &[u8]) -> Result<Option<Advisory>, String> {
    check_size(text)?;
    let written: Written<'_> = serde_json::from_slice(text).map_err(|error| error.to_string())?;
    check_id(&written.id)?;
    let modified = modified(&written.modified)?;
    if written.withdrawn.is_some() {
        return Ok(None);
    }
    let rating = rating_of(&written);
    let summary = summary_of(&written);
    let references = written.references.unwrap_or_default();
    let reference = references.iter().find(|reference| reference.kind == "ADVISORY").or(references.first());
    let url = reference.map(|reference| reference.url.to_string()).filter(|url| is_web_url(url));
    let aliases = written.aliases.unwrap_or_default().into_iter().map(Cow::into_owned);
    let aliases = aliases.filter(|alias| check_id(alias).is_ok()).collect();
    let affected =
        written.affected.unwrap_or_default().into_iter().map(affected).collect::<Result<_, _>>()?;
    Ok(Some(Advisory { id: written.id.into_owned(), aliases, summary, rating, modified, url, affected }))
}

fn check_size(text: &[u8]) -> Result<(), String> {
    if text.len() > MAX_RECORD_SIZE {
        Err(format!("it is larger than {MAX_RECORD_SIZE} bytes"))
    } else {
        Ok(())
    }
}

fn check_id(id: &str) -> Result<(), String> {
    let is_sound = !id.is_empty() && id.len() <= MAX_ID && id.chars().all(|c| c.is_ascii_graphic());
    if is_sound { Ok(()) } else { Err("its `id` isn't a name".to_owned()) }
}

fn modified(text: &str) -> Result<Timestamp, String> {
    text.parse().map_err(|_| format!("`modified` is no time: `{text}`"))
}

fn is_web_url(url: &str) -> bool {
    ["https://", "http://"].iter().any(|scheme| url.starts_with(scheme)) && !url.chars().any(char::is_control)
}

/// The summary, else the first line of the details, else the name.
fn summary_of(written: &Written<'_>) -> String {
    let details = || {
        let text: String = serde_json::from_str(written.details?.get()).ok()?;
        text.lines().find(|line| !line.trim().is_empty()).map(|line| line.trim().to_owned())
    };
    let summary = written.summary.as_deref().map(str::trim).filter(|summary| !summary.is_empty());
    let summary = summary.map(str::to_owned).or_else(details).unwrap_or_else(|| written.id.to_string());
    summary.chars().filter(|c| !c.is_control()).take(MAX_SUMMARY).collect()
}

/// The worst rating of a record: by its vectors, else in its database's words.
fn rating_of(written: &Written<'_>) -> Option<Rating> {
    let affected = || written.affected.iter().flatten();
    let of_affected = affected().flat_map(|affected| affected.severity.iter().flatten());
    let vectors: Vec<&WrittenSeverity<'_>> = written.severity.iter().flatten().chain(of_affected).collect();
    // A vector of a newer version of the standard stands for the older ones beside it.
    let of_version = |kind: &str| {
        let vectors = vectors.iter().filter(|vector| vector.kind == kind);
        worst(vectors.filter_map(|vector| Rating::of_vector(&vector.score)))
    };
    let words = || {
        let own = affected().flat_map(|affected| [&affected.ecosystem_specific, &affected.database_specific]);
        let own = [&written.database_specific].into_iter().chain(own).flatten();
        worst(own.filter_map(|own| Rating::of_word(own.severity.as_str()?)))
    };
    of_version("CVSS_V4").or_else(|| of_version("CVSS_V3")).or_else(words)
}

fn worst(ratings: impl Iterator<Item = Rating>) -> Option<Rating> {
    ratings.max_by_key(|rating: &Rating| -> (Severity, u64) {
        // Scores have one decimal, and none is negative.
        (rating.severity, (rating.score.unwrap_or_default() * 10.0) as u64)
    })
}

fn key_of(package: &WrittenPackage<'_>) -> Option<Key> {
    let url: Option<PackageUrl> = package.purl.as_deref().and_then(|purl| purl.parse().ok());
    match url {
        Some(url) if package.ecosystem != ECOSYSTEM => Some(Key::of_url(&url)),
        _ => Key::of_ecosystem(&package.ecosystem, &package.name),
    }
}

fn affected(written: WrittenAffected<'_>) -> Result<Affected, String> {
    let (mut ranges, mut commits) = (Vec::new(), Vec::new());
    for range in written.ranges.unwrap_or_default() {
        let (mut introduced, mut fixed) = (Vec::new(), Vec::new());
        let (mut last_affected, mut limits) = (Vec::new(), Vec::new());
        for event in range.events {
            introduced.extend(event.introduced.map(Cow::into_owned));
            fixed.extend(event.fixed.map(Cow::into_owned));
            last_affected.extend(event.last_affected.map(Cow::into_owned));
            limits.extend(event.limit.map(Cow::into_owned));
        }
        if introduced.is_empty() {
            return Err("a range has no `introduced` event".to_owned());
        }
        match range.kind.as_ref() {
            "GIT" => {
                let repo = range.repo.as_deref().ok_or("a range of commits has no `repo`")?;
                // A repository without a host is on somebody's disk: nobody else's package comes from there.
                if let Some(repository) = Key::of_repository(repo) {
                    commits.push(CommitEvents { repository, introduced, fixed, last_affected, limits });
                }
            }
            "SEMVER" | "ECOSYSTEM" => {
                let is_semver = range.kind == "SEMVER";
                ranges.push(VersionEvents { is_semver, introduced, fixed, last_affected, limits });
            }
            other => return Err(format!("`{other}` is no type of range")),
        }
    }
    let is_ours = written.package.as_ref().is_some_and(|package| package.ecosystem == ECOSYSTEM);
    let versions = written.versions.unwrap_or_default().into_iter().map(Cow::into_owned).collect();
    Ok(Affected { package: written.package.as_ref().and_then(key_of), is_ours, versions, ranges, commits })
}
