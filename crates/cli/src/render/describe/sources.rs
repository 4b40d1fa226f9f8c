//! All sources of a package, compared.

use bibliotax_core::version::Version;
use bibliotax_present::dates::date;
use bibliotax_registry::catalogue::all_sources::{At, Newest, newest_of_all};

use crate::ui::{Ui, clean, style, styled};

/// Lists the places; nothing where there is just the one that the package is taken from.
pub fn show(ui: &Ui, places: &[At]) {
    if places.len() < 2 {
        return;
    }
    let newest = newest_of_all(places);
    ui.answer(format!("\n{}", styled(style::STRONG, "sources")));
    ui.answer(ui.table(places.iter().map(|at| row(at, newest))));
}

fn row(at: &At, newest_of_all: Option<&Version>) -> Vec<String> {
    let (version, date, mut words) = match &at.newest {
        Ok(Newest { version, published }) => {
            let date = published.map(date).unwrap_or_default();
            let words = match newest_of_all.filter(|newest| *newest > version) {
                Some(newest) => {
                    styled(style::WARNING, format!("not the newest: another source has {newest}"))
                }
                None => "newest".to_owned(),
            };
            (version.to_string(), date, words)
        }
        Err(why) => (String::new(), String::new(), styled(style::WARNING, clean(why))),
    };
    if at.is_taken {
        words += ", taken from here";
    }
    vec![format!(" {}", clean(&at.place)), version, date, words]
}
