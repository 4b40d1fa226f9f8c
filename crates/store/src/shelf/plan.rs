//! What has to be done to bring a shelf to what a lock says.

use std::collections::{BTreeMap, BTreeSet};

use bibliotax_core::digest::Digest;
use bibliotax_core::lock::{Lock, NotForMachine, Scope, Slot};
use bibliotax_core::name::PackageName;
use bibliotax_disk::stamp::Stamp;

use super::links::LINKS;
use super::package_check::PackageContents;
use super::state::{InputsDigest, ShelvedPackage, State};
use super::{DesiredState, NAME};
use crate::error::StoreError;
use crate::file_check::FileCheck;

/// What is on a shelf, by its place.
pub type Contents = BTreeMap<String, Found>;

/// What was found at a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    /// A folder, as it was noted, as far as it was looked at.
    AsNoted,
    /// A folder that was changed since, or of which nothing is known.
    Changed,
    /// Something else.
    NoFolder,
}

/// The way from what is on a shelf to what a lock says.
#[derive(Debug)]
pub struct Plan<'l> {
    /// The places to build, instead of what may be there.
    pub build: Vec<Slot<'l>>,
    /// The places of things of ours on the shelf that don't belong there any more.
    pub remove: Vec<String>,
    /// What stays as it is.
    pub kept: State,
    /// The lock that all of the shelf will be brought to.
    pub lock: Option<Digest>,
    /// How many places in scope stay as they are.
    pub staying: usize,
    /// The places to build that had other contents before, which something may have been made from: all files there get the time of
    /// now, so that build tools make that again.
    pub renewed: BTreeSet<String>,
    /// The places that are built again because somebody changed what is there, or took it away.
    pub touched: Vec<String>,
}

/// Why a shelf can't be brought to what a lock says.
#[derive(Debug)]
pub enum PlanProblem {
    /// A package has nothing for this machine.
    NotForMachine(NotForMachine),
    /// Something stands where a package is to go, or where nothing belongs, and wasn't made by us.
    Foreign(String),
}

impl From<NotForMachine> for PlanProblem {
    fn from(problem: NotForMachine) -> Self {
        Self::NotForMachine(problem)
    }
}

impl From<PlanProblem> for StoreError {
    fn from(problem: PlanProblem) -> Self {
        match problem {
            PlanProblem::NotForMachine(problem) => Self::NotForMachine(problem),
            PlanProblem::Foreign(place) => Self::Foreign { place: format!("{NAME}/{place}") },
        }
    }
}

