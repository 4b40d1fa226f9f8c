//! What a reviewer looks at first, as sentences; and release notes.

use bibliotax_app::compare::{KnownAdvisory, Report};
use bibliotax_core::compare::Change;
use bibliotax_core::lock::LockedPackage;
use bibliotax_core::review::{Concern, concerns};

use crate::ui::clean;

/// Most packages that are named in a sentence.
const MAX_NAMED: usize = 20;

/// What matters most of a difference, a line for each thing, the gravest first.
pub fn lines(found: &[Change<'_>], report: &Report) -> Vec<String> {
    let mut lines = Vec::new();
    let known = report.known.as_ref();
    for (what, advisories) in
        [("opens", known.map(|known| &known.opened)), ("closes", known.map(|known| &known.closed))]
    {
        let all: Vec<String> = advisories.into_iter().flatten().map(advisory).collect();
        lines.extend((!all.is_empty()).then(|| format!("{what} {}", listed(&all, "advisory", "advisories"))));
    }
    for (concern, changes) in concerns(found) {
        let all: Vec<String> = changes.iter().map(|change| clean(&about(concern, change))).collect();
        lines.push(format!("{}: {}", word(concern), named(&all)));
    }
    lines
}

fn listed(all: &[String], one: &str, many: &str) -> String {
    format!("{} {}: {}", all.len(), if all.len() == 1 { one } else { many }, named(all))
}

fn named(all: &[String]) -> String {
    let more = all.len().saturating_sub(MAX_NAMED);
    let shown = all.iter().take(MAX_NAMED).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{shown} and {more} more") } else { shown }
}

fn advisory(known: &KnownAdvisory) -> String {
    let KnownAdvisory { package, version, id, severity, summary } = known;
    format!("{} ({severity}) of {package} {version}: {}", clean(id), clean(summary))
}

fn word(concern: Concern) -> &'static str {
    match concern {
        Concern::OtherBytes => "other contents with the same version",
        Concern::MovedTag => "moved tags",
        Concern::OtherSource => "from elsewhere",
        Concern::OtherLicense => "other licence",
        Concern::New => "new",
        Concern::MajorStep => "steps that may break something",
        Concern::Lowered => "back to an older release",
        Concern::Gone => "gone",
    }
}

/// A change as far as the concern is about it.
fn about(concern: Concern, change: &Change<'_>) -> String {
    let name = &change.package().name;
    let license = |package: &LockedPackage| {
        package.license.as_ref().map_or("not declared".to_owned(), ToString::to_string)
    };
    let (Some(old), Some(new)) = (change.old, change.new) else {
        let package = change.package();
        return match concern {
            Concern::New => format!("{name} {} ({})", package.version, license(package)),
            _ => format!("{name} {}", package.version),
        };
    };
    let commit = |package: &LockedPackage| {
        package.source.git().map(|git| git.commit.short().to_owned()).unwrap_or_default()
    };
    let source = |package: &LockedPackage| {
        if package.stood_in { format!("{}, a stand-in", package.source) } else { package.source.to_string() }
    };
    match concern {
        Concern::OtherBytes | Concern::New | Concern::Gone => format!("{name} {}", new.version),
        Concern::MovedTag => format!("{name} {} ({} -> {})", new.version, commit(old), commit(new)),
        Concern::OtherSource => format!("{name} ({} -> {})", source(old), source(new)),
        Concern::OtherLicense => format!("{name} ({} -> {})", license(old), license(new)),
        Concern::MajorStep | Concern::Lowered => format!("{name} {} -> {}", old.version, new.version),
    }
}

/// Release notes between the versions, a line for each release.
pub fn notes(report: &Report) -> Vec<String> {
    let notes = report.known.iter().flat_map(|known| &known.notes);
    let lines = notes.flat_map(|(package, notes)| {
        notes.iter().map(move |(version, text)| format!("{package} {version}: {}", clean(text.trim())))
    });
    lines.collect()
}

/// The same as a list for a review.
pub fn notes_in_markdown(report: &Report, escaped: impl Fn(&str) -> String) -> Vec<String> {
    let notes = report.known.iter().flat_map(|known| &known.notes);
    let mut lines = Vec::new();
    for (package, notes) in notes {
        lines.push(format!("\n**{}**\n", escaped(package.as_str())));
        lines.extend(notes.iter().map(|(version, text)| {
            let text = clean(text.trim()).lines().map(str::trim).collect::<Vec<_>>().join(" ");
            format!("- {}: {}", escaped(&version.to_string()), escaped(&text))
        }));
    }
    lines
}
