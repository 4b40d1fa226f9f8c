//! Packages from outside registries: what `--path`, `--git` and `--archive` say.

use std::path::Path;

use bibliotax_archive::inspect::{ArchivedFile, leading_folder};
use bibliotax_core::card::{Archive, ArchiveFormat};
use bibliotax_core::file_selection::FilePattern;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::location::Location;
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::name::PackageName;
use bibliotax_core::named_archive::{NamedArchive, named_archive, plain_name};
use bibliotax_core::range::Range;
use bibliotax_core::source::{GitSource, place_problem, without_user};
use bibliotax_core::tags::{NoRelease, TagPattern, proposed};
use bibliotax_core::version::Version;
use bibliotax_registry::sources::direct_sources::DirectSources;
use bibliotax_registry::sources::git::Refs;
use toml_edit::{Array, Value};

use super::card_scaffold::{Scaffold, UpstreamFiles};
use super::words::Wanted;
use super::{all_parsed, parsed};
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
    /// A pattern of its tags that name releases.
    pub tags: Option<String>,
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
    /// How it is packed, where its bytes don't tell.
    pub packed_as: Option<String>,
    /// The only files that are taken.
    pub include: Vec<String>,
    /// Files that are left out.
    pub exclude: Vec<String>,
    /// The package's name and version, in place of those that are proposed.
    pub named: Option<(String, String)>,
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

/// What the tags of a repository were read as.
#[derive(Debug, Clone)]
pub struct TagsFound {
    /// The pattern that they were read by.
    pub pattern: TagPattern,
    /// The releases, newest first, each with its tag.
    pub releases: Vec<(Version, String)>,
    /// The tags that name none, and why.
    pub left_out: Vec<(String, NoRelease)>,
}

