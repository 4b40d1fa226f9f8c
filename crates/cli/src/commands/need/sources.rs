//! Where packages are needed from that are in no registry: what `--path`, `--git` and `--archive` say.

use std::path::Path;

use bibliotax_archive::look::{Inside, contents, leading_folder};
use bibliotax_core::card::Archive;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::location::Location;
use bibliotax_core::manifest::{FILE_NAME, GitPoint};
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;
use bibliotax_core::source::{place_problem, without_user};
use bibliotax_registry::sources::elsewhere::Elsewhere;

use super::words::Wanted;
use crate::failure::{Failure, stored};
use crate::project::{Project, folder_of};
use crate::show::{count, size, table};
use crate::ui::{Ui, clean, style, styled};

/// Most files of an archive that are listed.
const MOST_LISTED: usize = 12;

/// Where a package comes from that is in no registry
#[derive(Debug, clap::Args)]
#[group(multiple = true)]
pub struct From {
    /// Use the project in this folder, as it is there; a workspace's members need each other so
    #[arg(long, value_name = "FOLDER", conflicts_with_all = ["shared", "registry", "exactly"])]
    path: Option<String>,
    /// Take it from this git repository: its releases by their tags, unless another option says which commit
    #[arg(long, value_name = "URL", conflicts_with_all = ["shared", "registry", "exactly", "path"])]
    git: Option<String>,
    /// What this tag of the repository names
    #[arg(long, value_name = "TAG", requires = "git", conflicts_with_all = ["branch", "rev"])]
    tag: Option<String>,
    /// The newest commit of this branch of the repository
    #[arg(long, value_name = "BRANCH", requires = "git", conflicts_with = "rev")]
    branch: Option<String>,
    /// This commit of the repository
    #[arg(long, value_name = "COMMIT", requires = "git")]
    rev: Option<String>,
    /// The folder of the repository that is the package
    #[arg(long, value_name = "FOLDER", requires = "git")]
    dir: Option<String>,
    /// Take it from this archive, whose contents and digest are shown
    #[arg(long, value_name = "URL", conflicts_with_all = ["shared", "registry", "exactly", "path", "git"])]
    archive: Option<String>,
    /// The folder inside the archive that is the package; the one that all of it lies in, without this
    #[arg(long, value_name = "FOLDER", requires = "archive")]
    strip: Option<String>,
}

/// What a need says of where its package comes from.
#[derive(Debug)]
pub struct Said {
    /// The key that names the place.
    pub key: &'static str,
    pub place: Place,
    /// Further keys.
    pub more: Vec<(&'static str, String)>,
}

/// A place as each manifest sees it.
#[derive(Debug)]
pub enum Place {
    /// The same for all.
    Url(String),
    /// On this disk, from the workspace's folder.
    Local(String),
}

impl From {
    /// Whether nothing is said of it.
    pub fn is_unsaid(&self) -> bool {
        self.path.is_none() && self.git.is_none() && self.archive.is_none()
    }

    /// What the options say of these packages; a repository or an archive may have to be asked first.
    pub fn said(
        &self,
        wanted: &[Wanted],
        project: &Project,
        here: &Path,
        ui: &Ui,
    ) -> Result<Option<Said>, Failure> {
        if let Some(path) = &self.path {
            let folder = folder_of(&project.root, &here.join(path))?;
            return Ok(Some(Said { key: "path", place: Place::Local(folder), more: Vec::new() }));
        }
        if self.is_unsaid() {
            return Ok(None);
        }
        let [wanted] = wanted else {
            let failure = Failure::new(
                "need.words",
                "a repository or an archive is one package, and several are named",
            );
            return Err(failure.mend("need them one after the other"));
        };
        let elsewhere = Elsewhere::undeclared(&project.root, &project.network());
        match (&self.git, &self.archive) {
            (Some(url), _) => {
                let place = place_of(project, here, url)?;
                let more = self.git_keys(wanted, &place, &elsewhere)?;
                Ok(Some(Said { key: "git", place, more }))
            }
            (None, Some(url)) => {
                let place = place_of(project, here, url)?;
                let more = self.archive_keys(&wanted.package, &place, &elsewhere, ui)?;
                Ok(Some(Said { key: "archive", place, more }))
            }
            (None, None) => Ok(None),
        }
    }

