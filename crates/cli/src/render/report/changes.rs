//! What changed since an earlier lock.

use std::collections::BTreeMap;

use bibliotax_app::compare::Report;
use bibliotax_present::{changes, charters};
use serde::Serialize;

use super::package_id;
use crate::render::compare::{cells, project_lines, review, sizes};

/// The difference to an earlier lock.
#[derive(Serialize)]
pub struct Changes {
    since: String,
    /// `2 added, 1 raised; archives 3.1 KiB`; that nothing differs.
    sum: String,
    /// What a reviewer looks at first.
    first: Vec<String>,
    rows: Vec<ChangeRow>,
    /// What changed in releases, as their cards say.
    notes: Vec<String>,
}

/// A package that differs.
#[derive(Serialize)]
struct ChangeRow {
    kind: String,
    /// Its place in the page; nothing where it is gone.
    href: String,
    package: String,
    version: String,
    size: String,
    /// The size to sort by, in bytes.
    bytes: u64,
    license: String,
    more: String,
}

impl Changes {
    /// The difference of two locks, of which the words name the first.
    pub fn of(since: &str, compared: &Report) -> Self {
        let (found, projects) = (compared.changes(), compared.projects());
        let mut first = project_lines(&projects);
        first.extend(
            charters::changed(&compared.charters()).into_iter().map(|line| format!("charter: {line}")),
        );
        first.extend(review::lines(&found, compared));
        let sum = if found.is_empty() && first.is_empty() {
            "nothing differs".to_owned()
        } else if found.is_empty() {
            "no package differs".to_owned()
        } else {
            format!("{}; archives {}", changes::tally(&found), with_arrow(&sizes(compared)))
        };
        let rows = found.iter().map(|change| {
            let [kind, package, version, size, license, more] =
                cells(change, &BTreeMap::new()).map(|cell| with_arrow(&cell));
            let is_there = compared.new.package(&change.package().name).is_some();
            let href =
                if is_there { format!("#{}", package_id(&change.package().name)) } else { String::new() };
            let bytes = change.package().size();
            ChangeRow { kind, href, package, version, size, bytes, license, more }
        });
        Self {
            since: since.to_owned(),
            sum,
            first: first.iter().map(|line| with_arrow(line)).collect(),
            rows: rows.collect(),
            notes: review::notes(compared),
        }
    }
}

/// A text with arrows as letters.
fn with_arrow(text: &str) -> String {
    text.replace(" -> ", " → ")
}
