//! Steps as work: where each step of a lock's packages has to be done, and whether it was.
//!
//! People tick off what they did; a [`Tick`] holds for a step as it read then. A step that reads otherwise in another release
//! is open again, and one that is for updates is open again after each.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::card::{Step, StepPer, StepWhen};
use crate::digest::Digest;
use crate::lock::{Lock, LockedPackage, LockedStep};
use crate::manifest::Device;
use crate::name::{DeviceName, PackageName, StepName, TargetName};
use crate::version::Version;

/// The format of ticks.
const FORMAT: u64 = 1;

/// What stands between the parts of a tick's name; no name has it.
const BETWEEN: char = '+';

/// Where a step has to be done.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// Once, in the project.
    Project,
    /// For a target.
    Target(TargetName),
    /// On a device.
    Device(DeviceName),
    /// On each device of a target, none of which is known by name yet; of the project where it has no targets.
    EachDevice(Option<TargetName>),
}

impl Place {
    /// The target that it belongs to, of these devices if it is one.
    pub fn target<'p>(&'p self, devices: &'p [Device]) -> Option<&'p str> {
        match self {
            Self::Project => None,
            Self::Target(target) => Some(target.as_str()),
            Self::Device(name) => {
                devices.iter().find(|device| device.name == *name).map(|device| device.target.as_str())
            }
            Self::EachDevice(target) => target.as_ref().map(TargetName::as_str),
        }
    }
}

/// That a step was done at a place.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tick {
    format: u64,
    /// The version of the package then.
    pub version: Version,
    /// The digest of the step as it read then.
    pub step: Digest,
}

/// What was ticked off, by the names of ticks.
pub type Ledger = BTreeMap<String, Tick>;

/// Whether a step is done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum StepStatus {
    /// It never was.
    New,
    /// It was, and reads otherwise now.
    Changed,
    /// It was, for another release, and is to be done after each update.
    Updated,
    /// It is.
    Done,
}

/// A step at a place.
#[derive(Debug, Clone)]
pub struct Todo<'l> {
    /// Its package.
    pub package: &'l LockedPackage,
    /// The step.
    pub step: &'l Step,
    /// Where it is to be done.
    pub place: Place,
    /// Whether it is.
    pub status: StepStatus,
}

impl Todo<'_> {
    /// The name of the tick for it; none where a device has to be named first.
    pub fn tick_name(&self) -> Option<String> {
        tick_name(&self.package.name, &self.step.id, &self.place)
    }

    /// The tick that says it is done.
    pub fn tick(&self) -> Tick {
        Tick { format: FORMAT, version: self.package.version.clone(), step: digest(self.step) }
    }

    /// The same at a device.
    pub fn at_device(&self, device: DeviceName) -> Self {
        Self { place: Place::Device(device), ..self.clone() }
    }

    /// Whether it is still to be done.
    pub fn is_open(&self) -> bool {
        self.status != StepStatus::Done
    }
}

/// The name of the tick for a step at a place; none where a device has to be named first.
fn tick_name(package: &PackageName, step: &StepName, place: &Place) -> Option<String> {
    let begun = in_project(package, step);
    match place {
        Place::Project => Some(begun),
        Place::Target(name) => Some(format!("{begun}{BETWEEN}{name}")),
        Place::Device(name) => Some(format!("{begun}{BETWEEN}{name}")),
        Place::EachDevice(_) => None,
    }
}

/// The name of the tick for a step in a project, with which those at its other places begin.
fn in_project(package: &PackageName, step: &StepName) -> String {
    format!("{}{BETWEEN}{step}", package.folder())
}

/// Everything that a lock's packages want done by hand, by package, step and place.
pub fn todos<'l>(lock: &'l Lock, devices: &[Device], ledger: &Ledger) -> Vec<Todo<'l>> {
    let steps =
        lock.packages.iter().flat_map(|package| package.steps.iter().map(move |step| (package, step)));
    let at_places = |(package, locked): (&'l LockedPackage, &'l LockedStep)| {
        let step = &locked.step;
        let mut places = places(package, locked, devices, ledger);
        places.sort();
        places.into_iter().map(move |place| {
            let tick = tick_name(&package.name, &step.id, &place).and_then(|name| ledger.get(&name));
            Todo { package, step, status: status(package, step, tick), place }
        })
    };
    steps.flat_map(at_places).collect()
}

fn status(package: &LockedPackage, step: &Step, tick: Option<&Tick>) -> StepStatus {
    match tick {
        None => StepStatus::New,
        Some(tick) if tick.step != digest(step) => StepStatus::Changed,
        Some(tick) if step.when == StepWhen::Update && tick.version != package.version => StepStatus::Updated,
        Some(_) => StepStatus::Done,
    }
}

fn places(package: &LockedPackage, locked: &LockedStep, devices: &[Device], ledger: &Ledger) -> Vec<Place> {
    let mut targets = package.targets.clone();
    targets.retain(|target| locked.targets.is_empty() || locked.targets.contains(target));
    match locked.step.per {
        StepPer::Target if !targets.is_empty() => targets.into_iter().map(Place::Target).collect(),
        StepPer::Project | StepPer::Target => vec![Place::Project],
        StepPer::Device => on_devices(package, &locked.step, &targets, devices, ledger),
    }
}

