//! Reads a person's settings, which have values of the same kinds as a manifest.

use toml_edit::{Document, Item};

use super::Reader;
use super::values::span;
use crate::fault::Fault;
use crate::manifest::settings::{MAX_CONCURRENCY, Settings, UseColor};
use crate::manifest::syntax;

const KEYS: [&str; 5] = ["registries", "color", "store", "concurrency", "offline"];

/// Reads settings; on failure all faults that were found.
pub fn read_settings(text: &str) -> Result<Settings, Vec<Fault>> {
    let document = Document::parse(text).map_err(|error| vec![syntax::fault(text, &error)])?;
    let mut reader = Reader::default();
    let top = document.as_table();
    reader.only_known(top, "the settings file", &KEYS);
    let settings = Settings {
        registries: reader.each(top, "registries", Reader::registry),
        color: top.get("color").and_then(|item| {
            reader.one_of(item, "color", "settings.value", "value of `color`", &UseColor::WORDS)
        }),
        store: top.get("store").and_then(|item| reader.text(item, "store")),
        concurrency: top.get("concurrency").and_then(|item| reader.concurrency(item)),
        offline: top.get("offline").map(|item| reader.flag(item, "offline")),
    };
    if reader.faults.is_empty() { Ok(settings) } else { Err(reader.faults) }
}

impl Reader<'_> {
    fn concurrency(&mut self, item: &Item) -> Option<usize> {
        let number = item.as_integer().and_then(|number| usize::try_from(number).ok());
        let number = number.filter(|number| (1..=MAX_CONCURRENCY).contains(number));
        if number.is_none() {
            let message = format!("`concurrency` has to be a number from 1 to {MAX_CONCURRENCY}");
            self.faults.push(Fault::new("settings.value", message, span(item)));
        }
        number
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_are_read_and_what_is_wrong_is_named() {
        let text = "color = \"never\"\nstore = \"/srv/store\"\nconcurrency = 4\noffline = true\n\
                    [registries]\nseedhouse = \"https://seedhouse.example\"\n";
        let settings = read_settings(text).unwrap();
        assert_eq!(settings.names(), KEYS);
        assert_eq!((settings.color, settings.concurrency), (Some(UseColor::Never), Some(4)));
        assert_eq!(settings.registries[0].url, "https://seedhouse.example");
        let rows = [
            ("colour = \"never\"", "manifest.unknown-key"),
            ("color = \"sometimes\"", "settings.value"),
            ("concurrency = 0", "settings.value"),
            ("concurrency = \"4\"", "settings.value"),
            ("offline = 1", "manifest.wrong-kind"),
            ("[registries]\nseedhouse = 1", "manifest.wrong-kind"),
            ("[registries", "manifest.syntax"),
        ];
        for (text, code) in rows {
            assert_eq!(read_settings(text).unwrap_err()[0].code, code, "{text}");
        }
    }
}
