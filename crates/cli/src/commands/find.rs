//! `find`: packages by words, in every registry at once.

use std::path::Path;

use bibliotax_core::name::RegistryName;
use bibliotax_registry::search::{FitWord, Found, Hit, Query, ReadAs};
use serde_json::{Value, json};

use crate::clock::now;
use crate::codes::Exit;
use crate::failure::Failure;
use crate::project::{Project, no_registry, registries_folder};
use crate::show::{count, table};
use crate::ui::{Ui, clean, style, styled};
use bibliotax_present::words;

/// Narrowest terminal that has room for columns.
const NARROW: usize = 76;

/// Find packages by words
///
/// Looks in names, tags and summaries of every registry that the manifest declares, and forgives slips. What fits the project's
/// targets comes first, with what many packages use and what is fresh. Without words it shows what is used most.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  bibliotax find rain ledger\n  bibliotax find frost --page 2")]
pub struct Find {
    /// The words
    #[arg(value_name = "WORD")]
    words: Vec<String>,
    /// Which page of what is found, from 1 to 10
    #[arg(long, value_name = "NUMBER", default_value_t = 1, value_parser = clap::value_parser!(u8).range(1..=10))]
    page: u8,
}

impl Find {
    pub fn run(&self, here: &Path, ui: &Ui) -> Result<Exit, Failure> {
        let project = Project::find(here)?;
        let registries = project.registries(&project.workspace)?;
        if registries.is_empty() {
            return Err(no_registry());
        }
        let places = project.workspace.places();
        let query = Query { words: self.words.join(" "), places, page: usize::from(self.page) - 1 };
        let mut all = All::default();
        let mut failed = None;
        for (registry, answer) in registries.find(&query, &registries_folder()?, now()) {
            match answer {
                Ok(found) => all.add(&registry, found),
                Err(error) => {
                    if let Some(earlier) = failed.replace(error) {
                        ui.warn(earlier.to_string());
                    }
                }
            }
        }
        match failed {
            Some(error) if all.answers == 0 => return Err(error.into()),
            Some(error) => ui.warn(error.to_string()),
            None => {}
        }
        registries.heeds().iter().for_each(|heed| ui.warn(heed));
        all.sort();
        self.show(ui, &all, &query);
        ui.report("find", || all.as_json(&query));
        Ok(Exit::Done)
    }

    fn show(&self, ui: &Ui, all: &All, query: &Query) {
        let words = clean(&query.words);
        for ReadAs { word, instead } in &all.read_as {
            ui.say(format!("nothing says `{}`; read as {}", clean(word), clean(&instead.join(" or "))));
        }
        if all.hits.is_empty() {
            ui.answer(match self.page {
                1 => format!("no package has `{words}` in its name, tags or summary"),
                page => format!("what is found for `{words}` ends before page {page}"),
            });
            return;
        }
        if all.is_loose {
            ui.say("no package has all of these words; these have some of them");
        }
        let rows = all.hits.iter().map(|(registry, hit)| all.row(registry, hit));
        if ui.terminal_width().is_some_and(|width| width < NARROW) {
            rows.for_each(|row| ui.answer(in_lines(&row)));
        } else {
            ui.answer(table(ui, rows));
        }
        let next = (all.more && self.page < 10).then(|| format!("`--page {}` shows more; ", self.page + 1));
        ui.say(format!(
            "{}`bibliotax describe {}` tells all of one",
            next.unwrap_or_default(),
            all.hits[0].1.name
        ));
    }
}

/// A row for a terminal that has no room for columns: the summary below the rest.
fn in_lines(row: &[String]) -> String {
    let (summary, rest) = row.split_last().map_or(("", row), |(summary, rest)| (summary.as_str(), rest));
    let rest: Vec<&str> = rest.iter().map(String::as_str).filter(|cell| !cell.is_empty()).collect();
    format!(" {}\n    {summary}", rest.join("  "))
}

/// What all registries found.
#[derive(Default)]
struct All {
    answers: usize,
    hits: Vec<(RegistryName, Hit)>,
    read_as: Vec<ReadAs>,
    more: bool,
    is_loose: bool,
}

impl All {
    fn add(&mut self, registry: &RegistryName, found: Found) {
        self.answers += 1;
        // What one registry has as it was written is better than what another has nearly so.
        let slips = (found.read_as.len(), found.is_loose);
        let slips_before = (self.read_as.len(), self.is_loose);
        if found.hits.is_empty() || !self.hits.is_empty() && slips > slips_before {
            return;
        }
        if self.hits.is_empty() || slips < slips_before {
            self.hits.clear();
            (self.read_as, self.is_loose, self.more) = (found.read_as, found.is_loose, false);
        }
        self.more |= found.more;
        self.hits.extend(found.hits.into_iter().map(|hit| (registry.clone(), hit)));
    }

    fn sort(&mut self) {
        self.hits.sort_by(|(_, one), (_, other)| {
            other.score.total_cmp(&one.score).then_with(|| one.name.cmp(&other.name))
        });
    }

    fn row(&self, registry: &RegistryName, hit: &Hit) -> Vec<String> {
        let mut row = vec![format!(" {}", styled(style::STRONG, &hit.name)), version(hit)];
        row.extend((self.answers > 1).then(|| registry.to_string()));
        if self.hits.iter().any(|(_, hit)| hit.uses > 0) {
            row.push(if hit.uses > 0 { format!("used by {}", hit.uses) } else { String::new() });
        }
        row.push(summary(hit));
        row
    }

    fn as_json(&self, query: &Query) -> Value {
        let hit = |(registry, hit): &(RegistryName, Hit)| {
            let mut value = json!(hit);
            value["registry"] = json!(registry);
            value
        };
        let is_alone = query.places.iter().filter(|place| place.is_promise).count() < 2;
        let places: Vec<String> =
            query.places.iter().map(|place| words::place_name(place, is_alone)).collect();
        json!({ "words": query.words, "places": places, "page": query.page + 1, "more": self.more,
            "read-as": self.read_as, "is-loose": self.is_loose,
            "hits": self.hits.iter().map(hit).collect::<Vec<_>>() })
    }
}

fn summary(hit: &Hit) -> String {
    if hit.providers > 0 {
        let verb = if hit.providers == 1 { "provides" } else { "provide" };
        return format!("{} {verb} it", count(hit.providers, "package"));
    }
    let deprecated = if hit.deprecated { styled(style::WARNING, "deprecated: ") } else { String::new() };
    deprecated + &clean(hit.summary.as_deref().unwrap_or_default())
}

/// The release that fits, and the newest one where that is another.
fn version(hit: &Hit) -> String {
    let unsure = if hit.fits.contains(&FitWord::NotStated) { " fit not stated" } else { "" };
    match (&hit.newest_fitting, &hit.newest) {
        (Some(fitting), Some(newest)) if fitting != newest => format!("{fitting}{unsure}, newest {newest}"),
        (Some(fitting), _) => format!("{fitting}{unsure}"),
        (None, Some(newest)) => styled(style::BAD, format!("none fits, newest {newest}")),
        (None, None) if hit.providers > 0 => "capability".to_owned(),
        (None, None) => styled(style::BAD, "withdrawn"),
    }
}
