//! Which expressions of SPDX a licence was probably meant as, written as people write licences elsewhere. None of them means something
//! else than what is written: where that can be read in several ways, there are several.

use crate::nearest::nearest;

/// Names that people use, in small letters without blanks and signs, with what they may mean.
const NAMES: [(&str, &[&str]); 35] = [
    ("bsd", &["BSD-2-Clause", "BSD-3-Clause"]),
    ("newbsd", &["BSD-3-Clause"]),
    ("modifiedbsd", &["BSD-3-Clause"]),
    ("simplifiedbsd", &["BSD-2-Clause"]),
    ("freebsd", &["BSD-2-Clause"]),
    ("bsd2", &["BSD-2-Clause"]),
    ("bsd3", &["BSD-3-Clause"]),
    ("2clausebsd", &["BSD-2-Clause"]),
    ("3clausebsd", &["BSD-3-Clause"]),
    ("apache", &["Apache-1.1", "Apache-2.0"]),
    ("apache2", &["Apache-2.0"]),
    ("apachev2", &["Apache-2.0"]),
    ("apache20", &["Apache-2.0"]),
    ("asl2", &["Apache-2.0"]),
    ("asl20", &["Apache-2.0"]),
    ("apachesoftware", &["Apache-1.1", "Apache-2.0"]),
    ("apachesoftware20", &["Apache-2.0"]),
    ("expat", &["MIT"]),
    ("x11", &["X11"]),
    ("mitx11", &["MIT", "X11"]),
    ("mpl", &["MPL-1.1", "MPL-2.0"]),
    ("mozilla", &["MPL-1.1", "MPL-2.0"]),
    ("mpl2", &["MPL-2.0"]),
    ("mplv2", &["MPL-2.0"]),
    ("boost", &["BSL-1.0"]),
    ("boostsoftware", &["BSL-1.0"]),
    ("bsl", &["BSL-1.0"]),
    ("cc0", &["CC0-1.0"]),
    ("python", &["PSF-2.0", "Python-2.0"]),
    ("psf", &["PSF-2.0"]),
    ("zlib", &["Zlib"]),
    ("zliblibpng", &["Zlib"]),
    ("epl", &["EPL-1.0", "EPL-2.0"]),
    ("artistic", &["Artistic-1.0", "Artistic-2.0"]),
    ("publicdomain", &["CC0-1.0", "Unlicense", "LicenseRef-public-domain"]),
];

/// The families of GNU's licences with the versions that they have.
const GNU: [(&str, &str, &[&str]); 4] = [
    ("agpl", "AGPL", &["3.0"]),
    ("lgpl", "LGPL", &["2.0", "2.1", "3.0"]),
    ("gfdl", "GFDL", &["1.1", "1.2", "1.3"]),
    ("gpl", "GPL", &["1.0", "2.0", "3.0"]),
];

/// Signs and words between alternatives, where a text is no expression.
const BETWEEN: [&str; 2] = ["/", "|"];

/// The expressions that a text may mean, the likeliest first; none where nothing is like it.
pub fn meant(text: &str) -> Vec<String> {
    let text = text.trim();
    let one = of_one(text);
    if !one.is_empty() {
        return one;
    }
    for between in BETWEEN {
        let parts: Vec<Vec<String>> = text.split(between).map(|part| of_one(part.trim())).collect();
        if parts.len() > 1 && parts.iter().all(|part| part.len() == 1) {
            return vec![parts.concat().join(" OR ")];
        }
    }
    // A comma says neither that one may choose nor that both hold.
    let parts: Vec<Vec<String>> = text.split(',').map(|part| of_one(part.trim())).collect();
    if parts.len() > 1 && parts.iter().all(|part| part.len() == 1) {
        let parts = parts.concat();
        return vec![parts.join(" OR "), parts.join(" AND ")];
    }
    Vec::new()
}

/// The expressions that the name of one licence may mean.
fn of_one(text: &str) -> Vec<String> {
    let known = spdx::identifiers::LICENSES.iter().find(|license| license.name.eq_ignore_ascii_case(text));
    if let Some(license) = known.filter(|license| spdx::Expression::parse(license.name).is_ok()) {
        return vec![license.name.to_owned()];
    }
    let lower = text.to_lowercase();
    if let Some(gnu) = of_gnu(&lower) {
        return gnu;
    }
    let plain = plain(&lower);
    if let Some((_, names)) = NAMES.iter().find(|(name, _)| *name == plain) {
        return names.iter().map(|name| (*name).to_owned()).collect();
    }
    let alike = spdx::identifiers::LICENSES
        .iter()
        .filter(|license| self::plain(&license.name.to_lowercase()) == plain);
    let mut alike = alike.filter(|license| spdx::Expression::parse(license.name).is_ok());
    if let Some(license) = alike.next().filter(|_| !plain.is_empty()) {
        return vec![license.name.to_owned()];
    }
    if text.is_empty() || text.contains([' ', '/', ',']) {
        return Vec::new();
    }
    nearest(text, spdx::identifiers::LICENSES.iter().map(|license| license.name), 2)
        .into_iter()
        .filter(|name| spdx::Expression::parse(name).is_ok())
        .map(str::to_owned)
        .collect()
}

