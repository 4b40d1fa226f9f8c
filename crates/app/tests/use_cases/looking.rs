//! `explain`, `newer`, `fit`, `check` and `verify`: reports that change nothing.

use std::fs;

use bibliotax_app::explain::{self, Answer};
use bibliotax_app::search_options::SearchOptions;
use bibliotax_app::workspace::{ProjectWords, WorkspaceFolder};
use bibliotax_app::{check, fit, install, newer, verify};

use crate::garden::Garden;

const RELEASES: [&str; 4] =
    ["rain-ledger 2.4.0: dew-point 1", "dew-point 1.4.0", "dew-point 2.0.0", "moss-map 1.0.0: dew-point 2"];

fn installed() -> Garden {
    let garden = Garden::new(&RELEASES, "rain-ledger = \"2\"");
    let context = garden.context();
    let install::Plan::Resolved(plan) = install::plan(&install::Request::default(), &context).unwrap() else {
        panic!("there is no lock yet");
    };
    plan.apply(&context).unwrap();
    garden
}

fn answer_of<'w>(workspace: &'w WorkspaceFolder, garden: &Garden, words: &[&str]) -> Answer<'w> {
    let words: Vec<String> = words.iter().map(ToString::to_string).collect();
    let request =
        explain::Request::new(&words, ProjectWords::default(), Vec::new(), SearchOptions::default()).unwrap();
    explain::report(workspace, &request, &garden.context()).unwrap().answer
}

#[test]
fn explain_tells_why_a_package_is_here_and_why_another_release_is_not() {
    let garden = installed();
    let workspace = WorkspaceFolder::find(garden.context().folder).unwrap();
    assert!(matches!(answer_of(&workspace, &garden, &["dew-point"]), Answer::Here(_)));
    let Answer::NotPossible(why) = answer_of(&workspace, &garden, &["dew-point", "2"]) else {
        panic!("rain-ledger needs dew-point 1");
    };
    assert!(!why.conflict.facts.is_empty());
    assert!(matches!(answer_of(&workspace, &garden, &["moss-map", "1"]), Answer::NotPossible(_)));
}

#[test]
fn newer_lists_what_has_newer_releases() {
    let garden = installed();
    let workspace = WorkspaceFolder::find(garden.context().folder).unwrap();
    let report = newer::report(&workspace, &newer::Request::default(), &garden.context()).unwrap();
    let names: Vec<&str> = report.packages.iter().map(|news| news.news.package.name.as_str()).collect();
    assert_eq!(names, ["dew-point"]);
}

#[test]
fn a_fit_without_anything_to_try_is_refused() {
    let garden = installed();
    let failure = fit::report(&fit::Request::default(), &garden.context()).err().unwrap();
    assert_eq!(failure.code, "fit.words");
}

#[test]
fn check_finds_a_lock_that_is_not_made_yet() {
    let garden = Garden::new(&RELEASES, "rain-ledger = \"2\"");
    let plan = check::plan(&check::Request::default(), &garden.context()).unwrap();
    assert!(matches!(&plan.report.findings[..], [check::Finding { code: "lock.missing", .. }]));
    let garden = installed();
    let plan = check::plan(&check::Request::default(), &garden.context()).unwrap();
    assert!(plan.report.findings.is_empty());
}

#[test]
fn verify_finds_a_file_that_was_removed_and_repairs_it() {
    let garden = installed();
    // A report holds the shelf for as long as it lives.
    assert!(verify::report(&verify::Request::default(), &garden.context()).unwrap().is_well());
    fs::remove_file(garden.path("gate/shelf/dew-point/dew-point.txt")).unwrap();
    let report = verify::report(&verify::Request::default(), &garden.context()).unwrap();
    assert!(!report.is_well());
    report.repair(&garden.context()).unwrap();
    assert_eq!(garden.shelf(), ["dew-point 1.4.0", "rain-ledger 2.4.0"]);
}
