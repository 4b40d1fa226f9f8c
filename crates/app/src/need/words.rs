//! Parses the words after `need`: packages, each with the range that follows it.

use bibliotax_core::fault::Fault;
use bibliotax_core::location::Location;
use bibliotax_core::name::PackageName;
use bibliotax_core::range::Range;

use crate::failure::Failure;

/// A package that is wanted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wanted {
    /// Its name.
    pub package: PackageName,
    /// The range that is wanted; none for the newest that goes with the rest.
    pub range: Option<Range>,
}

/// Reads the words; a range may be quoted or spread over several of them.
///
/// With `exactly`, a bare version behind a package means just that version.
pub fn parse(words: &[String], exactly: bool) -> Result<Vec<Wanted>, Failure> {
    let mut wanted: Vec<(PackageName, Vec<&str>)> = Vec::new();
    for word in words {
        if Location::is_meant(word) {
            let fault = Fault::new("need.words", "this is a place, not a package", 0..word.len());
            let advice = "name the package, and give the place with `--path`, `--git` or `--archive`";
            return Err(in_words(word, fault.advice(advice)));
        }
        if let Some((name, version)) = word.split_once(['@', '=']).filter(|_| is_name(word)) {
            let version = version.trim_start_matches('=');
            let fault =
                Fault::new("need.words", "a version is a separate argument after its package", 0..word.len());
            return Err(in_words(
                word,
                fault.advice(format!(
                    "write `{name} \"= {version}\"` for only this version, or `{name} {version}`"
                )),
            ));
        }
        match (is_name(word), wanted.last_mut()) {
            (true, _) => wanted.push((word.parse().map_err(|fault| in_words(word, fault))?, Vec::new())),
            (false, Some((_, range))) => range.push(word),
            (false, None) => {
                let fault = word.parse::<PackageName>().err();
                let fault =
                    fault.unwrap_or_else(|| Fault::new("need.words", "a package comes first", 0..word.len()));
                return Err(in_words(word, fault));
            }
        }
    }
    wanted.into_iter().map(|(package, range)| with_range(package, &range.join(" "), exactly)).collect()
}

/// Whether a word is meant as a package: no range begins with a letter but for the grammar's own words.
fn is_name(word: &str) -> bool {
    word.starts_with(|c: char| c.is_alphabetic())
        && !matches!(word, "any" | "or")
        && !word.starts_with("vers:")
}

fn with_range(package: PackageName, text: &str, exactly: bool) -> Result<Wanted, Failure> {
    if text.is_empty() {
        return Ok(Wanted { package, range: None });
    }
    let written = if exactly && text.starts_with(|c: char| c.is_ascii_digit()) {
        format!("= {text}")
    } else {
        text.into()
    };
    let range: Range = written.parse().map_err(|fault| in_words(&written, fault))?;
    if exactly && range.only().is_none() {
        let fault = Fault::new("need.words", "`--exactly` needs a single version", 0..text.len());
        return Err(in_words(text, fault.advice("remove `--exactly`, or name a version such as `2.4.1`")));
    }
    Ok(Wanted { package, range: Some(range) })
}

fn in_words(words: &str, fault: Fault) -> Failure {
    Failure::in_words("the command line", words, fault)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parsed(words: &[&str], exactly: bool) -> Result<Vec<String>, &'static str> {
        let words: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
        let text = |wanted: &Wanted| {
            format!("{} {}", wanted.package, wanted.range.as_ref().map_or("-".into(), ToString::to_string))
        };
        parse(&words, exactly).map(|wanted| wanted.iter().map(text).collect()).map_err(|failure| failure.code)
    }

    #[test]
    fn tells_packages_from_ranges_quoted_or_not() {
        type Row = (&'static [&'static str], bool, Result<Vec<&'static str>, &'static str>);
        let rows: [Row; 15] = [
            (&["rain-ledger"], false, Ok(vec!["rain-ledger -"])),
            (&["a", "2.4 .. 3", "b", "any", "c"], false, Ok(vec!["a 2.4 .. 3", "b any", "c -"])),
            (&["a", "2.4", "..", "3", "b/c"], false, Ok(vec!["a 2.4 .. 3", "b/c -"])),
            (&["a", "1", "|", "3"], false, Ok(vec!["a 1 | 3"])),
            (&["a", "1", "or", "3"], false, Err("range.unexpected")),
            (&["a", "2.4.1"], true, Ok(vec!["a = 2.4.1"])),
            (&["a"], true, Ok(vec!["a -"])),
            (&["a", ">= 2"], true, Err("need.words")),
            (&["2.4"], false, Err("name.invalid")),
            (&["Rain"], false, Err("name.invalid")),
            (&["a", "^2"], false, Err("range.unexpected")),
            (&["a@1.0"], false, Err("need.words")),
            (&["a==1.0"], false, Err("need.words")),
            (&["../leaf-palette"], false, Err("need.words")),
            (&["leaf-palette", "https://garden.example/leaf"], false, Err("need.words")),
        ];
        for (words, exactly, expected) in rows {
            let expected = expected.map(|texts| texts.into_iter().map(String::from).collect());
            assert_eq!(parsed(words, exactly), expected, "{words:?}");
        }
    }
}