/// Letters and digits alone, without words that every licence has.
fn plain(lower: &str) -> String {
    let words = lower.split(|c: char| !c.is_ascii_alphanumeric());
    words.filter(|word| !matches!(*word, "the" | "license" | "licence" | "version" | "clause" | "")).fold(
        String::new(),
        |mut all, word| {
            all += word;
            all
        },
    )
}

/// What a name of one of GNU's licences may mean: which version, and whether later ones, too.
fn of_gnu(lower: &str) -> Option<Vec<String>> {
    let text = lower.replace("gnu", "").replace("affero general public license", "agpl");
    let text = text.replace("lesser general public license", "lgpl").replace("general public license", "gpl");
    let text = text.trim();
    let (_, name, versions) = GNU.iter().find(|(start, ..)| text.starts_with(start))?;
    let rest = &text[name.len()..];
    let is_later = rest.contains('+') || rest.contains("later") || rest.contains("newer");
    let is_only = rest.contains("only");
    let digits: String = rest.chars().filter(|c| c.is_ascii_digit() || *c == '.').collect();
    let digits = digits.trim_matches('.');
    let chosen: Vec<&str> = versions
        .iter()
        .copied()
        .filter(|version| {
            digits.is_empty() || *version == digits || version.strip_suffix(".0") == Some(digits)
        })
        .collect();
    // What stands between is more than a version.
    let words = rest.split(|c: char| !c.is_ascii_alphabetic()).filter(|word| !word.is_empty());
    let is_plain = words.into_iter().all(|word| {
        matches!(
            word,
            "v" | "version"
                | "or"
                | "later"
                | "newer"
                | "only"
                | "any"
                | "license"
                | "licence"
                | "the"
                | "of"
        )
    });
    if chosen.is_empty() || !is_plain {
        return None;
    }
    let endings: &[&str] = match (is_later, is_only, digits.is_empty()) {
        (true, _, _) => &["or-later"],
        (_, true, _) | (false, false, false) => &["only"],
        (false, false, true) => &["only", "or-later"],
    };
    let all = chosen
        .iter()
        .flat_map(|version| endings.iter().map(move |ending| format!("{name}-{version}-{ending}")));
    Some(all.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hint_never_changes_what_is_meant() {
        for (text, expected) in [
            ("GPLv2+", &["GPL-2.0-or-later"][..]),
            ("GPL-2.0+", &["GPL-2.0-or-later"]),
            ("GPL 2.0 or later", &["GPL-2.0-or-later"]),
            ("GNU GPL v3", &["GPL-3.0-only"]),
            ("GPLv2", &["GPL-2.0-only"]),
            ("GPL-3.0-only", &["GPL-3.0-only"]),
            ("LGPL-2.1+", &["LGPL-2.1-or-later"]),
            ("AGPLv3", &["AGPL-3.0-only"]),
            ("BSD-3-clause", &["BSD-3-Clause"]),
            ("bsd 3-clause license", &["BSD-3-Clause"]),
            ("MIT/Apache-2.0", &["MIT OR Apache-2.0"]),
            ("MIT / Apache 2.0", &["MIT OR Apache-2.0"]),
            ("MIT, Apache-2.0", &["MIT OR Apache-2.0", "MIT AND Apache-2.0"]),
            ("BSD", &["BSD-2-Clause", "BSD-3-Clause"]),
            ("Apache 2", &["Apache-2.0"]),
            ("Apache License, Version 2.0", &["Apache-2.0"]),
            ("mit", &["MIT"]),
            ("Expat", &["MIT"]),
            ("MIT License", &["MIT"]),
            ("Our own words", &[]),
            ("", &[]),
        ] {
            assert_eq!(meant(text), expected, "{text}");
        }
        let gpl = ["1.0", "2.0", "3.0"]
            .into_iter()
            .flat_map(|version| ["only", "or-later"].map(|ending| format!("GPL-{version}-{ending}")));
        assert_eq!(meant("GPL"), gpl.collect::<Vec<_>>());
        for text in ["GPLv2+", "BSD", "GPL", "MIT/Apache-2.0", "public domain", "LGPL", "artistic"] {
            assert!(meant(text).iter().all(|found| spdx::Expression::parse(found).is_ok()), "{text}");
        }
    }
}
