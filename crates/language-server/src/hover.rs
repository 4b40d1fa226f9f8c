//! What is known of a package, where the mouse rests on it.

use std::fmt::Write as _;

use bibliotax_core::escape::in_markdown;
use bibliotax_core::fitting::newest;
use bibliotax_core::name::PackageName;
use bibliotax_present::dates::date;
use bibliotax_present::words::{first_few, license_words};
use lsp_types::{Hover, HoverContents, MarkupContent, MarkupKind, Position};

use crate::documents::Document;
use crate::fits::fitting;
use crate::lookups::Knowledge;
use crate::scan::{Entry, Scan, scan};
use crate::schema::Allowed;
use crate::shared::Shared;

/// Most names that are listed.
const MAX_NAMED: usize = 5;

/// What is known of what stands at a position: of a package, or of a key.
pub fn hover(document: &Document, position: Position, shared: &Shared) -> Option<Hover> {
    let offset = document.lines.offset(&document.text, position);
    let found = scan(&document.text);
    let entry = found.entry_at(offset)?;
    let knowledge = shared.knowledge_of(&document.path);
    let package = package_of(&found, entry);
    let about = package.and_then(|(package, _)| about_package(&package, knowledge.as_deref()?, shared));
    let value = about.or_else(|| about_key(entry))?;
    let range = Some(document.lines.range(&document.text, &entry.key));
    Some(Hover {
        contents: HoverContents::Markup(MarkupContent { kind: MarkupKind::Markdown, value }),
        range,
    })
}

/// The package that an entry of a manifest needs, or shares a range of, with the entry that names it.
pub fn package_of<'s>(found: &'s Scan, entry: &'s Entry) -> Option<(PackageName, &'s Entry)> {
    let keys = entry.keys();
    let names = keys.get(..keys_to_name(&keys)?)?;
    let named = found.entries.iter().find(|other| other.keys() == names)?;
    Some((names.last()?.parse().ok()?, named))
}

/// The package that an entry itself names, and none for the entries below that one; reads no other entry, so it suits a loop over all.
pub fn package_named(entry: &Entry) -> Option<PackageName> {
    let keys = entry.keys();
    (keys_to_name(&keys)? == keys.len()).then(|| keys.last()?.parse().ok())?
}

/// How many keys lead to the name of a package.
fn keys_to_name(keys: &[&str]) -> Option<usize> {
    match keys {
        ["needs" | "shared" | "stand-ins", ..] => Some(2),
        ["needs-for", ..] | ["charter", "ranges", ..] => Some(3),
        _ => None,
    }
}

/// What a key is for.
fn about_key(entry: &Entry) -> Option<String> {
    let (_, table) = entry.path.split_last()?;
    let keys = Allowed::in_manifest(table).keys();
    let name = entry.keys().pop()?;
    let known = keys.iter().find(|key| key.key == name).filter(|key| !key.description.is_empty())?;
    Some(format!("`{name}`: {}", known.description))
}

/// What is known of a package, in Markdown; nothing where that is nothing.
pub fn about_package(package: &PackageName, knowledge: &Knowledge, shared: &Shared) -> Option<String> {
    let diagnosis = &knowledge.diagnosis;
    let listing = knowledge.listing(package)?;
    let workspace = &diagnosis.workspace;
    let locked = workspace.locked_package(package);
    let shown = locked
        .as_ref()
        .and_then(|one| listing.history.release(&one.version))
        .or(newest(listing.history.releases()))?;
    let card = knowledge.card(&listing, shown);
    let mut text = format!("**{package}** {}", shown.entry.version);
    let mut line = |part: Option<String>| {
        // Writing into a text can't fail.
        let _ = part.map(|part| write!(text, "\n\n{part}"));
    };
    line(card.as_ref().and_then(|card| card.summary.as_deref()).map(in_markdown));
    let license = license_words(shown.entry.license.as_ref());
    let published = shown.entry.dated().map(|at| format!(", published {}", date(at))).unwrap_or_default();
    line(Some(format!(
        "{}{published}, from {}",
        in_markdown(&license),
        in_markdown(&listing.source.to_string())
    )));
    line(fitting(shown, &knowledge.places(), &knowledge.facets()));
    if let (Some(locked), Ok(lock)) = (locked, workspace.needed_lock()) {
        let by: Vec<&str> = lock.needed_by(package).into_iter().map(PackageName::as_str).collect();
        let by = if by.is_empty() {
            String::new()
        } else {
            format!(", also needed by {}", first_few(&by, MAX_NAMED))
        };
        line(Some(format!("locked to {}{by}", locked.version)));
    } else {
        line(Some("not locked yet".to_owned()));
    }
    let news = shared.news_of(&workspace.root);
    if let Some(news) = news.get(package) {
        line(news.update.as_ref().map(|version| format!("an update leads to {version}")));
        let held = if news.held_by.is_empty() {
            String::new()
        } else {
            format!(", held back by {}", first_few(&news.held_by, MAX_NAMED))
        };
        line(news.beyond.as_ref().map(|version| format!("newest {version}{}", in_markdown(&held))));
        for (advisory, fixed) in &news.advisories {
            let fixed =
                fixed.as_ref().map_or("not fixed yet".to_owned(), |version| format!("fixed in {version}"));
            line(Some(format!("affected by {}: {fixed}", in_markdown(advisory))));
        }
    }
    line(
        card.and_then(|card| card.homepage)
            .filter(|url| url.starts_with("https://"))
            .map(|url| format!("<{}>", url.replace(['<', '>'], ""))),
    );
    Some(text)
}
