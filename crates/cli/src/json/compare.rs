//! What `compare` prints.

use std::collections::BTreeMap;

use bibliotax_app::compare::{Known, KnownAdvisory, PackageFiles, Report};
use bibliotax_core::advisory::Severity;
use bibliotax_core::name::PackageName;
use bibliotax_core::review::causes;
use bibliotax_core::version::Version;
use schemars::JsonSchema;
use serde::Serialize;

use super::Document;
use super::change::{self, Change, CharterChange};
use super::package::Note;

/// What `compare` prints.
#[derive(Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub struct Comparison {
    /// What became of packages.
    pub changes: Vec<Change>,
    /// What became of charters.
    pub charters: Vec<CharterChange>,
    /// What became of projects.
    pub projects: Projects,
    /// The bytes of all archives.
    pub size: Sizes,
    /// Whether only targets or purposes of packages differ.
    pub only_reasons: bool,
    /// The direct needs that each change comes from, by package; null without `--why`.
    pub causes: Option<BTreeMap<PackageName, Vec<PackageName>>>,
    /// Advisories and release notes; null if registries weren't asked (`--review`).
    pub review: Option<Review>,
    /// The files that differ; empty without `--files` and `--diff`.
    pub files: Vec<ComparedFiles>,
}

/// What registries and feeds say of a difference.
#[derive(Serialize, JsonSchema)]
pub struct Review {
    /// Advisories that affect what is locked now, and didn't before.
    pub opened: Vec<ReviewAdvisory>,
    /// Advisories that affected what was locked, and affect it no longer.
    pub closed: Vec<ReviewAdvisory>,
    /// What changed in releases between the versions, by package.
    pub notes: BTreeMap<PackageName, Vec<Note>>,
}

/// An advisory about a locked package.
#[derive(Serialize, JsonSchema)]
pub struct ReviewAdvisory {
    /// The package.
    pub package: PackageName,
    /// Its version that is affected.
    pub version: Version,
    /// The advisory's name.
    pub id: String,
    /// How bad it is.
    pub severity: Severity,
    /// What it is, in a line.
    pub summary: String,
}

/// The files of a package that differ.
#[derive(Serialize, JsonSchema)]
pub struct ComparedFiles {
    /// The package.
    pub package: PackageName,
    /// The files.
    pub files: Vec<ComparedFile>,
    /// Whether some differences of texts were left out.
    pub cut: bool,
}

/// A file that differs.
#[derive(Serialize, JsonSchema)]
pub struct ComparedFile {
    /// Its path in the package.
    pub path: String,
    /// Its size before, in bytes; null where it is new.
    pub from: Option<u64>,
    /// Its size after, in bytes; null where it is gone.
    pub to: Option<u64>,
    /// How its text differs, in the unified format; null without `--diff`, and of what is no text.
    pub diff: Option<String>,
}

impl Document for Comparison {
    const COMMAND: &'static str = "compare";
}

/// Projects that are in one of two locks.
#[derive(Serialize, JsonSchema)]
pub struct Projects {
    /// Those that are new.
    pub added: Vec<PackageName>,
    /// Those that are gone.
    pub gone: Vec<PackageName>,
}

/// Bytes before and after.
#[derive(Serialize, JsonSchema)]
pub struct Sizes {
    /// Before.
    pub from: u64,
    /// After.
    pub to: u64,
}

impl Comparison {
    /// The difference of two locks.
    pub fn of(report: &Report, only_reasons: bool, with_causes: bool) -> Self {
        let (projects, (from, to)) = (report.projects(), report.sizes());
        let names = |names: Vec<&PackageName>| names.into_iter().cloned().collect();
        Self {
            causes: with_causes.then(|| causes(&report.changes(), &report.old, &report.new)),
            review: report.known.as_ref().map(Review::from),
            files: report.files.iter().map(ComparedFiles::from).collect(),
            changes: change::of(&report.changes(), &report.new),
            charters: report.charters().iter().map(CharterChange::from).collect(),
            projects: Projects { added: names(projects.added), gone: names(projects.gone) },
            size: Sizes { from, to },
            only_reasons,
        }
    }
}

impl From<&Known> for Review {
    fn from(known: &Known) -> Self {
        let advisories = |all: &[KnownAdvisory]| all.iter().map(ReviewAdvisory::from).collect();
        let notes = known.notes.iter();
        Self {
            opened: advisories(&known.opened),
            closed: advisories(&known.closed),
            notes: notes
                .map(|(name, notes)| (name.clone(), notes.iter().map(Note::from).collect()))
                .collect(),
        }
    }
}

impl From<&KnownAdvisory> for ReviewAdvisory {
    fn from(known: &KnownAdvisory) -> Self {
        let KnownAdvisory { package, version, id, severity, summary } = known.clone();
        Self { package, version, id, severity, summary }
    }
}

impl From<&PackageFiles> for ComparedFiles {
    fn from(package: &PackageFiles) -> Self {
        let diff = |path: &str| package.texts.iter().find(|text| text.path == path)?.text.clone();
        let files = package.files.iter().map(|file| ComparedFile {
            path: file.path.clone(),
            from: file.old,
            to: file.new,
            diff: diff(&file.path),
        });
        Self { package: package.name.clone(), files: files.collect(), cut: package.is_cut }
    }
}