impl<'l> Plan<'l> {
    /// The plan from `state` and `contents` to what `aim` says.
    pub fn new(aim: &DesiredState<'l, '_>, state: &State, contents: &Contents) -> Result<Self, PlanProblem> {
        let scope = &aim.scope;
        let slots = aim.lock.slots(scope)?;
        let slots: Vec<(String, Slot<'l>)> = slots.into_iter().map(|slot| (slot.path(), slot)).collect();
        let belongs: BTreeSet<&String> = slots.iter().map(|(path, _)| path).collect();
        let elsewhere = paths_elsewhere(aim.lock, scope, &belongs)?;
        let is_elsewhere = |path: &String| !covers(scope, path) || elsewhere.contains(path);
        let is_as_noted =
            |path: &String| is_as_noted_there(contents, path) && state.link == aim.settings.link;
        let others = state.packages.iter().filter(|(path, _)| is_elsewhere(path) && is_as_noted(path));
        let others: Vec<_> = others.map(|(path, shelved)| (path.clone(), shelved.clone())).collect();
        let is_known =
            |path: &String, slot: &Slot<'_>| state.packages.get(path) == Some(&ShelvedPackage::of(slot));
        let stays = |(path, slot): &(String, Slot<'_>)| {
            let is_known = is_known(path, slot);
            // A package may have names that its target's system can't have any more.
            let was_tolerant = slot.target.is_some_and(|target| state.tolerant.contains(target));
            let is_tolerant = slot.target.is_some_and(|target| aim.tolerant.contains(target));
            let may_stay = (is_tolerant || !was_tolerant)
                && aim.depth != FileCheck::Bytes
                && !aim.rebuilt.contains(&slot.package.name);
            is_known && is_as_noted(path) && may_stay
        };
        let (staying, build): (Vec<_>, Vec<_>) = slots.iter().partition(|slot| stays(slot));
        let shelved = |(path, slot): &&(String, Slot<'_>)| (path.clone(), ShelvedPackage::of(slot));
        let packages: BTreeMap<String, ShelvedPackage> = staying.iter().map(shelved).chain(others).collect();
        let is_of_kept = |(path, _): &(&String, &PackageContents)| packages.contains_key(*path);
        let inside = state.inside.iter().filter(is_of_kept);
        let inside = inside.map(|(path, inside)| (path.clone(), inside.clone())).collect();
        let touched =
            build.iter().filter(|(path, slot)| is_known(path, slot) && !is_as_noted_there(contents, path));
        let touched = touched.map(|(path, _)| path.clone()).collect();
        let is_same = |(path, slot): &&&(String, Slot<'_>)| {
            is_known(path, slot)
                && is_as_noted_there(contents, path)
                && !aim.rebuilt.contains(&slot.package.name)
        };
        let renewed = build.iter().filter(|slot| state.has_had(&slot.0) && !is_same(slot));
        let renewed = renewed.map(|(path, _)| path.clone()).collect();
        if let Some(foreign) = contents.keys().find(|path| !is_elsewhere(path) && !state.has_made(path)) {
            return Err(PlanProblem::Foreign(foreign.clone()));
        }
        let in_scope = contents.keys().filter(|path| !is_elsewhere(path));
        let remove = in_scope.filter(|path| !belongs.contains(path)).cloned().collect();
        let staying = staying.len();
        let build = build.into_iter().map(|(_, slot)| slot.clone()).collect();
        let is_there = |place: &String| contents.contains_key(place) || is_link(place);
        let claimed = state.all_places().filter(|place| !packages.contains_key(place) && is_there(place));
        let claimed = claimed.collect();
        let has_stand_ins = aim.lock.packages.iter().any(|package| package.stood_in);
        let link = aim.settings.link;
        let has_rules = aim.has_rules;
        let once = state.all_once();
        let kept = State {
            link,
            has_stand_ins,
            has_rules,
            inside,
            packages,
            claimed,
            once,
            tolerant: aim.tolerant.clone(),
            ..State::default()
        };
        Ok(Self { build, remove, kept, lock: reached_by(scope, aim.lock, state), staying, renewed, touched })
    }

    /// Whether no package has to be touched.
    pub fn is_nothing(&self) -> bool {
        self.build.is_empty() && self.remove.is_empty()
    }

    /// The places of all that will be on the shelf.
    pub fn places(&self) -> BTreeSet<String> {
        let built = self.build.iter().map(Slot::path);
        self.kept.packages.keys().cloned().chain(built).collect()
    }

    /// What is known of the shelf while the plan is carried out, with what else is about to be made.
    pub fn begun(&self, more: impl IntoIterator<Item = String>) -> State {
        let mut state = self.kept.clone();
        state.claimed.extend(self.build.iter().map(Slot::path).chain(more));
        state
    }

    /// What is on the shelf once all is done, with the stamps of links and what is inside the packages that were built.
    pub fn reached(
        &self,
        made: InputsDigest,
        stamps: BTreeMap<String, Stamp>,
        inside: BTreeMap<String, PackageContents>,
    ) -> State {
        let built = self.build.iter().map(|slot| (slot.path(), ShelvedPackage::of(slot)));
        let mut state = self.kept.clone();
        state.packages.extend(built);
        state.stamps.extend(stamps);
        state.inside.extend(inside);
        let State { claimed, once, packages, stamps, .. } = &mut state;
        once.retain(|place| !packages.contains_key(place));
        claimed.retain(|place| {
            let is_known = packages.contains_key(place) || stamps.contains_key(place);
            !is_known && !is_link(place) && !self.remove.contains(place)
        });
        State { lock: self.lock, made: self.lock.map(|_| made), ..state }
    }
}

/// Whether a folder is at a place as it was noted.
fn is_as_noted_there(contents: &Contents, path: &str) -> bool {
    contents.get(path) == Some(&Found::AsNoted)
}

/// Whether a place on the shelf is of a file of links.
fn is_link(place: &str) -> bool {
    place.split_once('/').is_some_and(|(folder, _)| folder == LINKS)
}

/// Whether a place on the shelf is of a target in scope.
fn covers(scope: &Scope<'_>, path: &str) -> bool {
    scope.targets.is_empty() || path.split_once('/').is_some_and(|(target, _)| scope.has_target(target))
}

/// The places of packages that are for targets in scope, and only needed by projects that are not in it.
fn paths_elsewhere(
    lock: &Lock,
    scope: &Scope<'_>,
    belongs: &BTreeSet<&String>,
) -> Result<BTreeSet<String>, NotForMachine> {
    let others = lock.projects.iter().map(|project| project.name.clone());
    let others: Vec<PackageName> = others.filter(|name| !scope.projects.contains(name)).collect();
    if scope.projects.is_empty() || others.is_empty() {
        return Ok(BTreeSet::new());
    }
    let paths = lock.slots(&Scope { projects: &others, without: &[], ..*scope })?;
    Ok(paths.iter().map(Slot::path).filter(|path| !belongs.contains(path)).collect())
}

/// The lock that all of a shelf is brought to: none where only part of it is, unless the rest was there before and stays.
fn reached_by(scope: &Scope<'_>, lock: &Lock, state: &State) -> Option<Digest> {
    let digest = Some(lock.digest());
    match scope {
        scope if scope.is_all() => digest,
        Scope { without: [], .. } => state.lock.filter(|_| state.lock == digest),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use bibliotax_core::facet::{Fits, Target};
    use bibliotax_core::links::LinkSettings;
    use bibliotax_core::manifest::{LinkWay, ShelfSettings};
    use bibliotax_core::name::TargetName;
    use serde_json::json;

    use super::super::{PackageCheck, Templates};
    use super::*;

    fn digest(text: &str) -> Digest {
        Digest::of(text.as_bytes())
    }

    fn lock_of(packages: &[&str], targets: &[&str]) -> Lock {
        let package = |name: &&str| {
            let natives = |arch: &str| {
                json!({ "part": "natives", "for": { "arch": arch }, "sha256": digest(arch), "size": 1, "format": "tar",
                    "targets": targets.iter().filter(|target| target.ends_with(&arch.replace('_', "-"))).collect::<Vec<_>>() })
            };
            let main = json!({ "sha256": digest(name), "size": 1, "format": "tar" });
            let files = if name.ends_with("bare") {
                json!([])
            } else if name.ends_with("natives") {
                json!([main, natives("aarch64"), natives("x86_64")])
            } else {
                json!([main])
            };
            let package = json!({ "name": name, "version": "1", "source": "seedhouse", "files": files,
                "card": digest("card"), "targets": targets });
            serde_json::from_value(package).unwrap()
        };
        let needs: Vec<_> = packages.iter().map(|name| json!({ "name": name })).collect();
        let kiosk =
            json!({ "name": "fernhollow/gate-kiosk", "path": ".", "targets": targets, "needs": needs });
        let projects = vec![serde_json::from_value(kiosk).unwrap()];
        let packages = packages.iter().map(package).collect();
        Lock { made_from: digest(""), registries: BTreeMap::new(), charters: Vec::new(), projects, packages }
    }

    fn machine(arch: &str) -> Target {
        let values: Fits = serde_json::from_value(json!({ "os": "linux", "arch": arch })).unwrap();
        Target { name: "this machine".into(), values, is_promise: false }
    }

    /// Folders at these places, all as they were noted.
    fn folders(places: &[&str]) -> Contents {
        places.iter().map(|place| ((*place).to_owned(), Found::AsNoted)).collect()
    }

    fn made() -> InputsDigest {
        InputsDigest::from_texts([])
    }

    /// The state that a plan leads to.
    fn reached(plan: &Plan<'_>) -> State {
        let inside = plan.build.iter().map(|slot| (slot.path(), PackageContents::default())).collect();
        plan.reached(made(), BTreeMap::new(), inside)
    }

    #[derive(Default)]
    struct Other<'a> {
        rebuilt: BTreeSet<PackageName>,
        arch: Option<&'a str>,
        link: LinkWay,
    }

    fn plan_for<'l>(
        lock: &'l Lock,
        state: &State,
        contents: &Contents,
        targets: &[&str],
        other: &Other<'_>,
    ) -> Result<Plan<'l>, PlanProblem> {
        let targets: Vec<TargetName> = targets.iter().map(|target| target.parse().unwrap()).collect();
        let machine = machine(other.arch.unwrap_or("x86_64"));
        let scope = Scope { targets: &targets, ..Scope::all(&machine) };
        let settings = ShelfSettings { link: other.link, absolute: false };
        let aim = DesiredState {
            lock,
            scope,
            settings,
            templates: Templates::NONE,
            rebuilt: &other.rebuilt,
            tolerant: &BTreeSet::new(),
            parts: &BTreeMap::new(),
            links: &LinkSettings::default(),
            has_rules: false,
            depth: FileCheck::SizeAndTime,
            look: PackageCheck::Folders,
            made: made(),
        };
        Plan::new(&aim, state, contents)
    }

