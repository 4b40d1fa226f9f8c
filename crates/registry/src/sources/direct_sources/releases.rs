//! The releases of a git repository: one commit, or one for each tag that names a version.

use std::collections::BTreeMap;

use bibliotax_core::card::Card;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::{DeclaredGit, FILE_NAME, GitPoint};
use bibliotax_core::name::PackageName;
use bibliotax_core::resolve::Listing;
use bibliotax_core::source::{CommitId, GitSource, Source};
use bibliotax_core::version::Version;
use bibliotax_core::workspace::DirectSources as Declared;

use super::card::Found;
use super::{DirectSources, OfMovedTag};
use crate::model::error::RegistryError;
use crate::sources::git::{Refs, Repository, Wanted, release_of};

/// Most releases of a repository that are looked into: the newest of those that will do.
const MAX_RELEASES: usize = 200;

/// A commit by the name that led to it.
struct Point {
    commit: CommitId,
    /// The name, as a lock has it.
    at: Option<String>,
    /// The version that overrides what it says itself.
    version: Option<Version>,
}

impl DirectSources {
    pub(super) fn of_repository(
        &self,
        package: &PackageName,
        declared: &Declared,
        git: &DeclaredGit,
    ) -> Result<Listing, RegistryError> {
        let repository = self.repository(package, &git.url, git.allows_plain)?;
        let points = self.points(package, declared, git, &repository)?;
        let commits: Vec<&CommitId> = points.iter().map(|point| &point.commit).collect();
        let is_part = git.subfolder.is_some() || points.len() > 1;
        repository.fetch(&commits, if is_part { Wanted::Names } else { Wanted::All })?;
        let releases = points.into_iter().map(|point| {
            let card = self.card(package, declared, git, &repository, &point)?;
            Ok((source(git, point), card))
        });
        let releases = releases.collect::<Result<Vec<_>, RegistryError>>()?;
        Listing::of_own(releases).ok_or_else(|| none_will_do(git, package))
    }

    /// The commits that may be taken.
    fn points(
        &self,
        package: &PackageName,
        declared: &Declared,
        git: &DeclaredGit,
        repository: &Repository,
    ) -> Result<Vec<Point>, RegistryError> {
        let locked = self.locked_commit(package, git);
        let one = |commit: CommitId, at: String| Ok(vec![Point { commit, at: Some(at), version: None }]);
        match &git.at {
            GitPoint::Commit(commit) => Ok(vec![Point { commit: commit.clone(), at: None, version: None }]),
            GitPoint::Branch(name) => {
                let at = format!("branch {name}");
                match locked
                    .filter(|locked| !self.freshness.is_anew(package) && locked.at.as_ref() == Some(&at))
                {
                    Some(locked) => one(locked.commit.clone(), at),
                    None => one(named(&repository.refs()?.branches, name, "branch", git)?, at),
                }
            }
            GitPoint::Tag(name) => {
                let at = format!("tag {name}");
                let locked = locked.filter(|locked| locked.at.as_ref() == Some(&at));
                if let Some(locked) = locked.filter(|_| !self.freshness.is_anew(package)) {
                    return one(locked.commit.clone(), at);
                }
                let now = named(&repository.refs()?.tags, name, "tag", git)?;
                one(self.commit_of_tag(package, locked, &now)?, at)
            }
            GitPoint::Releases(pattern) => {
                self.releases(package, declared, &repository.refs()?, pattern, locked)
            }
        }
    }

    /// The commit that a tag leads to: where it led when it was locked, unless people accept another one.
    fn commit_of_tag(
        &self,
        package: &PackageName,
        locked: Option<&GitSource>,
        now: &CommitId,
    ) -> Result<CommitId, RegistryError> {
        let Some(locked) = locked.filter(|locked| locked.commit != *now) else { return Ok(now.clone()) };
        let tag = locked.at.clone().unwrap_or_default();
        match self.freshness.of_moved_tag(package) {
            OfMovedTag::Follow => Ok(now.clone()),
            OfMovedTag::Refuse => {
                let (package, was) = (package.clone(), locked.commit.clone());
                Err(RegistryError::MovedTag { package, tag, was, now: now.clone() })
            }
            OfMovedTag::Stay => {
                let (was, now) = (locked.commit.short(), now.short());
                self.note(package, format!("the {tag} of {package} named commit {was} and names {now} now; the lock stays with {was}"));
                Ok(locked.commit.clone())
            }
        }
    }

