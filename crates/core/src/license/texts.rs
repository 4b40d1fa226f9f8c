//! Whether the licence texts in a package are those of the licence that it declares.

use std::fmt;

use super::License;

/// A licence text in a package.
#[derive(Debug, Clone, Copy)]
pub struct FoundText<'t> {
    /// The file that it is in.
    pub path: &'t str,
    /// The licences that it is like, by their identifiers in SPDX's list; none where it is like none.
    pub ids: &'t [String],
}

/// How licence texts and the declared licence don't go together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextProblem {
    /// A text is that of another licence than the declared ones.
    Other {
        /// What is declared.
        declared: License,
        /// The text's file.
        path: String,
        /// The licences that it is like.
        ids: Vec<String>,
    },
    /// No licence is declared, but there is a text of one.
    Undeclared {
        /// The text's file.
        path: String,
        /// The licences that it is like.
        ids: Vec<String>,
    },
    /// The text of a declared licence isn't there.
    Missing {
        /// The licences whose texts aren't there; where there is a choice, one of them would do.
        ids: Vec<String>,
    },
    /// There is no licence text.
    NoText,
}

impl TextProblem {
    /// Whether what is declared is wrong by what the texts say.
    pub fn is_mismatch(&self) -> bool {
        matches!(self, Self::Other { .. } | Self::Undeclared { .. })
    }
}

impl fmt::Display for TextProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let any = |ids: &[String]| ids.join(" or ");
        match self {
            Self::Other { declared, path, ids } => {
                write!(f, "declares {declared}, but {path} reads like {}", any(ids))
            }
            Self::Undeclared { path, ids } => {
                write!(f, "declares no licence, but {path} reads like {}", any(ids))
            }
            Self::Missing { ids } => write!(f, "has no text of {}", any(ids)),
            Self::NoText => f.write_str("has no licence text"),
        }
    }
}

/// How the licence texts of a package and the licence that it declares don't go together. A text that is like none of SPDX's list may be
/// that of any licence.
pub fn text_problems(declared: Option<&License>, texts: &[FoundText<'_>]) -> Vec<TextProblem> {
    if texts.is_empty() {
        return vec![TextProblem::NoText];
    }
    let known = texts.iter().filter(|text| !text.ids.is_empty());
    let Some(declared) = declared else {
        let undeclared = |text: &FoundText<'_>| TextProblem::Undeclared {
            path: text.path.to_owned(),
            ids: text.ids.to_vec(),
        };
        return known.map(undeclared).collect();
    };
    let expression = declared.expression();
    let wanted: Vec<String> =
        expression.requirements().map(|one| base(&one.req.license.to_string()).to_owned()).collect();
    let is_wanted =
        |text: &&FoundText<'_>| text.ids.iter().any(|id| wanted.iter().any(|one| one == base(id)));
    let other = |text: &FoundText<'_>| TextProblem::Other {
        declared: declared.clone(),
        path: text.path.to_owned(),
        ids: text.ids.to_vec(),
    };
    let mut problems: Vec<TextProblem> = known.clone().filter(|text| !is_wanted(text)).map(other).collect();
    if texts.iter().all(|text| !text.ids.is_empty()) {
        problems.extend(missing(&expression, known));
    }
    problems
}

/// The declared licences whose texts would have to be there and aren't.
fn missing<'t>(
    expression: &spdx::Expression,
    texts: impl Iterator<Item = &'t FoundText<'t>>,
) -> Option<TextProblem> {
    let found: Vec<&str> = texts.flat_map(|text| text.ids).map(|id| base(id)).collect();
    let has = |license: &spdx::LicenseItem| found.contains(&base(&license.to_string()));
    if expression.evaluate(|one| has(&one.license)) {
        return None;
    }
    let wanted = expression.requirements().map(|one| &one.req.license);
    let ids = wanted.filter(|license| !has(license)).map(ToString::to_string).collect();
    Some(TextProblem::Missing { ids })
}

/// A licence without what says which versions of it count: the text is the same.
fn base(id: &str) -> &str {
    ["-only", "-or-later", "+"].iter().find_map(|ending| id.strip_suffix(ending)).unwrap_or(id)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(declared: &str, texts: &[(&str, &[&str])]) -> Vec<String> {
        let ids: Vec<Vec<String>> =
            texts.iter().map(|(_, ids)| ids.iter().map(ToString::to_string).collect()).collect();
        let found = texts.iter().zip(&ids).map(|((path, _), ids)| FoundText { path, ids });
        let declared = (!declared.is_empty()).then(|| declared.parse::<License>().unwrap());
        let problems = text_problems(declared.as_ref(), &found.collect::<Vec<_>>());
        problems.iter().map(ToString::to_string).collect()
    }

    #[test]
    fn texts_of_what_is_declared_are_no_problem() {
        let none: [&str; 0] = [];
        assert_eq!(told("MIT", &[("LICENSE", &["MIT"])]), none);
        assert_eq!(told("MIT OR Apache-2.0", &[("LICENSE-MIT", &["MIT"])]), none);
        assert_eq!(told("GPL-2.0-or-later", &[("COPYING", &["GPL-2.0-only", "GPL-2.0-or-later"])]), none);
        assert_eq!(told("Apache-2.0 WITH LLVM-exception", &[("LICENSE", &["Apache-2.0"])]), none);
        // It may be any licence.
        assert_eq!(told("LicenseRef-garden", &[("LICENSE", &[])]), none);
        assert_eq!(told("MIT AND Zlib", &[("LICENSE", &["MIT"]), ("COPYING", &[])]), none);
    }

    #[test]
    fn other_texts_and_missing_ones_are_told() {
        assert_eq!(
            told("MIT", &[("LICENSE", &["BSD-3-Clause"])]),
            ["declares MIT, but LICENSE reads like BSD-3-Clause", "has no text of MIT"]
        );
        assert_eq!(
            told("MIT", &[("LICENSE", &["MIT"]), ("inner/LICENSE", &["Zlib"])]),
            ["declares MIT, but inner/LICENSE reads like Zlib"]
        );
        assert_eq!(told("MIT AND BSD-3-Clause", &[("LICENSE", &["MIT"])]), ["has no text of BSD-3-Clause"]);
        assert_eq!(
            told("MIT OR Zlib", &[("LICENSE", &["ISC"])]),
            ["declares MIT OR Zlib, but LICENSE reads like ISC", "has no text of MIT or Zlib"]
        );
        assert_eq!(told("", &[("LICENSE", &["MIT"])]), ["declares no licence, but LICENSE reads like MIT"]);
        assert_eq!(told("MIT", &[]), ["has no licence text"]);
    }
}