    fn git_keys(
        &self,
        wanted: &Wanted,
        place: &Place,
        elsewhere: &Elsewhere,
    ) -> Result<Vec<(&'static str, String)>, Failure> {
        let said = [("tag", &self.tag), ("branch", &self.branch), ("rev", &self.rev)];
        let said = said.iter().find_map(|(key, text)| Some((*key, text.as_ref()?.clone())));
        let dir = self.dir.iter().map(|dir| ("dir", dir.clone()));
        let point = match (said, &wanted.range) {
            (Some((key, _)), Some(range)) => {
                let message =
                    format!("`--{key}` names one commit, and {range} is meant to choose among releases");
                return Err(Failure::new("need.words", message).mend("leave out one of them"));
            }
            (Some(said), None) => said,
            (None, Some(range)) => ("range", range.to_string()),
            (None, None) => newest(&wanted.package, place, elsewhere)?,
        };
        Ok([point].into_iter().chain(dir).collect())
    }

    fn archive_keys(
        &self,
        package: &PackageName,
        place: &Place,
        elsewhere: &Elsewhere,
        ui: &Ui,
    ) -> Result<Vec<(&'static str, String)>, Failure> {
        let (archive, path) = elsewhere.fetch_archive(package, place.text())?;
        let inside = contents(&path, archive.format);
        let inside = inside
            .map_err(|error| stored::of_archive(format!("the archive of {package} can't be used"), &error))?;
        let strip = match &self.strip {
            Some(strip) => Some(strip.clone()),
            None => leading(&inside).map(|folder| folder.to_string()),
        };
        show(ui, place.text(), &archive, &inside);
        let strip = strip.map(|strip| ("strip", strip));
        Ok([("sha256", archive.sha256.to_string())].into_iter().chain(strip).collect())
    }
}

impl Said {
    /// The keys of a need in the manifest of this folder, from the workspace's.
    pub fn seen_from(&self, folder: &str) -> Vec<(&'static str, String)> {
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
fn place_of(project: &Project, here: &Path, place: &str) -> Result<Place, Failure> {
    let location = Location::of(place);
    if let Some(problem) = place_problem(place).filter(|_| !location.is_path()) {
        let what = format!("`{}` {problem}", without_user(place));
        return Err(
            Failure::new("manifest.place", what).mend("write it without; nothing was asked or written")
        );
    }
    match location.path() {
        None => Ok(Place::Url(place.to_owned())),
        Some(path) => Ok(Place::Local(folder_of(&project.root, &here.join(path))?)),
    }
}

/// What is taken of a repository where nothing is said: its releases from the newest on, or else its main branch.
fn newest(
    package: &PackageName,
    place: &Place,
    elsewhere: &Elsewhere,
) -> Result<(&'static str, String), Failure> {
    let refs = elsewhere.refs_of(package, place.text())?;
    let releases = refs.releases(GitPoint::RELEASE_TAGS);
    if let Some((version, ..)) = releases.iter().rev().find(|(version, ..)| !version.is_pre()) {
        return Ok(("range", Range::from_version(version).to_string()));
    }
    let branch = refs.default_branch.clone().or_else(|| refs.branches.keys().next().cloned());
    branch.map(|branch| ("branch", branch)).ok_or_else(|| {
        let message = format!("the git repository {} has neither tags nor branches", place.text());
        Failure::new("git.no-commit", message).mend("check the URL")
    })
}

/// The folder that all of an archive lies in, unless the package's own manifest is beside it.
fn leading(inside: &[Inside]) -> Option<InnerPath> {
    leading_folder(inside).filter(|_| !inside.iter().any(|file| file.path == FILE_NAME))
}

fn show(ui: &Ui, url: &str, archive: &Archive, inside: &[Inside]) {
    let head = styled(style::STRONG, "archive");
    let what = format!("{}, {}", size(archive.size), count(inside.len(), "file"));
    ui.say(format!("{head}: {} ({what}), SHA-256 {}", clean(url), archive.sha256));
    let row = |file: &Inside| vec![format!(" {}", clean(&file.path)), size(file.size)];
    ui.say(table(ui, inside.iter().take(MOST_LISTED).map(row)));
    if let Some(more) = inside.len().checked_sub(MOST_LISTED).filter(|more| *more > 0) {
        ui.say(format!("  and {more} more"));
    }
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
