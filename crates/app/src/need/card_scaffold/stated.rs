//! What upstream's own files say of a package: `package.json`, `pyproject.toml`, and the metadata of wheels (PEP 566).

use std::collections::BTreeMap;

use bibliotax_core::license::License;
use serde_json::Value as Json;

/// Longest text that is taken over, in characters.
const MAX_LEN: usize = 300;

/// What upstream says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Stated {
    pub summary: Option<String>,
    pub homepage: Option<String>,
    pub repository: Option<String>,
    /// A licence that is an expression of SPDX, with the file that says so.
    pub license: Option<(String, String)>,
}

/// Whether a file may say something, by its path inside the package.
pub fn is_telling(path: &str) -> bool {
    let is_wheel = path.ends_with(".dist-info/METADATA") && path.matches('/').count() == 1;
    matches!(path, "package.json" | "pyproject.toml" | "PKG-INFO") || is_wheel
}

impl Stated {
    /// What these files say, by their paths.
    pub fn of(texts: &BTreeMap<String, String>) -> Self {
        let mut stated = Self::default();
        for (path, text) in texts.iter().filter(|(path, _)| is_telling(path)) {
            let said = match path.as_str() {
                "package.json" => of_node(text),
                "pyproject.toml" => of_python_project(text),
                _ => of_metadata(text),
            };
            stated.summary = stated.summary.take().or(said.get("summary").and_then(|text| plain(text)));
            stated.homepage = stated.homepage.take().or(said.get("homepage").and_then(|text| url(text)));
            stated.repository =
                stated.repository.take().or(said.get("repository").and_then(|text| url(text)));
            let license = said.get("license").filter(|text| text.parse::<License>().is_ok());
            stated.license = stated.license.take().or(license.map(|text| (text.clone(), path.clone())));
        }
        stated
    }
}

type Said = BTreeMap<&'static str, String>;

fn of_node(text: &str) -> Said {
    let Ok(json) = serde_json::from_str::<Json>(text) else { return Said::new() };
    let repository = json["repository"].as_str().or(json["repository"]["url"].as_str());
    let repository = repository.map(|url| url.trim_start_matches("git+").to_owned());
    let of = |key: &str| json[key].as_str().map(str::to_owned);
    said([of("description"), of("homepage"), repository, of("license")])
}

fn of_python_project(text: &str) -> Said {
    let Ok(document) = text.parse::<toml_edit::DocumentMut>() else { return Said::new() };
    let Some(project) = document.get("project") else { return Said::new() };
    let of = |key: &str| project.get(key).and_then(|item| item.as_str()).map(str::to_owned);
    let license = of("license").or_else(|| project.get("license")?.get("text")?.as_str().map(str::to_owned));
    let place = |names: [&str; 2]| {
        let urls = project.get("urls")?.as_table_like()?;
        let found = urls.iter().find(|(name, _)| names.contains(&name.to_lowercase().as_str()))?;
        found.1.as_str().map(str::to_owned)
    };
    said([of("description"), place(["homepage", "home"]), place(["repository", "source"]), license])
}

/// Headers as electronic mail has them (RFC 5322), up to the first empty line.
fn of_metadata(text: &str) -> Said {
    let headers = text.lines().take_while(|line| !line.is_empty()).filter_map(|line| line.split_once(": "));
    let headers: Vec<(&str, &str)> = headers.collect();
    let of = |names: &[&str]| {
        let found = headers.iter().find(|(name, _)| names.contains(name));
        found.map(|(_, text)| (*text).to_owned())
    };
    said([of(&["Summary"]), of(&["Home-page"]), None, of(&["License-Expression", "License"])])
}

fn said(values: [Option<String>; 4]) -> Said {
    let keys = ["summary", "homepage", "repository", "license"];
    keys.into_iter().zip(values).filter_map(|(key, text)| Some((key, text?))).collect()
}

/// A text on one line, as far as it is short and plain.
fn plain(text: &str) -> Option<String> {
    let line = text.split_whitespace().collect::<Vec<_>>().join(" ");
    (!line.is_empty() && line.chars().count() <= MAX_LEN && !line.contains(char::is_control)).then_some(line)
}

fn url(text: &str) -> Option<String> {
    plain(text).filter(|text| text.starts_with("https://") && !text.contains(' '))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn upstreams_own_words_are_read_and_nothing_else() {
        let metadata = "Metadata-Version: 2.1\nName: dew\nSummary: Dew point\nHome-page: https://dew.example\nLicense: BSD\n\nLicense: MIT\n";
        let project = "[project]\ndescription = \"Rain\"\nlicense = { text = \"MIT\" }\n[project.urls]\nSource = \"https://git.example/rain\"\n";
        for (path, text, summary, license) in [
            (
                "package.json",
                r#"{"description":"Moss","license":"MIT","repository":{"url":"git+https://git.example/moss"}}"#,
                "Moss",
                Some("MIT"),
            ),
            ("dew-1.0.dist-info/METADATA", metadata, "Dew point", None),
            ("pyproject.toml", project, "Rain", Some("MIT")),
            ("PKG-INFO", "Summary: Frost\nLicense-Expression: Apache-2.0\n", "Frost", Some("Apache-2.0")),
        ] {
            let texts = BTreeMap::from([(path.to_owned(), text.to_owned())]);
            let stated = Stated::of(&texts);
            assert_eq!(stated.summary.as_deref(), Some(summary), "{path}");
            assert_eq!(stated.license.as_ref().map(|(license, _)| license.as_str()), license, "{path}");
        }
        let hostile = BTreeMap::from([(
            "package.json".to_owned(),
            r#"{"description":"a\u001b[2J","homepage":"javascript:x"}"#.to_owned(),
        )]);
        assert_eq!(Stated::of(&hostile), Stated::default());
    }
}