/// The devices that are declared for these targets and those that were ticked; where there are none, each there may be.
fn on_devices(
    package: &LockedPackage,
    step: &Step,
    targets: &[TargetName],
    devices: &[Device],
    ledger: &Ledger,
) -> Vec<Place> {
    let begun = in_project(&package.name, &step.id) + &BETWEEN.to_string();
    let is_declared = |name: &DeviceName| devices.iter().any(|device| device.name == *name);
    let ticked = ledger.keys().filter_map(|name| name.strip_prefix(&begun)?.parse().ok());
    let mut places: Vec<Place> = ticked.filter(|name| !is_declared(name)).map(Place::Device).collect();
    let is_any_ticked = !places.is_empty();
    for target in targets {
        let of_target = devices.iter().filter(|device| device.target == target.as_str());
        let of_target: Vec<Place> = of_target.map(|device| Place::Device(device.name.clone())).collect();
        if of_target.is_empty() && !is_any_ticked {
            places.push(Place::EachDevice(Some(target.clone())));
        }
        places.extend(of_target);
    }
    if targets.is_empty() && !is_any_ticked {
        places.push(Place::EachDevice(None));
    }
    places
}

/// What a step says, as a digest.
fn digest(step: &Step) -> Digest {
    // Texts and lists: nothing that could fail to be JSON.
    Digest::of(serde_json::to_string(step).unwrap_or_default().as_bytes())
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn lock(version: &str, text: &str, per: &str, when: &str) -> Lock {
        let step = json!({ "id": "calibrate", "text": text, "per": per, "when": when });
        let package = json!({ "name": "pergola/probe", "version": version, "source": "seedhouse", "card": "0".repeat(64),
            "steps": [{ "step": step }],
            "targets": ["hand-unit", "kiosk"] });
        let packages = vec![serde_json::from_value(package).unwrap()];
        let (charters, projects) = (Vec::new(), Vec::new());
        Lock { made_from: Digest::of(b""), registries: BTreeMap::new(), charters, projects, packages }
    }

    fn device(name: &str, target: &str) -> Device {
        Device { name: name.parse().unwrap(), target: target.into(), span: 0..0 }
    }

    /// Names of ticks with how they stand; a star where a device has to be named.
    fn shown(lock: &Lock, devices: &[Device], ledger: &Ledger) -> Vec<(String, StepStatus)> {
        let shown = |todo: Todo<'_>| (todo.tick_name().unwrap_or("*".into()), todo.status);
        todos(lock, devices, ledger).into_iter().map(shown).collect()
    }

    #[test]
    fn a_tick_holds_until_the_step_reads_otherwise_or_wants_to_be_done_again() {
        let (first, mut ledger) = (lock("1", "Hold it into fog.", "project", "install"), Ledger::new());
        let todo = &todos(&first, &[], &ledger)[0];
        let name = todo.tick_name().unwrap();
        assert_eq!((name.as_str(), todo.status), ("pergola.probe+calibrate", StepStatus::New));
        ledger.insert(name.clone(), todo.tick());
        for (version, text, when, status) in [
            ("1", "Hold it into fog.", "install", StepStatus::Done),
            ("2", "Hold it into fog.", "install", StepStatus::Done),
            ("2", "Hold it into rain.", "install", StepStatus::Changed),
            ("2", "Hold it into fog.", "update", StepStatus::Changed),
        ] {
            assert_eq!(shown(&lock(version, text, "project", when), &[], &ledger), [(name.clone(), status)]);
        }
        let often = lock("1", "Hold it into fog.", "project", "update");
        ledger.insert(name.clone(), todos(&often, &[], &ledger)[0].tick());
        let later = lock("2", "Hold it into fog.", "project", "update");
        assert_eq!(shown(&often, &[], &ledger)[0].1, StepStatus::Done);
        assert_eq!(shown(&later, &[], &ledger)[0].1, StepStatus::Updated);
    }

    #[test]
    fn a_step_is_for_each_target_or_each_device_that_is_known() {
        let none = Ledger::new();
        let names = |per: &str, devices: &[Device], ledger: &Ledger| -> Vec<String> {
            shown(&lock("1", "x", per, "install"), devices, ledger)
                .into_iter()
                .map(|(name, _)| name)
                .collect()
        };
        let named = |ends: &[&str]| {
            ends.iter().map(|end| format!("pergola.probe+calibrate+{end}")).collect::<Vec<_>>()
        };
        assert_eq!(names("target", &[], &none), named(&["hand-unit", "kiosk"]));
        assert_eq!(names("device", &[], &none), ["*", "*"], "one for each target");
        let declared =
            [device("hand-7", "hand-unit"), device("hand-3", "hand-unit"), device("gate-1", "kiosk")];
        assert_eq!(names("device", &declared, &none), named(&["gate-1", "hand-3", "hand-7"]));
        let some = lock("1", "x", "device", "install");
        let tick = todos(&some, &[], &none)[0].at_device("hand-9".parse().unwrap());
        let ledger = Ledger::from([(tick.tick_name().unwrap(), tick.tick())]);
        assert_eq!(names("device", &[], &ledger), named(&["hand-9"]), "one that nobody declared");
        assert_eq!(names("device", &declared[..1], &ledger), named(&["hand-7", "hand-9"]));
    }
}