/// Keys of a need in a manifest, with their values.
pub type Keys = Vec<(&'static str, Value)>;

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

/// What is known of a source once it was asked.
#[derive(Debug, Default)]
pub struct FoundSource {
    /// What a need says of it.
    pub source: Option<NeedSource>,
    /// What is in an archive.
    pub archive: Option<ArchiveContents>,
    /// What the tags of a repository were read as.
    pub tags: Option<TagsFound>,
    /// The card of a package that doesn't say itself what it is.
    pub card: Option<Scaffold>,
    /// Whether its version was read off a name and nobody said it.
    pub is_version_proposed: bool,
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

    /// The package that is wanted where none is named: as people say, or as the place's name proposes.
    pub fn package(&self) -> Result<Option<Wanted>, Failure> {
        let by_place = || {
            let archive = self.archive.as_ref().and_then(|url| named_archive(url).name);
            archive.or_else(|| repository_name(self.git.as_ref()?))
        };
        let said = self.named.as_ref().map(|(name, _)| name.clone());
        let Some(name) = said.or_else(by_place) else { return Ok(None) };
        let package = name.parse().map_err(|fault| Failure::in_words("the package's name", &name, fault))?;
        Ok(Some(Wanted { package, range: None }))
    }

    /// What the words mean for these packages; a repository or an archive may have to be asked first.
    pub fn read(
        &self,
        wanted: &[Wanted],
        workspace: &WorkspaceFolder,
        context: &Context<'_>,
    ) -> Result<FoundSource, Failure> {
        if let Some(path) = &self.path {
            let folder = folder_of(&workspace.root, &context.folder.join(path))?;
            let source = NeedSource { key: "path", place: Place::Local(folder), more: Vec::new() };
            return Ok(FoundSource { source: Some(source), ..FoundSource::default() });
        }
        if self.is_empty() {
            return Ok(FoundSource::default());
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
                self.of_repository(wanted, place_of(workspace, context.folder, url)?, &elsewhere)
            }
            (None, Some(url)) => {
                self.of_archive(wanted, place_of(workspace, context.folder, url)?, &elsewhere)
            }
            (None, None) => Ok(FoundSource::default()),
        }
    }

    fn of_repository(
        &self,
        wanted: &Wanted,
        place: Place,
        elsewhere: &DirectSources,
    ) -> Result<FoundSource, Failure> {
        let said = [("tag", &self.tag), ("branch", &self.branch), ("commit", &self.commit)];
        let said = said.iter().find_map(|(key, text)| Some((*key, text.as_ref()?.clone())));
        if let (Some((key, _)), Some(range)) = (&said, &wanted.range) {
            let message =
                format!("`--{key}` names one commit, so it can't be combined with the range {range}");
            return Err(Failure::new("need.words", message).advice("remove one of them"));
        }
        let refs = elsewhere.refs_of(&wanted.package, place.text())?;
        let tags = if said.is_none() { self.tags_of(&wanted.package, &refs)? } else { None };
        let (point, commit) = self.point(wanted, &place, said, &refs, tags.as_ref())?;
        let is_by_releases = point.0 == "range";
        let pattern = tags
            .as_ref()
            .map(|tags| &tags.pattern)
            .filter(|pattern| is_by_releases && pattern.as_str() != TagPattern::USUAL);
        let pattern = pattern.map(|pattern| ("tags", Value::from(pattern.as_str())));
        let subfolder = self.folder.iter().map(|subfolder| ("subfolder", Value::from(subfolder.as_str())));
        let more = [(point.0, Value::from(point.1))].into_iter().chain(pattern).chain(subfolder);
        let more = more.chain(self.selection_keys()?).collect();
        let mut card = match commit {
            Some(commit) => self.card_of_commit(wanted, &place, &commit, elsewhere)?,
            None => None,
        };
        if let (Some((_, version)), Some(found)) = (&self.named, card.take()) {
            card = Some(found.at(said_version(version)?, None));
        }
        let source = Some(NeedSource { key: "git", place, more });
        Ok(FoundSource { source, tags, card, ..FoundSource::default() })
    }

    /// What the tags of a repository are read as: by the pattern that is said, or by the one that finds most.
    fn tags_of(&self, package: &PackageName, refs: &Refs) -> Result<Option<TagsFound>, Failure> {
        let names = refs.tags.keys().map(String::as_str);
        let said: Option<TagPattern> = parsed("--tags", self.tags.as_ref())?;
        let is_said = said.is_some();
        let found =
            || proposed(names.clone(), package.as_str()).into_iter().next().map(|(pattern, _)| pattern);
        let Some(pattern) = said.or_else(found) else { return Ok(None) };
        let read = pattern.releases(names.clone());
        if is_said && read.releases.is_empty() {
            let failure =
                Failure::new("git.no-commit", format!("no tag is like `{pattern}` and names a version"));
            let near: Vec<String> = refs.tags.keys().rev().take(5).cloned().collect();
            return Err(failure.because([format!("Tags there are: {}.", near.join(", "))]));
        }
        let releases = read.releases.iter().rev().map(|(version, tag)| (version.clone(), (*tag).to_owned()));
        let left_out = read.left_out.into_iter().map(|(tag, why)| (tag.to_owned(), why));
        Ok(Some(TagsFound { releases: releases.collect(), left_out: left_out.collect(), pattern }))
    }

    /// What the need says of the commit, and the commit itself, where it is known already.
    fn point(
        &self,
        wanted: &Wanted,
        place: &Place,
        said: Option<(&'static str, String)>,
        refs: &Refs,
        tags: Option<&TagsFound>,
    ) -> Result<((&'static str, String), Option<String>), Failure> {
        let commit_of = |tag: &str| refs.tags.get(tag).map(ToString::to_string);
        if let Some((key, name)) = said {
            let commit = match key {
                "tag" => commit_of(&name),
                "branch" => refs.branches.get(&name).map(ToString::to_string),
                _ => Some(name.clone()),
            };
            return Ok(((key, name), commit));
        }
        let releases = tags.map(|tags| tags.releases.as_slice()).unwrap_or_default();
        if let Some(range) = &wanted.range {
            let set = range.set(false);
            let newest = releases.iter().find(|(version, _)| set.contains(version.point()));
            return Ok((("range", range.to_string()), newest.and_then(|(_, tag)| commit_of(tag))));
        }
        if let Some((version, tag)) = releases.iter().find(|(version, _)| !version.is_pre()) {
            return Ok((("range", Range::from_version(version).to_string()), commit_of(tag)));
        }
        let branch = refs.default_branch.clone().or_else(|| refs.branches.keys().next().cloned());
        let branch = branch.ok_or_else(|| {
            let message = format!("the git repository {} has neither tags nor branches", place.text());
            Failure::new("git.no-commit", message).advice("check the URL")
        })?;
        let commit = refs.branches.get(&branch).map(ToString::to_string);
        Ok((("branch", branch), commit))
    }

    /// The card of a commit that doesn't say itself what it is; `None` where it does, or where the commit is unknown.
    fn card_of_commit(
        &self,
        wanted: &Wanted,
        place: &Place,
        commit: &str,
        elsewhere: &DirectSources,
    ) -> Result<Option<Scaffold>, Failure> {
        let Ok(commit) = commit.parse() else { return Ok(None) };
        let subfolder: Option<InnerPath> = match &self.folder {
            Some(folder) => InnerPath::new(folder).ok(),
            None => None,
        };
        let source = GitSource { git: place.text().to_owned(), commit, at: None, subfolder };
        let tar = elsewhere.commit_as_archive(&wanted.package, &source)?;
        let files = UpstreamFiles::of(&tar, ArchiveFormat::Tar, |_| None);
        let (files, _) = files
            .map_err(|error| of_archive(format!("the files of {} can't be used", wanted.package), &error))?;
        let repository = place.text().starts_with("https://").then(|| place.text().to_owned());
        Ok((!files.has_manifest()).then(|| Scaffold::of(&files, repository)))
    }

    fn of_archive(
        &self,
        wanted: &Wanted,
        place: Place,
        elsewhere: &DirectSources,
    ) -> Result<FoundSource, Failure> {
        let package = &wanted.package;
        let format: Option<ArchiveFormat> = parsed("--packed-as", self.packed_as.as_ref())?;
        let (archive, path) = elsewhere.fetch_archive(package, place.text(), format)?;
        let said = match &self.strip {
            Some(strip) => Some(InnerPath::new(strip).map_err(|problem| {
                Failure::new(
                    "need.words",
                    format!("`--strip {strip}` isn't a folder of an archive: {problem}"),
                )
            })?),
            None => None,
        };
        let files = UpstreamFiles::of(&path, archive.format, |files| said.or_else(|| leading(files)));
        let (files, strip) =
            files.map_err(|error| of_archive(format!("the archive of {package} can't be used"), &error))?;
        let (card, is_version_proposed) = self.card_of_archive(&files, place.text(), package)?;
        let strip = strip.map(|strip| ("strip", Value::from(strip.as_str())));
        let packed = format.map(|format| ("format", Value::from(format.to_string())));
        let keys =
            [("sha256", Value::from(archive.sha256.to_string()))].into_iter().chain(strip).chain(packed);
        let more = keys.chain(self.selection_keys()?).collect();
        let archive = ArchiveContents { url: place.text().to_owned(), archive, files: files.all };
        let source = Some(NeedSource { key: "archive", place, more });
        Ok(FoundSource { source, archive: Some(archive), card, is_version_proposed, tags: None })
    }

    /// The card of an archive without a manifest, at the version that people say or that its name proposes.
    fn card_of_archive(
        &self,
        files: &UpstreamFiles,
        url: &str,
        package: &PackageName,
    ) -> Result<(Option<Scaffold>, bool), Failure> {
        if files.has_manifest() {
            return Ok((None, false));
        }
        let NamedArchive { upstream, version, .. } = named_archive(url);
        let said = self.named.as_ref().map(|(_, version)| said_version(version)).transpose()?;
        let is_proposed = said.is_none();
        let Some(version) = said.or(version) else {
            let message = format!("neither the archive nor its name says which version of {package} it is");
            let advice = format!("say it: `bibliotax need --archive {url} --as {package} VERSION`");
            return Err(Failure::new("need.no-version", message).advice(advice));
        };
        let upstream = upstream.and_then(|upstream| upstream.parse().ok());
        Ok((Some(Scaffold::of(files, None).at(version, upstream)), is_proposed))
    }

    /// The keys of a need that say which files are taken.
    fn selection_keys(&self) -> Result<Keys, Failure> {
        let mut keys = Vec::new();
        for (key, option, texts) in
            [("include", "--include", &self.include), ("exclude", "--exclude", &self.exclude)]
        {
            let patterns: Vec<FilePattern> = all_parsed(option, texts)?;
            if !patterns.is_empty() {
                let list: Array = patterns.iter().map(FilePattern::as_str).collect();
                keys.push((key, Value::Array(list)));
            }
        }
        Ok(keys)
    }
}

/// The version that people say.
fn said_version(text: &str) -> Result<Version, Failure> {
    text.parse().map_err(|fault| Failure::in_words("--as", text, fault))
}

/// The name of a repository, by its place.
fn repository_name(place: &str) -> Option<String> {
    let path = place.trim_end_matches('/');
    let last = path.rsplit(['/', ':']).next()?;
    plain_name(last.strip_suffix(".git").unwrap_or(last))
}

impl NeedSource {
    /// The keys of a need in the manifest of this folder, from the workspace's.
    pub fn seen_from(&self, folder: &str) -> Keys {
        let place = match &self.place {
            Place::Url(url) => url.clone(),
            Place::Local(path) => way_to(folder, path),
        };
        [(self.key, Value::from(place))].into_iter().chain(self.more.iter().cloned()).collect()
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
