//! What findings of a check advise, as edits of manifests: so far as a manifest says it, and a command doesn't.

use bibliotax_core::manifest::Need;
use bibliotax_core::name::{PackageName, RegistryName};
use bibliotax_core::range::Range;
use bibliotax_core::rules::{Rule, day_of};
use bibliotax_core::workspace::Project;
use jiff::civil::Date;
use jiff::{Timestamp, ToSpan};

use crate::check::{DriftingNeed, Finding, Place, Subject};
use crate::failure::Failure;
use crate::resolving::ways_out::as_edits::EditedWay;
use crate::workspace::{ManifestEdits, WorkspaceFolder};

/// How many days a waiver holds that is added without anybody saying how long.
const WAIVER_DAYS: i32 = 90;

/// The edits that a finding advises, the best first.
pub fn as_edits(
    finding: &Finding,
    workspace: &WorkspaceFolder,
    now: Timestamp,
) -> Result<Vec<EditedWay>, Failure> {
    let Some(package) = &finding.package else { return Ok(Vec::new()) };
    let advised = Advised { package, workspace };
    match (&finding.subject, finding.code) {
        (Subject::Charter { .. }, "charter.own-range") => advised.charter_range(&finding.place),
        (Subject::Charter { charter, .. }, "charter.exception-unused" | "charter.strays") => {
            advised.no_exception(&charter.name)
        }
        (Subject::StandIn { .. } | Subject::Rule { rule: Rule::StandIns, .. }, _) => advised.no_stand_in(),
        (Subject::Drift { common: Some(range), needs }, _) => advised.shared(range, needs),
        (Subject::SharedName { others }, _) => advised.registry_choices(others),
        // Whether an advisory affects a product takes more than a date to say.
        (Subject::Rule { rule, .. }, _) if finding.is_forbidden && *rule != Rule::Advisories => {
            advised.waiver(*rule, now)
        }
        _ => Ok(Vec::new()),
    }
}

/// A package that something is advised about.
struct Advised<'a> {
    package: &'a PackageName,
    workspace: &'a WorkspaceFolder,
}

impl Advised<'_> {
    /// One way, with what is done to manifests.
    fn way(
        &self,
        title: String,
        edit: impl FnOnce(&mut ManifestEdits<'_>) -> Result<(), Failure>,
    ) -> Result<Vec<EditedWay>, Failure> {
        let mut texts = ManifestEdits::of(self.workspace);
        edit(&mut texts)?;
        Ok(vec![EditedWay { title, edits: texts.edits() }])
    }

    /// The needs of the package, each with its project.
    fn needs(&self) -> impl Iterator<Item = (&Project, &Need)> {
        self.workspace.declared.needs().filter(|(_, need)| need.package == *self.package)
    }

    fn charter_range(&self, place: &Place) -> Result<Vec<EditedWay>, Failure> {
        let Place::Manifest(folder, Some(span)) = place else { return Ok(Vec::new()) };
        let of = self.needs().find(|(project, need)| project.folder == *folder && need.span == *span);
        let Some((_, need)) = of else { return Ok(Vec::new()) };
        self.way(format!("use the charter's range of {}", self.package), |texts| {
            texts.open(folder)?.set_need_chartered(need.purpose.as_ref(), self.package);
            Ok(())
        })
    }

    fn no_exception(&self, charter: &PackageName) -> Result<Vec<EditedWay>, Failure> {
        let declared = self.workspace.declared.declared_charter(charter);
        if declared.is_none_or(|declared| declared.exception(self.package).is_none()) {
            return Ok(Vec::new());
        }
        self.way(format!("remove the exception of {} from {charter}", self.package), |texts| {
            texts.open("")?.remove_exception(charter, self.package);
            Ok(())
        })
    }

    fn no_stand_in(&self) -> Result<Vec<EditedWay>, Failure> {
        self.way(format!("remove the stand-in for {}", self.package), |texts| {
            texts.open("")?.remove_stand_in(self.package);
            Ok(())
        })
    }

    fn shared(&self, range: &Range, needs: &[DriftingNeed]) -> Result<Vec<EditedWay>, Failure> {
        self.way(format!("share the range {range} of {} in the workspace", self.package), |texts| {
            let own = needs.iter().filter(|need| !need.is_shared);
            texts.share(self.package, range, own.map(|need| (need.folder.as_str(), need.purpose.as_ref())))
        })
    }

    /// The package from one registry: the one that is locked first.
    fn registry_choices(&self, others: &[RegistryName]) -> Result<Vec<EditedWay>, Failure> {
        let locked = self.workspace.locked_package(self.package);
        let locked = locked.as_ref().and_then(|package| package.source.registry().cloned());
        let mut ways = Vec::new();
        for registry in locked.iter().chain(others) {
            ways.extend(self.way(format!("take {} from {registry}", self.package), |texts| {
                for (project, need) in self.needs() {
                    texts.open(&project.folder)?.take_from(need.purpose.as_ref(), self.package, registry);
                }
                Ok(())
            })?);
        }
        Ok(ways)
    }

    fn waiver(&self, rule: Rule, now: Timestamp) -> Result<Vec<EditedWay>, Failure> {
        let Ok(until): Result<Date, _> = day_of(now).checked_add(WAIVER_DAYS.days()) else {
            return Ok(Vec::new());
        };
        self.way(format!("add a waiver of `{}` for {} until {until}", rule.as_str(), self.package), |texts| {
            texts.open("")?.add_waiver(rule.as_str(), self.package, until);
            Ok(())
        })
    }
}
