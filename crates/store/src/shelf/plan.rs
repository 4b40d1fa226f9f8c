//! What has to be done to bring a shelf to what a lock says: worked out before anything is touched.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, NotForMachine, Slot};
use bibliotax_core::name::PackageName;

use super::Scope;
use super::state::{ShelvedPackage, State};

/// The way from what is on a shelf to what a lock says.
#[derive(Debug)]
pub struct Plan<'l> {
    /// The places to build, instead of what may be there.
    pub build: Vec<Slot<'l>>,
    /// The places of things on the shelf that don't belong there.
    pub remove: Vec<String>,
    /// What stays as it is.
    pub kept: State,
    /// What will be on the shelf at the end.
    pub reached: State,
    /// How many places in scope stay as they are.
    pub staying: usize,
}

impl<'l> Plan<'l> {
    /// The plan from `state` and the places in `contents` to what `lock` says of a part of the shelf; packages in
    /// `anew` are built whatever the state says.
    pub fn new(
        lock: &'l Lock,
        scope: &Scope<'_>,
        state: &State,
        contents: &BTreeSet<String>,
        anew: &BTreeSet<PackageName>,
    ) -> Result<Self, NotForMachine> {
        let slots = lock.slots(scope.targets, scope.machine)?;
        let slots: Vec<(String, Slot<'l>)> = slots.into_iter().map(|slot| (slot.path(), slot)).collect();
        let belongs: BTreeSet<&String> = slots.iter().map(|(path, _)| path).collect();
        let in_scope = |path: &&String| scope.covers(path);
        let others =
            || state.packages.iter().filter(|(path, _)| !scope.covers(path) && contents.contains(*path));
        let others = || others().map(|(path, shelved)| (path.clone(), shelved.clone()));
        let stays = |(path, slot): &&(String, Slot<'_>)| {
            let is_known = state.packages.get(path) == Some(&on_shelf(slot));
            is_known && contents.contains(path) && !anew.contains(&slot.package.name)
        };
        let staying: BTreeMap<String, ShelvedPackage> =
            slots.iter().filter(stays).map(|(path, slot)| (path.clone(), on_shelf(slot))).collect();
        let remove =
            contents.iter().filter(in_scope).filter(|path| !belongs.contains(path)).cloned().collect();
        let reached =
            slots.iter().map(|(path, slot)| (path.clone(), on_shelf(slot))).chain(others()).collect();
        let is_building = |(path, _): &(String, Slot<'_>)| !staying.contains_key(path);
        let (number, kept) = (staying.len(), staying.clone().into_iter().chain(others()).collect());
        Ok(Self {
            remove,
            kept: State::new(None, kept),
            reached: State::new(scope.reached_by(lock, state), reached),
            staying: number,
            build: slots.into_iter().filter(is_building).map(|(_, slot)| slot).collect(),
        })
    }

    /// Whether nothing has to be done.
    pub fn is_nothing(&self, state: &State) -> bool {
        self.build.is_empty() && self.remove.is_empty() && *state == self.reached
    }
}

impl Scope<'_> {
    /// Whether a place on the shelf is looked at.
    fn covers(&self, path: &str) -> bool {
        let target = path.split_once('/').map(|(target, _)| target);
        self.targets.is_empty() || target.is_some_and(|target| self.targets.iter().any(|one| one == target))
    }

    /// The lock that all of a shelf is brought to: none where only part of it is, unless the rest was there before.
    fn reached_by(&self, lock: &Lock, state: &State) -> Option<Digest> {
        let digest = Some(lock.digest());
        if self.targets.is_empty() { digest } else { state.lock.filter(|_| state.lock == digest) }
    }
}

fn on_shelf(slot: &Slot<'_>) -> ShelvedPackage {
    let archives = slot.files.iter().map(|file| file.sha256).collect();
    ShelvedPackage { version: slot.package.version.clone(), archives }
}

#[cfg(test)]
mod tests {
    use bibliotax_core::facet::{Fits, Target};
    use serde_json::json;

    use super::*;

    fn digest(text: &str) -> Digest {
        Digest::of(text.as_bytes())
    }

