//! The workspaces at places: in folders and below them, and in git repositories.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use bibliotax_core::location::Location;
use bibliotax_core::lock::{FILE_NAME as LOCK, Lock};
use bibliotax_core::manifest::FILE_NAME as MANIFEST;
use bibliotax_core::name::PackageName;
use bibliotax_disk::read::read_text;
use bibliotax_registry::sources::direct_sources::DirectSources;
use rayon::prelude::*;

use crate::context::Context;
use crate::failure::Failure;
use crate::workspace::MAX_LOCK_SIZE;

/// How deep below a folder workspaces are looked for.
const MAX_DEPTH: usize = 6;

/// Most workspaces of one repository.
const MAX_IN_REPOSITORY: usize = 1_000;

/// Largest lock of a repository that is read, in bytes.
const MAX_FETCHED: u64 = 64 << 20;

/// Folders that have no workspaces of their own.
const OTHER_FOLDERS: [&str; 3] = ["shelf", "target", "node_modules"];

/// A workspace that was looked at.
pub struct Surveyed {
    /// What people call it: its folder, or its repository and the folder in it.
    pub name: String,
    /// Its lock; why it can't be read.
    pub lock: Result<Lock, String>,
}

impl Surveyed {
    fn of(name: String, text: Option<String>) -> Self {
        let lock = text.ok_or_else(|| format!("there is no {LOCK}"));
        let lock = lock.and_then(|text| Lock::read(&text).map_err(|broken| broken.fault.message));
        Self { name, lock }
    }
}

/// The workspaces at all places, in their order. A repository that can't be asked and a lock that can't be read have an error in place of a lock.
pub fn survey(places: &[String], context: &Context<'_>) -> Result<Vec<Surveyed>, Failure> {
    let found = places.par_iter().map(|place| match Location::of(place) {
        Location::Url { .. } | Location::OnHost { .. } => Ok(in_repository(place, context)),
        _ => in_folder(place, context),
    });
    Ok(found.collect::<Result<Vec<_>, Failure>>()?.into_iter().flatten().collect())
}

fn in_folder(place: &str, context: &Context<'_>) -> Result<Vec<Surveyed>, Failure> {
    let folder = context.folder.join(place);
    if !folder.is_dir() {
        return Err(Failure::new("disk.missing", format!("there is no folder {place}"))
            .advice("name folders, or repositories by their URLs"));
    }
    let mut locks = Vec::new();
    collect(&folder, "", MAX_DEPTH, &mut locks);
    if locks.is_empty() {
        return Ok(vec![Surveyed::of(place.to_owned(), None)]);
    }
    let place = place.trim_end_matches('/');
    let surveyed = locks.into_par_iter().map(|inner| {
        let name = if inner.is_empty() { place.to_owned() } else { format!("{place}/{inner}") };
        match read_text(&folder.join(&inner).join(LOCK), MAX_LOCK_SIZE) {
            Ok(text) => Surveyed::of(name, text),
            Err(error) => Surveyed { name, lock: Err(error.to_string()) },
        }
    });
    Ok(surveyed.collect())
}

/// Adds the folders that have a lock, by their paths from the first one, sorted.
fn collect(folder: &Path, inner: &str, deep: usize, found: &mut Vec<String>) {
    // A lock of something else may have the same name; a workspace has a manifest, too.
    if [LOCK, MANIFEST].iter().all(|name| folder.join(name).is_file()) {
        found.push(inner.to_owned());
    }
    if deep == 0 {
        return;
    }
    // A folder that can't be listed has nothing to say.
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let folders = entries.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_dir()));
    let mut names: Vec<String> =
        folders.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    for name in names.iter().filter(|name| !name.starts_with('.') && !OTHER_FOLDERS.contains(&name.as_str()))
    {
        let below = if inner.is_empty() { name.clone() } else { format!("{inner}/{name}") };
        collect(&folder.join(name), &below, deep - 1, found);
    }
}

fn in_repository(place: &str, context: &Context<'_>) -> Vec<Surveyed> {
    let (url, branch) = place.split_once('#').map_or((place, None), |(url, branch)| (url, Some(branch)));
    let sources = DirectSources::undeclared(context.folder, &context.environment.network());
    let locks = |paths: &[&str]| -> Vec<String> {
        let all: BTreeSet<&str> = paths.iter().copied().collect();
        let folders = paths.iter().filter_map(|path| path.strip_suffix(LOCK));
        let is_folder = |folder: &&str| folder.is_empty() || folder.ends_with('/');
        let folders =
            folders.filter(is_folder).filter(|folder| all.contains(&*format!("{folder}{MANIFEST}")));
        folders.map(|folder| format!("{folder}{LOCK}")).collect()
    };
    let limits = (MAX_IN_REPOSITORY, MAX_FETCHED);
    let found = sources.texts_of_branch(&anonymous(), url, branch, &locks, limits);
    match found {
        Err(error) => vec![Surveyed { name: place.to_owned(), lock: Err(error.to_string()) }],
        Ok(locks) if locks.is_empty() => vec![Surveyed::of(place.to_owned(), None)],
        Ok(locks) => {
            let name = |path: &str| match path.rsplit_once('/') {
                Some((folder, _)) => format!("{place}/{folder}"),
                None => place.to_owned(),
            };
            locks.into_iter().map(|(path, text)| Surveyed::of(name(&path), Some(text))).collect()
        }
    }
}

/// The name of a package that no one asked for: a repository is asked for its locks.
fn anonymous() -> PackageName {
    "survey".parse().unwrap_or_else(|_| unreachable!("it is a name"))
}
