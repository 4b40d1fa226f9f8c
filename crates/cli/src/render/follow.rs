//! What `registry follow` shows.

use bibliotax_app::registry::follow::{Followed, LicenseChange, NewRelease, Report, Request, State};
use bibliotax_core::version::Version;
use bibliotax_present::dates::dated;
use bibliotax_present::table::Table;
use bibliotax_present::words::{count, size};
use bibliotax_registry::publish::file_changes::FileChanges;
use jiff::Timestamp;

use crate::json::follow::FollowedRegistry;
use crate::ui::{Ui, clean, style, styled};

/// Shows what upstreams have, and what became of it.
pub fn show(ui: &Ui, report: &Report, request: &Request, now: Timestamp) {
    let rows: Vec<Vec<String>> = report.packages.iter().flat_map(|one| rows(one, now)).collect();
    if !rows.is_empty() {
        let head = ["", "has", "new", "released", "size", ""].map(|text| styled(style::FAINT, text));
        let head: Vec<&str> = head.iter().map(String::as_str).collect();
        ui.answer(ui.lines_of(&Table::of(rows).headed(&head)));
    }
    ui.answer(summary(report));
    say_next(ui, report, request);
    ui.report(|| FollowedRegistry::of(report, request.applies));
}

/// The rows of a package: one for each new release, with more below for what there is to say of it.
fn rows(followed: &Followed, now: Timestamp) -> Vec<Vec<String>> {
    let has = followed.has.as_ref().map(Version::to_string).unwrap_or_default();
    let found = match &followed.found {
        Ok(found) => found,
        Err(why) => {
            let why = styled(style::BAD, clean(&why.message));
            return vec![row([&followed.name.to_string(), &has, "", "", "", &why])];
        }
    };
    let mut rows = Vec::new();
    for (number, new) in found.new.iter().enumerate() {
        let (name, has) = match number {
            0 => (followed.name.to_string(), has.clone()),
            _ => Default::default(),
        };
        let released = new.at.map(|at| dated(at, now)).unwrap_or_default();
        let archive = if new.size > 0 { size(new.size) } else { String::new() };
        let mut about = about(new).into_iter();
        let first = about.next().unwrap_or_default();
        rows.push(row([&name, &has, &shown_version(new), &released, &archive, &first]));
        rows.extend(about.map(|text| row(["", "", "", "", "", &text])));
    }
    if !found.more.is_empty() {
        let older: Vec<&str> = found.more.iter().map(Version::as_str).collect();
        let text = format!("left out, being older: {}", clean(&older.join(", ")));
        rows.push(row(["", "", "", "", "", &text]));
    }
    rows
}

fn row(cells: [&str; 6]) -> Vec<String> {
    let [name, rest @ ..] = cells;
    [format!(" {name}")].into_iter().chain(rest.map(str::to_owned)).collect()
}

/// The version, with upstream's own text of it where that is another.
fn shown_version(new: &NewRelease) -> String {
    let version = new.version.to_string();
    let shown = if new.text == version { version } else { format!("{version} ({})", clean(&new.text)) };
    match new.state {
        State::Held(_) => styled(style::WARNING, &shown),
        State::Ready | State::Added => styled(style::GOOD, &shown),
    }
}

/// What there is to say of a new release, line by line.
fn about(new: &NewRelease) -> Vec<String> {
    let mut lines = Vec::new();
    match &new.state {
        State::Held(why) => lines.push(styled(style::WARNING, format!("held back: {}", clean(why)))),
        State::Added => lines.push("added".to_owned()),
        State::Ready => {}
    }
    if let (Some(LicenseChange { from, to }), State::Ready | State::Added) = (&new.license, &new.state) {
        let from = from.as_ref().map_or("none".to_owned(), ToString::to_string);
        lines.push(styled(style::WARNING, format!("licence: {from}, now {}", to.join(" or "))));
    }
    lines.extend(new.roles.iter().map(|(role, changes)| format!("{role}: {}", in_words(changes))));
    match &new.files {
        Some(files) if files.is_empty() => lines.push("the files are the same".to_owned()),
        Some(files) if new.roles.is_empty() => lines.push(format!("files: {}", in_words(files))),
        _ => {}
    }
    lines
}

fn in_words(changes: &FileChanges) -> String {
    let kinds = [(&changes.added, "new"), (&changes.gone, "gone"), (&changes.changed, "changed")];
    let there = kinds.into_iter().filter(|(paths, _)| !paths.is_empty());
    let texts: Vec<String> = there
        .map(|(paths, word)| match &paths[..] {
            [only] => format!("{} {word}", clean(only)),
            [first, rest @ ..] => format!("{} and {} more {word}", clean(first), rest.len()),
            [] => String::new(),
        })
        .collect();
    texts.join(", ")
}

fn summary(report: &Report) -> String {
    let new = report.releases().count();
    let asked = count(report.packages.len(), "package");
    let failed = report.packages.iter().filter(|one| one.found.is_err()).count();
    let failed = if failed > 0 { format!(", {failed} couldn't be looked at") } else { String::new() };
    match (report.packages.len(), new) {
        (0, _) => "no package says in its card where releases appear (`follow`)".to_owned(),
        (_, 0) => format!("no new releases of {asked}{failed}"),
        (_, some) => format!("{} of {asked}{}{failed}", count(some, "new release"), by_state(report)),
    }
}

/// How many releases were added, and how many a person has to look at.
fn by_state(report: &Report) -> String {
    let states = || report.releases().map(|(_, new)| &new.state);
    let added = states().filter(|state| **state == State::Added).count();
    let held = states().filter(|state| matches!(state, State::Held(_))).count();
    let counts = [(added, "added"), (held, "held back")].into_iter().filter(|(number, _)| *number > 0);
    let texts: Vec<String> = counts.map(|(number, word)| format!("{number} {word}")).collect();
    if texts.is_empty() { String::new() } else { format!(" ({})", texts.join(", ")) }
}

fn say_next(ui: &Ui, report: &Report, request: &Request) {
    if let Some(path) = &request.cards {
        let (cards, path) = (count(report.written, "card"), path.display());
        ui.say(format!(
            "wrote {cards} to {path}; `bibliotax registry load {} {path}` adds them",
            request.place
        ));
    }
    let is = |state: fn(&State) -> bool| report.releases().any(|(_, new)| state(&new.state));
    if is(|state| *state == State::Ready) {
        ui.say(format!("next: `bibliotax registry follow {} --apply` adds what is ready", request.place));
    }
    let has_other_license = |(_, new): (_, &NewRelease)| {
        matches!(new.state, State::Held(_))
            && new.license.as_ref().is_some_and(|change| !change.to.is_empty())
    };
    if !request.accepts_licenses && report.releases().any(has_other_license) {
        ui.say("`--apply --accept-licenses` also adds those whose licence is known to be another");
    }
    if request.cards.is_none() && is(|state| matches!(state, State::Held(_))) {
        ui.say("`--cards FILE` writes the cards that were held back, to be corrected and loaded");
    }
}
