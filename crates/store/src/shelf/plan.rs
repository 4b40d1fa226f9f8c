//! What has to be done to bring a shelf to what a lock says: worked out before anything is touched.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::card::{FileRecord, main_part};
use bibliotax_core::lock::{Lock, LockedPackage};
use bibliotax_core::name::PackageName;

use super::state::{ShelvedPackage, State};

/// The way from what is on a shelf to what a lock says.
#[derive(Debug)]
pub struct Plan<'l> {
    /// The packages to build, in place of what may be there.
    pub build: Vec<&'l LockedPackage>,
    /// The names of things on the shelf that don't belong there.
    pub remove: Vec<String>,
    /// How many packages stay as they are.
    pub kept: State,
    /// What will be on the shelf at the end.
    pub reached: State,
}

/// The archives of a package that are installed: those of its main part.
pub fn installed_files(package: &LockedPackage) -> impl Iterator<Item = &FileRecord> {
    let main = main_part();
    package.files.iter().filter(move |file| file.part == main)
}

impl<'l> Plan<'l> {
    /// The plan from `state` and the names in `contents` to `lock`; packages in `anew` are built whatever
    /// the state says.
    pub fn new(
        lock: &'l Lock,
        state: &State,
        contents: &BTreeSet<String>,
        anew: &BTreeSet<PackageName>,
    ) -> Self {
        let shelved: Vec<&LockedPackage> =
            lock.packages.iter().filter(|package| installed_files(package).next().is_some()).collect();
        let stays = |package: &&&LockedPackage| {
            let is_known = state.packages.get(&package.name) == Some(&on_shelf(package));
            is_known && contents.contains(&package.name.folder()) && !anew.contains(&package.name)
        };
        let kept: BTreeMap<PackageName, ShelvedPackage> =
            shelved.iter().filter(stays).map(|package| (package.name.clone(), on_shelf(package))).collect();
        let build = shelved.iter().copied().filter(|package| !kept.contains_key(&package.name)).collect();
        let belongs: BTreeSet<String> = shelved.iter().map(|package| package.name.folder()).collect();
        let reached = shelved.iter().map(|package| (package.name.clone(), on_shelf(package))).collect();
        Self {
            build,
            remove: contents.difference(&belongs).cloned().collect(),
            kept: State::new(None, kept),
            reached: State::new(Some(lock.digest()), reached),
        }
    }

    /// Whether nothing has to be done.
    pub fn is_nothing(&self, state: &State) -> bool {
        self.build.is_empty() && self.remove.is_empty() && *state == self.reached
    }
}

fn on_shelf(package: &LockedPackage) -> ShelvedPackage {
    let archives = installed_files(package).map(|file| file.sha256).collect();
    ShelvedPackage { version: package.version.clone(), archives }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lock(packages: &[&str]) -> Lock {
        let package = |name: &&str| {
            let files = serde_json::json!([
                { "sha256": bibliotax_core::digest::Digest::of(name.as_bytes()), "size": 1, "format": "tar" },
                { "part": "docs", "sha256": bibliotax_core::digest::Digest::of(b"docs"), "size": 1, "format": "tar" },
            ]);
            let files = if name.ends_with("bare") { serde_json::json!([]) } else { files };
            let package = serde_json::json!({ "name": name, "version": "1", "source": "seedhouse", "files": files,
                "card": bibliotax_core::digest::Digest::of(b"card"), "reached": [] });
            serde_json::from_value(package).unwrap()
        };
        let inputs = bibliotax_core::digest::Digest::of(b"");
        Lock { inputs, registries: BTreeMap::new(), packages: packages.iter().map(package).collect() }
    }

    fn names(set: &[&str]) -> BTreeSet<String> {
        set.iter().map(|name| (*name).to_owned()).collect()
    }

    #[test]
    fn builds_what_is_not_known_to_be_there_and_removes_what_does_not_belong() {
        let lock = lock(&["a/x", "b", "bare", "c"]);
        let fresh = Plan::new(&lock, &State::default(), &names(&[]), &BTreeSet::new());
        assert_eq!(fresh.build.len(), 3, "a package without files has no place on a shelf");
        let state = fresh.reached.clone();
        let contents = names(&["a.x", "b", "c"]);
        assert!(Plan::new(&lock, &state, &contents, &BTreeSet::new()).is_nothing(&state));
        let gone = Plan::new(&lock, &state, &names(&["a.x", "c", "stray"]), &BTreeSet::new());
        assert_eq!((gone.build[0].name.as_str(), gone.remove), ("b", vec!["stray".to_owned()]));
        let anew = Plan::new(&lock, &state, &contents, &["c".parse().unwrap()].into());
        assert_eq!((anew.build[0].name.as_str(), anew.kept.packages.len()), ("c", 2));
    }
}
