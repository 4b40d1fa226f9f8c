//! Whether a new release has another licence than the one before, by the texts in their archives.

use std::collections::BTreeMap;
use std::path::PathBuf;

use bibliotax_archive::error::ArchiveError;
use bibliotax_archive::inspect::texts_of;
use bibliotax_core::card::Card;
use bibliotax_core::license::License;

use crate::license_text::{MAX_TEXT, identify, may_be_license};

/// That the licence isn't what it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LicenseChange {
    /// What the card of the release before says.
    pub from: Option<License>,
    /// The licences that the text of the new release may be, by their identifiers; none where it is like none that is known.
    pub to: Vec<String>,
}

impl LicenseChange {
    /// The licence of the new release, where there is no doubt: the card said what the text was, and the new text is of one licence.
    fn sure(&self, text_was: &[String]) -> Option<License> {
        let said = self.from.as_ref().map(ToString::to_string);
        let [id] = self.to.as_slice() else { return None };
        said.filter(|said| text_was.contains(said)).and_then(|_| id.parse().ok())
    }
}

/// Texts of licences by the paths of their files.
type Texts = BTreeMap<String, String>;

/// How the licence changed from one release to the next; the new one, where there is no doubt.
pub fn license_change(
    (old, old_archives): (&Card, &[PathBuf]),
    (new, new_archives): (&Card, &[PathBuf]),
) -> Result<Option<(LicenseChange, Option<License>)>, ArchiveError> {
    let [before, after] = [texts(old, old_archives)?, texts(new, new_archives)?];
    if before == after {
        return Ok(None);
    }
    // Comparing with all known texts is slow, so only what differs is compared.
    let [was, is] = [ids(&before), ids(&after)];
    if was == is {
        return Ok(None);
    }
    let change = LicenseChange { from: old.license.clone(), to: is };
    let sure = change.sure(&was);
    Ok(Some((change, sure)))
}

fn texts(card: &Card, archives: &[PathBuf]) -> Result<Texts, ArchiveError> {
    let mut found = Texts::new();
    for (file, archive) in card.files.iter().zip(archives) {
        let is_license = |path: &str| {
            file.path_inside(path).is_some_and(|path| !path.contains('/') && may_be_license(path))
        };
        let texts = texts_of(archive, file.format, &is_license, MAX_TEXT)?;
        found.extend(
            texts.into_iter().filter_map(|(path, text)| Some((file.path_inside(&path)?.to_owned(), text))),
        );
    }
    Ok(found)
}

/// The identifiers of the licence that the best known of these texts is.
fn ids(texts: &Texts) -> Vec<String> {
    let found = texts.values().filter_map(|text| identify(text));
    found.max_by_key(|found| found.percent).map(|found| found.ids).unwrap_or_default()
}
