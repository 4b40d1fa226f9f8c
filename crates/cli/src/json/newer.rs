//! What `newer` prints.

use bibliotax_app::newer::{PackageNews, Report};
use bibliotax_core::advisory::{Affecting, Severity};
use bibliotax_core::card::{Deprecation, Withdrawal};
use bibliotax_core::charter::CharterRelease;
use bibliotax_core::facet::Facets;
use bibliotax_core::name::PackageName;
use bibliotax_core::newer::Hold;
use bibliotax_core::range::Range;
use bibliotax_core::source::Source;
use bibliotax_core::version::Version;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::fit::{self, Fit};
use super::package::{Correction, Note, Package};

/// What `newer` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Newer {
    /// The charters that have newer releases.
    pub charters: Vec<NewsOfCharter>,
    /// The packages that have news.
    pub packages: Vec<News>,
    /// How many packages were looked at.
    pub looked_at: usize,
    /// Packages from archives, of which it isn't known whether there are newer ones.
    pub unknown: Vec<PackageName>,
    /// What upstreams have that the registries don't have yet; empty without `--upstream`.
    pub upstream: Vec<UpstreamNews>,
    /// Why an update finds no set of versions now; empty where it does.
    pub stuck: Vec<String>,
}

impl Document for Newer {
    const COMMAND: &'static str = "newer";
}

/// A release of upstream that no registry has yet.
#[derive(Serialize, JsonSchema)]
pub struct UpstreamNews {
    /// The package.
    pub name: PackageName,
    /// The version.
    pub version: Version,
    /// When it appeared; null if nobody says.
    pub released: Option<Timestamp>,
}

/// The news of a package, as it is locked.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct News {
    #[serde(flatten)]
    pub package: Package,
    /// The release that an update would use.
    pub update: Option<Update>,
    /// The newest release beyond that.
    pub beyond: Option<Beyond>,
    /// How the card of the locked release was corrected since it was locked.
    pub corrections: Vec<Correction>,
    /// The advisories that affect the locked release.
    pub advisories: Vec<NewsAdvisory>,
    /// What changed in newer releases.
    pub notes: Vec<Note>,
    /// That the locked release is deprecated.
    pub deprecated: Option<Deprecation>,
    /// That the locked release was withdrawn.
    pub withdrawn: Option<Withdrawal>,
}

/// A release that an update would use.
#[derive(Serialize, JsonSchema)]
pub struct Update {
    /// Its version.
    pub version: Version,
    /// Where it comes from.
    pub source: Source,
}

/// An advisory that affects a locked release.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct NewsAdvisory {
    /// Its name.
    pub id: String,
    /// How bad it is.
    pub severity: Severity,
    /// What it is, in a line.
    pub summary: String,
    /// The nearest release that it doesn't affect.
    pub fixed_in: Option<Version>,
}

impl From<&(Affecting, Option<Version>)> for NewsAdvisory {
    fn from((affecting, fixed_in): &(Affecting, Option<Version>)) -> Self {
        Self {
            id: affecting.advisory.id.clone(),
            severity: affecting.severity,
            summary: affecting.advisory.summary.clone(),
            fixed_in: fixed_in.clone(),
        }
    }
}

/// A release that an update would not use.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Beyond {
    /// Its version.
    pub version: Version,
    /// The needs that keep it out.
    pub held_by: Vec<HoldingNeed>,
    /// The charters that don't allow it.
    pub charters: Vec<HoldingCharter>,
    /// The targets that it doesn't fit.
    pub fits: Vec<Fit>,
    /// What the rules say against it.
    pub refused: Option<String>,
    /// The tag, branch, commit or archive that the manifest uses instead.
    pub fixed: Option<String>,
}

/// A charter that doesn't allow a release.
#[derive(Serialize, JsonSchema)]
pub struct HoldingCharter {
    /// The charter's release.
    pub charter: CharterRelease,
    /// The range that it allows.
    pub range: Range,
}

/// A charter that has a newer release.
#[derive(Serialize, JsonSchema)]
pub struct NewsOfCharter {
    /// The charter.
    pub name: PackageName,
    /// The release that binds the workspace.
    pub locked: Version,
    /// The release that an update would use.
    pub update: Option<Version>,
    /// The newest release beyond that, which the range doesn't accept.
    pub beyond: Option<Version>,
    /// What changed in newer releases.
    pub notes: Vec<Note>,
}

/// A need that keeps a release out.
#[derive(Serialize, JsonSchema)]
pub struct HoldingNeed {
    /// The project or package.
    pub by: PackageName,
    /// The package's version.
    pub version: Option<Version>,
    /// The range that it needs.
    pub range: Range,
}

impl Newer {
    /// What is newer; why an update finds no set of versions, where it doesn't.
    pub fn of(report: &Report<'_>) -> Self {
        let packages = report.packages.iter().map(|news| news_of(news, &report.facets)).collect();
        let upstream = report.upstream.iter().filter_map(|(package, at)| {
            let newest = at.newest.as_ref().ok()?;
            Some(UpstreamNews {
                name: package.clone(),
                version: newest.version.clone(),
                released: newest.published,
            })
        });
        let upstream = upstream.collect();
        let charters = report.charters.iter().map(|news| NewsOfCharter {
            name: news.name.clone(),
            locked: news.locked.clone(),
            update: news.update.clone(),
            beyond: news.beyond.clone(),
            notes: news.notes.iter().map(Note::from).collect(),
        });
        let charters = charters.collect();
        let (unknown, stuck) = (report.unknown.clone(), report.stuck_reasons());
        Self { charters, packages, looked_at: report.asked, unknown, upstream, stuck }
    }
}

fn news_of(PackageNews { news, notes }: &PackageNews<'_>, facets: &Facets) -> News {
    let locked = news.locked.as_ref();
    News {
        package: news.package.into(),
        update: news.update.clone().map(|(version, source)| Update { version, source }),
        beyond: news.beyond.as_ref().map(|(version, holds)| beyond(version, holds, facets)),
        corrections: Correction::all(&news.corrections),
        advisories: news.advisories.iter().map(NewsAdvisory::from).collect(),
        notes: notes.iter().map(Note::from).collect(),
        deprecated: locked.and_then(|release| release.deprecated.clone()),
        withdrawn: locked.and_then(|release| release.withdrawn.clone()),
    }
}

fn beyond(version: &Version, holds: &[Hold], facets: &Facets) -> Beyond {
    let (mut held_by, mut charters, mut fits) = (Vec::new(), Vec::new(), Vec::new());
    let (mut refused, mut fixed) = (None, None);
    for hold in holds {
        match hold {
            Hold::Need { by, at, range } => {
                held_by.push(HoldingNeed { by: by.clone(), version: at.clone(), range: range.clone() });
            }
            Hold::Charter { release, range } => {
                charters.push(HoldingCharter { charter: release.clone(), range: range.clone() });
            }
            Hold::Unfit { place, fit } => fits.extend(fit::of(&place.name, fit, facets)),
            Hold::Refused { why, .. } => refused = Some(why.clone()),
            Hold::Fixed { at } => fixed = Some(at.clone()),
        }
    }
    Beyond { version: version.clone(), held_by, charters, fits, refused, fixed }
}