    fn plan<'l>(lock: &'l Lock, state: &State, contents: &[&str], targets: &[&str]) -> Plan<'l> {
        plan_for(lock, state, &folders(contents), targets, &Other::default()).unwrap()
    }

    #[test]
    fn builds_what_is_not_known_to_be_there_and_removes_what_does_not_belong() {
        let lock = lock_of(&["a/x", "b", "bare", "c"], &[]);
        let fresh = plan(&lock, &State::default(), &[], &[]);
        assert_eq!(fresh.build.len(), 3, "a package without files has no place on a shelf");
        let state = reached(&fresh);
        let places = ["a.x", "b", "c"];
        let again = plan(&lock, &state, &places, &[]);
        assert!(again.is_nothing());
        assert_eq!(again.reached(made(), BTreeMap::new(), BTreeMap::new()), state);
        let fewer = lock_of(&["a/x", "b"], &[]);
        let gone = plan(&fewer, &state, &["a.x", "c"], &[]);
        assert_eq!((gone.build[0].path().as_str(), &gone.remove), ("b", &vec!["c".to_owned()]));
        let begun: Vec<String> = gone.begun([]).claimed.into_iter().collect();
        assert_eq!(begun, ["b", "c"], "a run that is killed leaves nothing that the next one doesn't know");
        assert!(reached(&gone).claimed.is_empty());
        let c = Other { rebuilt: ["c".parse().unwrap()].into(), ..Other::default() };
        let rebuilt = plan_for(&lock, &state, &folders(&places), &[], &c).unwrap();
        assert_eq!((rebuilt.build[0].path().as_str(), rebuilt.staying), ("c", 2));
    }

    #[test]
    fn what_was_not_made_by_us_is_neither_replaced_nor_removed() {
        let lock = lock_of(&["b", "c"], &["hand-aarch64"]);
        let state = reached(&plan(&lock, &State::default(), &[], &[]));
        for (state, place) in [
            (&State::default(), "hand-aarch64/b"),
            (&state, "hand-aarch64/stray"),
            (&state, "stray"),
            (&State::default(), "b"),
        ] {
            let refused = plan_for(&lock, state, &folders(&[place]), &[], &Other::default()).unwrap_err();
            assert!(matches!(refused, PlanProblem::Foreign(found) if found == place), "{place}");
        }
    }

    #[test]
    fn what_was_touched_since_or_put_there_otherwise_is_built_again() {
        let lock = lock_of(&["b", "c"], &[]);
        let state = reached(&plan(&lock, &State::default(), &[], &[]));
        let mut contents = folders(&["b", "c"]);
        contents.insert("b".into(), Found::Changed);
        assert_eq!(plan_for(&lock, &state, &contents, &[], &Other::default()).unwrap().build[0].path(), "b");
        contents.insert("b".into(), Found::NoFolder);
        assert_eq!(plan_for(&lock, &state, &contents, &[], &Other::default()).unwrap().build[0].path(), "b");
        let copied = Other { link: LinkWay::Copy, ..Other::default() };
        let all = plan_for(&lock, &state, &folders(&["b", "c"]), &[], &copied).unwrap();
        assert_eq!((all.build.len(), all.kept.link), (2, LinkWay::Copy));
    }

    #[test]
    fn each_target_has_its_place_and_takes_its_own_files() {
        let lock = lock_of(&["b", "moss-natives"], &["hand-aarch64", "kiosk-x86-64"]);
        let before = reached(&plan(&lock_of(&["b"], &[]), &State::default(), &[], &[]));
        let all = plan(&lock, &before, &["b"], &[]);
        let built: Vec<(String, usize)> =
            all.build.iter().map(|slot| (slot.path(), slot.files.len())).collect();
        let expected = [
            ("hand-aarch64/b", 1),
            ("kiosk-x86-64/b", 1),
            ("hand-aarch64/moss-natives", 2),
            ("kiosk-x86-64/moss-natives", 2),
        ];
        assert_eq!(built, expected.map(|(path, files)| (path.to_owned(), files)));
        assert_eq!(all.remove, ["b"], "what lay there before targets were declared");
        assert_ne!(all.build[2].files[1].sha256, all.build[3].files[1].sha256);
    }

    #[test]
    fn a_part_of_the_shelf_leaves_the_rest_as_it_is() {
        let lock = lock_of(&["b"], &["hand-aarch64", "kiosk-x86-64"]);
        let one = plan(&lock, &State::default(), &["kiosk-x86-64/stray"], &["hand-aarch64"]);
        let state = reached(&one);
        assert_eq!((one.build.len(), one.remove.len()), (1, 0));
        assert_eq!((state.lock, state.made), (None, None), "not all of it is what the lock says");
        let then = plan(&lock, &state, &["hand-aarch64/b"], &[]);
        assert_eq!((then.build[0].path().as_str(), then.staying), ("kiosk-x86-64/b", 1));
        let state = reached(&then);
        let again = plan(&lock, &state, &["hand-aarch64/b", "kiosk-x86-64/b"], &["hand-aarch64"]);
        assert!(again.is_nothing());
        assert_eq!(again.reached(made(), BTreeMap::new(), BTreeMap::new()), state);
    }

    #[test]
    fn a_project_without_targets_takes_what_is_for_the_machine_or_says_what_there_is() {
        let lock = lock_of(&["moss-natives"], &[]);
        let here = plan(&lock, &State::default(), &[], &[]);
        assert_eq!(here.build[0].files[1].sha256, digest("x86_64"));
        let elsewhere = Other { arch: Some("riscv64"), ..Other::default() };
        let refused = plan_for(&lock, &State::default(), &folders(&[]), &[], &elsewhere).unwrap_err();
        let PlanProblem::NotForMachine(refused) = refused else { panic!("{refused:?}") };
        assert_eq!((refused.part.as_str(), refused.there_are.len()), ("natives", 2));
    }
}
