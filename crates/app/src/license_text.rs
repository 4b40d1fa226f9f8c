//! Which licence a text is, by its similarity with the texts of SPDX's list.

pub mod in_packages;
pub mod known_texts;

use std::sync::LazyLock;

use bibliotax_bill::bill::TextKind;
use spdx::detection::Store;
use spdx::detection::scan::Scanner;

use self::in_packages::kind_of;

/// The least similarity at which a text is taken for a licence.
const LEAST: f32 = 0.85;

/// Longest text that is compared, in bytes.
pub const MAX_TEXT: u64 = 256 << 10;

/// The texts of SPDX's list.
static TEXTS: LazyLock<Option<Store>> = LazyLock::new(|| Store::load_inline().ok());

/// A licence that a text was taken for.
#[derive(Debug, Clone, PartialEq)]
pub struct Identified {
    /// Its identifiers in SPDX's list: several where the text is that of several licences, such as those of one version and of all later
    /// ones.
    pub ids: Vec<String>,
    /// How similar the texts are, in percent.
    pub percent: u8,
}

/// The licence that a text is, as far as it is like one of SPDX's list.
pub fn identify(text: &str) -> Option<Identified> {
    let texts = TEXTS.as_ref()?;
    let scanner = Scanner::new(texts).confidence_threshold(LEAST).optimize(true);
    let found = scanner.scan(&text.into());
    let percent = (found.score * 100.0).clamp(0.0, 100.0).round();
    #[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "it is between 0 and 100")]
    found.license.map(|license| Identified { ids: ids_of(license.name), percent: percent as u8 })
}

/// The identifiers of the licences that have a text, by one of them.
fn ids_of(name: &str) -> Vec<String> {
    let version =
        ["-only", "-or-later", "+"].iter().find_map(|ending| name.strip_suffix(ending)).unwrap_or(name);
    let both = ["only", "or-later"].map(|ending| format!("{version}-{ending}"));
    let is_known = |id: &String| spdx::license_id(id).is_some();
    if both.iter().all(is_known) { both.into() } else { vec![name.to_owned()] }
}

/// Whether a file may hold a licence, by its path.
pub fn may_be_license(path: &str) -> bool {
    matches!(kind_of(path), Some(TextKind::License | TextKind::Notice))
}

#[cfg(test)]
mod tests {
    use super::*;

    const MIT: &str = "MIT License\n\nCopyright (c) 2026 Fernhollow Botanical Garden\n\nPermission is hereby granted, free of charge, to any person obtaining a copy of this software and associated documentation files (the \"Software\"), to deal in the Software without restriction, including without limitation the rights to use, copy, modify, merge, publish, distribute, sublicense, and/or sell copies of the Software, and to permit persons to whom the Software is furnished to do so, subject to the following conditions:\n\nThe above copyright notice and this permission notice shall be included in all copies or substantial portions of the Software.\n\nTHE SOFTWARE IS PROVIDED \"AS IS\", WITHOUT WARRANTY OF ANY KIND, EXPRESS OR IMPLIED, INCLUDING BUT NOT LIMITED TO THE WARRANTIES OF MERCHANTABILITY, FITNESS FOR A PARTICULAR PURPOSE AND NONINFRINGEMENT. IN NO EVENT SHALL THE AUTHORS OR COPYRIGHT HOLDERS BE LIABLE FOR ANY CLAIM, DAMAGES OR OTHER LIABILITY, WHETHER IN AN ACTION OF CONTRACT, TORT OR OTHERWISE, ARISING FROM, OUT OF OR IN CONNECTION WITH THE SOFTWARE OR THE USE OR OTHER DEALINGS IN THE SOFTWARE.\n";

    #[test]
    fn a_text_is_known_and_another_one_is_not() {
        let found = identify(MIT).unwrap();
        assert_eq!(found.ids, ["MIT"]);
        assert_eq!(ids_of("GPL-2.0+"), ["GPL-2.0-only", "GPL-2.0-or-later"]);
        assert_eq!(ids_of("BSD-3-Clause"), ["BSD-3-Clause"]);
        assert!(found.percent > 90, "{found:?}");
        assert_eq!(identify("Water the moss twice a day, and never at noon.\n"), None);
        assert!(may_be_license("moss/LICENSE.txt") && may_be_license("COPYING") && !may_be_license("README"));
    }
}
