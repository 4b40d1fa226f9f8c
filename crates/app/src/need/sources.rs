//! Packages from outside registries: what `--path`, `--git` and `--archive` say.

use std::path::Path;

use bibliotax_archive::inspect::{ArchivedFile, contents, leading_folder};
use bibliotax_core::card::Archive;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::location::Location;
use bibliotax_core::manifest::{FILE_NAME, GitPoint};
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::source::{place_problem, without_user};
use bibliotax_registry::sources::direct_sources::DirectSources;

use super::words::Wanted;
use crate::context::Context;
use crate::failure::Failure;
use crate::failure::store::of_archive;
use crate::workspace::{WorkspaceFolder, folder_of};

/// Where a package comes from that is in no registry, as people say it.
#[derive(Debug, Clone, Default)]
pub struct SourceWords {
    /// The folder of a project, which is used as it is there.
    pub path: Option<String>,
    /// A git repository.
    pub git: Option<String>,
    /// A tag of it.
    pub tag: Option<String>,
    /// A branch of it.
    pub branch: Option<String>,
    /// A commit of it.
    pub commit: Option<String>,
    /// The folder of it that is the package.
    pub folder: Option<String>,
    /// The URL of an archive.
    pub archive: Option<String>,
    /// The folder inside it that is the package.
    pub strip: Option<String>,
}

/// What is in an archive.
#[derive(Debug, Clone)]
pub struct ArchiveContents {
    /// Where it is.
    pub url: String,
    /// Its digest and size.
    pub archive: Archive,
    /// Its files.
    pub files: Vec<ArchivedFile>,
}