    /// The releases by their tags that every need will do with.
    fn releases(
        &self,
        package: &PackageName,
        declared: &Declared,
        refs: &Refs,
        pattern: &str,
        locked: Option<&GitSource>,
    ) -> Result<Vec<Point>, RegistryError> {
        let will_do = |version: &Version| declared.sets.iter().all(|set| set.contains(version.point()));
        let mut points = Vec::new();
        for (version, tag, commit) in refs.releases(pattern).into_iter().rev() {
            let at = format!("tag {tag}");
            let locked = locked.filter(|locked| locked.at.as_ref() == Some(&at));
            if will_do(&version) && points.len() < MAX_RELEASES {
                let commit = self.commit_of_tag(package, locked, commit)?;
                points.push(Point { commit, at: Some(at), version: Some(version) });
            }
        }
        Ok(points)
    }

    /// The commit that the lock has of this repository.
    fn locked_commit(&self, package: &PackageName, git: &DeclaredGit) -> Option<&GitSource> {
        let locked = self.locked.get(package)?.source.git()?;
        (locked.git == git.url && locked.subfolder == git.subfolder).then_some(locked)
    }

    fn card(
        &self,
        package: &PackageName,
        declared: &Declared,
        git: &DeclaredGit,
        repository: &Repository,
        point: &Point,
    ) -> Result<Card, RegistryError> {
        let commit = &point.commit;
        let inside = |folder: &str| {
            if folder.is_empty() { FILE_NAME.to_owned() } else { format!("{folder}/{FILE_NAME}") }
        };
        let subfolder = git.subfolder.as_ref().map_or("", InnerPath::as_str);
        let manifest = repository.text(commit, &inside(subfolder))?;
        let root = match &manifest {
            Some(_) => self.workspace_around(repository, commit, git.subfolder.as_ref())?,
            None => None,
        };
        let by_tag = point.at.as_ref().and_then(|at| release_of(at.strip_prefix("tag ")?));
        let otherwise = declared.version.clone().or(by_tag);
        let found = Found {
            package,
            place: format!("commit {} of {}", commit.short(), git.url),
            manifest,
            root,
            stated: git.card.as_ref(),
            version: point.version.clone(),
            otherwise: otherwise.unwrap_or_else(|| unversioned(commit.short())),
            published: repository.time(commit)?,
        };
        found.card()
    }

    /// The manifest of the workspace that a folder of a repository may be a project of.
    fn workspace_around(
        &self,
        repository: &Repository,
        commit: &CommitId,
        subfolder: Option<&InnerPath>,
    ) -> Result<Option<String>, RegistryError> {
        let Some(subfolder) = subfolder else { return Ok(None) };
        let folders: Vec<&str> = subfolder.folders().collect();
        for folder in folders
            .into_iter()
            .rev()
            .map(|folder| format!("{folder}/{FILE_NAME}"))
            .chain([FILE_NAME.to_owned()])
        {
            if let Some(text) = repository.text(commit, &folder)?.filter(|text| text.contains("[workspace]"))
            {
                return Ok(Some(text));
            }
        }
        Ok(None)
    }
}

/// The version of what says none: before all others, with the beginning of what names its bytes.
pub fn unversioned(short: &str) -> Version {
    let version = format!("0+{short}").parse();
    version.unwrap_or_else(|_| Version::from_numeric([0; 4], 1))
}

fn source(git: &DeclaredGit, point: Point) -> Source {
    Source::Git(GitSource {
        git: git.url.clone(),
        commit: point.commit,
        at: point.at,
        subfolder: git.subfolder.clone(),
    })
}

/// The commit that a name leads to.
fn named(
    names: &BTreeMap<String, CommitId>,
    name: &str,
    what: &str,
    git: &DeclaredGit,
) -> Result<CommitId, RegistryError> {
    names.get(name).cloned().ok_or_else(|| {
        let near = bibliotax_core::nearest::nearest(name, names.keys().map(String::as_str), 2);
        let near = if near.is_empty() {
            String::new()
        } else {
            format!("; did you mean {}?", bibliotax_core::nearest::either(&near))
        };
        RegistryError::NoCommit { url: git.url.clone(), what: format!("it has no {what} `{name}`{near}") }
    })
}

fn none_will_do(git: &DeclaredGit, package: &PackageName) -> RegistryError {
    let what = match &git.at {
        GitPoint::Releases(pattern) => {
            format!("it has no tag like `{pattern}` that names a version of {package} which will do")
        }
        _ => "it has no such commit".to_owned(),
    };
    RegistryError::NoCommit { url: git.url.clone(), what }
}
