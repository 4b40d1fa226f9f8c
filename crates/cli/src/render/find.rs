//! What `find` shows.

use bibliotax_app::find::Report;
use bibliotax_core::name::RegistryName;
use bibliotax_present::words::count;
use bibliotax_registry::search::{FitWord, Hit, ReadAs};

use crate::ui::{Ui, clean, style, styled};

/// Last page that can be asked for.
const LAST_PAGE: u8 = 10;

/// Shows what was found in registries that were named, or in all, on a page from 1.
pub fn show(ui: &Ui, report: &Report, page: u8, registries: &[String]) {
    super::warnings(ui, &report.warnings);
    let words = clean(&report.query.words);
    for ReadAs { word, instead } in &report.read_as {
        ui.say(format!(
            "no match for `{}`; showing results for {}",
            clean(word),
            clean(&instead.join(" or "))
        ));
    }
    if report.hits.is_empty() {
        ui.answer(match page {
            1 => format!("no package has `{words}` in its name, tags or summary"),
            page => format!("page {page} of the results for `{words}` is empty"),
        });
        return;
    }
    if report.is_loose {
        ui.say("no package has all of these words; these have some of them");
    }
    ui.answer(ui.table(report.hits.iter().map(|(registry, hit)| row(report, registry, hit))));
    let has_next = report.has_more && page < LAST_PAGE;
    let next = if has_next { format!("`--page {}` shows more; ", page + 1) } else { String::new() };
    let registries = registries.iter().map(|registry| format!(" --registry {registry}")).collect::<String>();
    ui.say(format!("{next}details: `bibliotax describe {}{}`", report.hits[0].1.name, clean(&registries)));
}

fn row(report: &Report, registry: &RegistryName, hit: &Hit) -> Vec<String> {
    let mut row = vec![format!(" {}", styled(style::STRONG, &hit.name)), version(hit)];
    row.extend((report.answers > 1).then(|| registry.to_string()));
    if report.hits.iter().any(|(_, hit)| hit.uses > 0) {
        row.push(if hit.uses > 0 { format!("used by {}", hit.uses) } else { String::new() });
    }
    row.push(summary(hit));
    row
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
    let unsure = if hit.fits.contains(&FitWord::NotDeclared) { " fit not declared" } else { "" };
    match (&hit.newest_fitting, &hit.newest) {
        (Some(fitting), Some(newest)) if fitting != newest => format!("{fitting}{unsure}, newest {newest}"),
        (Some(fitting), _) => {
            let upstream = hit.upstream_version.as_ref().map(|text| format!(" ({})", clean(text.as_str())));
            format!("{fitting}{}{unsure}", upstream.unwrap_or_default())
        }
        (None, Some(newest)) => styled(style::BAD, format!("none fits, newest {newest}")),
        (None, None) if hit.providers > 0 => "capability".to_owned(),
        (None, None) => styled(style::BAD, "withdrawn"),
    }
}