    fn lock(packages: &[&str], targets: &[&str]) -> Lock {
        let package = |name: &&str| {
            let natives = |arch: &str| {
                json!({ "part": "natives", "for": { "arch": arch }, "sha256": digest(arch), "size": 1, "format": "tar",
                    "targets": targets.iter().filter(|target| target.ends_with(arch)).collect::<Vec<_>>() })
            };
            let main = json!({ "sha256": digest(name), "size": 1, "format": "tar" });
            let files = if name.ends_with("bare") {
                json!([])
            } else if name.ends_with("natives") {
                json!([main, natives("aarch64"), natives("x86_64")])
            } else {
                json!([main])
            };
            let reached = json!([{ "by": "fernhollow/gate-kiosk", "purposes": ["run"], "targets": targets }]);
            let package = json!({ "name": name, "version": "1", "source": "seedhouse", "files": files,
                "card": digest("card"), "reached": reached });
            serde_json::from_value(package).unwrap()
        };
        let packages = packages.iter().map(package).collect();
        Lock { inputs: digest(""), registries: BTreeMap::new(), packages }
    }

    fn names(set: &[&str]) -> BTreeSet<String> {
        set.iter().map(|name| (*name).to_owned()).collect()
    }

    fn machine(arch: &str) -> Target {
        let values: Fits = serde_json::from_value(json!({ "os": "linux", "arch": arch })).unwrap();
        Target { name: "this machine".into(), values, is_promise: false }
    }

    fn plan<'l>(lock: &'l Lock, state: &State, contents: &[&str], targets: &[&str]) -> Plan<'l> {
        let targets: Vec<String> = targets.iter().map(|target| (*target).to_owned()).collect();
        let scope = Scope { targets: &targets, machine: &machine("x86_64") };
        Plan::new(lock, &scope, state, &names(contents), &BTreeSet::new()).unwrap()
    }

    #[test]
    fn builds_what_is_not_known_to_be_there_and_removes_what_does_not_belong() {
        let lock = lock(&["a/x", "b", "bare", "c"], &[]);
        let fresh = plan(&lock, &State::default(), &[], &[]);
        assert_eq!(fresh.build.len(), 3, "a package without files has no place on a shelf");
        let state = fresh.reached.clone();
        let contents = ["a.x", "b", "c"];
        assert!(plan(&lock, &state, &contents, &[]).is_nothing(&state));
        let gone = plan(&lock, &state, &["a.x", "c", "stray"], &[]);
        assert_eq!((gone.build[0].path().as_str(), gone.remove), ("b", vec!["stray".to_owned()]));
        let scope = Scope { targets: &[], machine: &machine("x86_64") };
        let anew =
            Plan::new(&lock, &scope, &state, &names(&contents), &["c".parse().unwrap()].into()).unwrap();
        assert_eq!((anew.build[0].path().as_str(), anew.staying), ("c", 2));
    }

    #[test]
    fn each_target_has_its_place_and_takes_its_own_files() {
        let lock = lock(&["b", "moss-natives"], &["hand-aarch64", "kiosk-x86_64"]);
        let all = plan(&lock, &State::default(), &["b"], &[]);
        let built: Vec<(String, usize)> =
            all.build.iter().map(|slot| (slot.path(), slot.files.len())).collect();
        let expected = [
            ("hand-aarch64/b", 1),
            ("kiosk-x86_64/b", 1),
            ("hand-aarch64/moss-natives", 2),
            ("kiosk-x86_64/moss-natives", 2),
        ];
        assert_eq!(built, expected.map(|(path, files)| (path.to_owned(), files)));
        assert_eq!(all.remove, ["b"], "what lay there before targets were declared");
        assert_ne!(all.build[2].files[1].sha256, all.build[3].files[1].sha256);
    }

    #[test]
    fn a_part_of_the_shelf_leaves_the_rest_as_it_is() {
        let lock = lock(&["b"], &["hand-aarch64", "kiosk-x86_64"]);
        let one = plan(&lock, &State::default(), &["kiosk-x86_64/stray"], &["hand-aarch64"]);
        assert_eq!((one.build.len(), one.remove.len(), one.reached.lock), (1, 0, None));
        let then = plan(&lock, &one.reached, &["hand-aarch64/b"], &[]);
        assert_eq!((then.build[0].path().as_str(), then.staying), ("kiosk-x86_64/b", 1));
        let again = plan(&lock, &then.reached, &["hand-aarch64/b", "kiosk-x86_64/b"], &["hand-aarch64"]);
        assert!(again.is_nothing(&then.reached));
    }

    #[test]
    fn a_project_without_targets_takes_what_is_for_the_machine_or_says_what_there_is() {
        let lock = lock(&["moss-natives"], &[]);
        let here = plan(&lock, &State::default(), &[], &[]);
        assert_eq!(here.build[0].files[1].sha256, digest("x86_64"));
        let elsewhere = Scope { targets: &[], machine: &machine("riscv64") };
        let refused =
            Plan::new(&lock, &elsewhere, &State::default(), &names(&[]), &BTreeSet::new()).unwrap_err();
        assert_eq!((refused.part.as_str(), refused.there_are.len()), ("natives", 2));
    }
}