/// Keys of a need in a manifest, with their values.
pub type Keys = Vec<(&'static str, String)>;

/// What a need says of where its package comes from.
#[derive(Debug)]
pub struct NeedSource {
    /// The key that names the place.
    pub key: &'static str,
    /// The place.
    pub place: Place,
    /// Further keys.
    pub more: Keys,
}

/// A place as each manifest sees it.
#[derive(Debug)]
pub enum Place {
    /// The same for all.
    Url(String),
    /// On this disk, from the workspace's folder.
    Local(String),
}

impl SourceWords {
    /// Whether nothing is said.
    pub fn is_empty(&self) -> bool {
        self.path.is_none() && self.git.is_none() && self.archive.is_none()
    }

    /// What the words mean for these packages; a repository or an archive may have to be asked first.
    pub fn read(
        &self,
        wanted: &[Wanted],
        workspace: &WorkspaceFolder,
        context: &Context<'_>,
    ) -> Result<(Option<NeedSource>, Option<ArchiveContents>), Failure> {
        if let Some(path) = &self.path {
            let folder = folder_of(&workspace.root, &context.folder.join(path))?;
            let source = NeedSource { key: "path", place: Place::Local(folder), more: Vec::new() };
            return Ok((Some(source), None));
        }
        if self.is_empty() {
            return Ok((None, None));
        }
        let [wanted] = wanted else {
            let failure = Failure::new(
                "need.words",
                "a repository or archive contains one package, but several are named",
            );
            return Err(failure.advice("declare them one after the other"));
        };
        let elsewhere = DirectSources::undeclared(&workspace.root, &context.environment.network());
        match (&self.git, &self.archive) {
            (Some(url), _) => {
                let place = place_of(workspace, context.folder, url)?;
                let more = self.git_keys(wanted, &place, &elsewhere)?;
                Ok((Some(NeedSource { key: "git", place, more }), None))
            }
            (None, Some(url)) => {
                let place = place_of(workspace, context.folder, url)?;
                let (more, contents) = self.archive_keys(&wanted.package, &place, &elsewhere)?;
                Ok((Some(NeedSource { key: "archive", place, more }), Some(contents)))
            }
            (None, None) => Ok((None, None)),
        }
    }

    fn git_keys(&self, wanted: &Wanted, place: &Place, elsewhere: &DirectSources) -> Result<Keys, Failure> {
        let said = [("tag", &self.tag), ("branch", &self.branch), ("commit", &self.commit)];
        let said = said.iter().find_map(|(key, text)| Some((*key, text.as_ref()?.clone())));
        let subfolder = self.folder.iter().map(|subfolder| ("subfolder", subfolder.clone()));
        let point = match (said, &wanted.range) {
            (Some((key, _)), Some(range)) => {
                let message =
                    format!("`--{key}` names one commit, so it can't be combined with the range {range}");
                return Err(Failure::new("need.words", message).advice("remove one of them"));
            }
            (Some(said), None) => said,
            (None, Some(range)) => ("range", range.to_string()),
            (None, None) => newest(&wanted.package, place, elsewhere)?,
        };
        Ok([point].into_iter().chain(subfolder).collect())
    }

    fn archive_keys(
        &self,
        package: &PackageName,
        place: &Place,
        elsewhere: &DirectSources,
    ) -> Result<(Keys, ArchiveContents), Failure> {
        let (archive, path) = elsewhere.fetch_archive(package, place.text(), None)?;
        let inside = contents(&path, archive.format);
        let inside =
            inside.map_err(|error| of_archive(format!("the archive of {package} can't be used"), &error))?;
        let strip = match &self.strip {
            Some(strip) => Some(strip.clone()),
            None => leading(&inside).map(|folder| folder.to_string()),
        };
        let strip = strip.map(|strip| ("strip", strip));
        let keys = [("sha256", archive.sha256.to_string())].into_iter().chain(strip).collect();
        Ok((keys, ArchiveContents { url: place.text().to_owned(), archive, files: inside }))
    }
}

impl NeedSource {
    /// The keys of a need in the manifest of this folder, from the workspace's.
    pub fn seen_from(&self, folder: &str) -> Keys {
        let place = match &self.place {
            Place::Url(url) => url.clone(),
            Place::Local(path) => way_to(folder, path),
        };
        [(self.key, place)].into_iter().chain(self.more.iter().cloned()).collect()
    }
}

impl Place {
    fn text(&self) -> &str {
        match self {
            Self::Url(text) | Self::Local(text) => text,
        }
    }
}

/// A place that is named on the command line, seen from this folder.
fn place_of(workspace: &WorkspaceFolder, here: &Path, place: &str) -> Result<Place, Failure> {
    let location = Location::of(place);
    if let Some(problem) = place_problem(place).filter(|_| !location.is_path()) {
        let what = format!("`{}` {problem}", without_user(place));
        return Err(Failure::new("manifest.place", what)
            .advice("remove it (no request was sent, nothing was written)"));
    }
    match location.path() {
        None => Ok(Place::Url(place.to_owned())),
        Some(path) => Ok(Place::Local(folder_of(&workspace.root, &here.join(path))?)),
    }
}

/// What is taken of a repository where nothing is said: its releases from the newest on, or else its main branch.
fn newest(
    package: &PackageName,
    place: &Place,
    elsewhere: &DirectSources,
) -> Result<(&'static str, String), Failure> {
    let refs = elsewhere.refs_of(package, place.text())?;
    let releases = refs.releases(GitPoint::RELEASE_TAGS);
    if let Some((version, ..)) = releases.iter().rev().find(|(version, ..)| !version.is_pre()) {
        return Ok(("range", Range::from_version(version).to_string()));
    }
    let branch = refs.default_branch.clone().or_else(|| refs.branches.keys().next().cloned());
    branch.map(|branch| ("branch", branch)).ok_or_else(|| {
        let message = format!("the git repository {} has neither tags nor branches", place.text());
        Failure::new("git.no-commit", message).advice("check the URL")
    })
}

/// The folder that all of an archive is in, unless the package's own manifest is beside it.
fn leading(inside: &[ArchivedFile]) -> Option<InnerPath> {
    leading_folder(inside).filter(|_| !inside.iter().any(|file| file.path == FILE_NAME))
}

/// The way from one folder to another, both from the workspace's.
fn way_to(from: &str, to: &str) -> String {
    let parts = |folder: &str| -> Vec<String> {
        folder.split('/').filter(|part| !part.is_empty()).map(str::to_owned).collect()
    };
    let (from, to) = (parts(from), parts(to));
    let common = from.iter().zip(&to).take_while(|(one, other)| one == other && *one != "..").count();
    let up = std::iter::repeat_n("..", from.len() - common);
    let way: Vec<&str> = up.chain(to[common..].iter().map(String::as_str)).collect();
    if way.is_empty() { ".".to_owned() } else { way.join("/") }
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_way_leads_up_to_what_is_common_and_down_again() {
        for (from, to, way) in [
            ("gate-kiosk", "valve-core", "../valve-core"),
            ("", "valve-core", "valve-core"),
            ("parts/gate", "parts/valve", "../valve"),
            ("gate-kiosk", "../rain/core", "../../rain/core"),
            ("gate-kiosk", "", ".."),
        ] {
            assert_eq!(super::way_to(from, to), way, "{from} {to}");
        }
    }
}
