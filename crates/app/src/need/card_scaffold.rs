//! The beginning of a card for a package without a manifest: what its files tell, with comments for what people have to check.

mod roles;
mod stated;

use std::collections::BTreeMap;
use std::path::Path;

use bibliotax_archive::error::ArchiveError;
use bibliotax_archive::inspect::{ArchivedFile, contents, texts_of};
use bibliotax_core::card::ArchiveFormat;
use bibliotax_core::inner_path::InnerPath;
use bibliotax_core::manifest::FILE_NAME;
use bibliotax_core::name::PackageName;
use bibliotax_core::upstream::UpstreamVersion;
use bibliotax_core::version::Version;
use toml_edit::{Array, DocumentMut, Value, value};

use self::roles::{FoundRole, roles_in};
use self::stated::Stated;
use crate::license_text::{Identified, MAX_TEXT, identify, may_be_license};

/// The files of a package as upstream has them.
#[derive(Debug)]
pub struct UpstreamFiles {
    /// All files of the archive, with their paths there.
    pub all: Vec<ArchivedFile>,
    /// The paths of the package's files, below its folder.
    paths: Vec<String>,
    /// The texts that say something of the package.
    texts: BTreeMap<String, String>,
}

impl UpstreamFiles {
    /// Looks into an archive on this disk; the package is what is in a folder of it, if one is given or leads all files.
    pub fn of(
        archive: &Path,
        format: ArchiveFormat,
        strip: impl FnOnce(&[ArchivedFile]) -> Option<InnerPath>,
    ) -> Result<(Self, Option<InnerPath>), ArchiveError> {
        let all = contents(archive, format)?;
        let strip = strip(&all);
        let inside = |path: &str| -> Option<String> {
            let path = path.trim_start_matches("./");
            match &strip {
                Some(strip) => Some(path.strip_prefix(strip.as_str())?.strip_prefix('/')?.to_owned()),
                None => Some(path.to_owned()),
            }
        };
        let paths = all.iter().filter_map(|file| inside(&file.path)).collect();
        let is_wanted = |path: &str| inside(path).is_some_and(|path| is_telling(&path));
        let texts = texts_of(archive, format, &is_wanted, MAX_TEXT)?;
        let texts = texts.into_iter().filter_map(|(path, text)| Some((inside(&path)?, text))).collect();
        Ok((Self { all, paths, texts }, strip))
    }

    /// Whether the package says itself what it is.
    pub fn has_manifest(&self) -> bool {
        self.paths.iter().any(|path| path == FILE_NAME)
    }
}

/// Whether a file says something of its package, by its path.
fn is_telling(path: &str) -> bool {
    let depth = path.matches('/').count();
    depth == 0 && may_be_license(path) || stated::is_telling(path)
}

/// A card that a package without a manifest begins with.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Scaffold {
    /// Its version, where it is known.
    pub version: Option<Version>,
    /// The version as upstream writes it.
    pub upstream: Option<UpstreamVersion>,
    /// Its licence, with the file that has its text.
    license: Option<(String, Identified)>,
    stated: Stated,
    repository: Option<String>,
    roles: Vec<FoundRole>,
}

impl Scaffold {
    /// What the files of a package tell.
    pub fn of(files: &UpstreamFiles, repository: Option<String>) -> Self {
        let licenses = files.texts.iter().filter(|(path, _)| may_be_license(path));
        let license = licenses.filter_map(|(path, text)| Some((path.clone(), identify(text)?)));
        let license = license.max_by_key(|(_, found)| found.percent);
        let stated = Stated::of(&files.texts);
        let roles = roles_in(&files.paths);
        Self { version: None, upstream: None, license, stated, repository, roles }
    }

    /// The same at a version, with upstream's own text of it.
    #[must_use]
    pub fn at(self, version: Version, upstream: Option<UpstreamVersion>) -> Self {
        let upstream = upstream.filter(|upstream| upstream.as_str() != version.to_string());
        Self { version: Some(version), upstream, ..self }
    }

    /// The card's text.
    pub fn text(&self, package: &PackageName) -> String {
        let mut lines = vec![
            format!(
                "# What {package} is, as far as its files tell. Check it: from here on it is yours to edit."
            ),
            String::new(),
        ];
        let mut say = |key: &str, text: &str, comment: &str| {
            let comment = if comment.is_empty() { String::new() } else { format!(" # {comment}") };
            lines.push(format!("{key} = {}{comment}", Value::from(text)));
        };
        if let Some(version) = &self.version {
            say("version", &version.to_string(), "");
        }
        if let Some(upstream) = &self.upstream {
            say("upstream-version", upstream.as_str(), "as upstream writes it");
        }
        match (&self.license, &self.stated.license) {
            (_, Some((license, file))) => say("license", license, &format!("said in {file}")),
            (Some((file, Identified { ids, percent })), None) => match ids.as_slice() {
                [id] => say("license", id, &format!("the text in {file} is {percent} % like it")),
                ids => lines.push(format!(
                    "# license = \"{}\" # the text in {file} is that of each; the sources' headers say which",
                    ids.join("\" or \"")
                )),
            },
            (None, None) => lines
                .push("# license = \"…\" # an SPDX expression; no licence text was recognised".to_owned()),
        }
        self.describe(&mut lines);
        self.expose(&mut lines);
        lines.join("\n") + "\n"
    }

    fn describe(&self, lines: &mut Vec<String>) {
        let known = [
            ("summary", self.stated.summary.as_ref(), "one line that says what it is for"),
            ("homepage", self.stated.homepage.as_ref(), "https://…"),
            ("repository", self.repository.as_ref().or(self.stated.repository.as_ref()), "https://…"),
        ];
        for (key, text, otherwise) in known {
            lines.push(match text {
                Some(text) => format!("{key} = {}", Value::from(text.as_str())),
                None => format!("# {key} = \"{otherwise}\""),
            });
        }
    }

    fn expose(&self, lines: &mut Vec<String>) {
        lines.push(String::new());
        lines.push(
            "# What builds find under which role; paths and patterns are below the package's folder."
                .to_owned(),
        );
        lines.push("[exposes]".to_owned());
        for FoundRole { role, paths, comment } in &self.roles {
            let list: Array = paths.iter().map(String::as_str).collect();
            lines.push(format!("{role} = {list} # {comment}"));
        }
        if self.roles.is_empty() {
            lines.push("# include = [\"include\"]".to_owned());
        }
        lines.push("# defines = [\"NAME=1\"], libraries = [\"m\"], link-flags = [\"-pthread\"] are values, not paths".to_owned());
    }

    /// A card that people have already, with the version of this one; `None` where its text can't be read.
    pub fn updated(&self, text: &str) -> Option<String> {
        let mut document: DocumentMut = text.parse().ok()?;
        let upstream = self.upstream.as_ref().map(ToString::to_string);
        let version = self.version.as_ref().map(ToString::to_string);
        for (key, new) in [("version", version), ("upstream-version", upstream)] {
            match (document.get_mut(key).and_then(|item| item.as_value_mut()), new) {
                (Some(old), Some(new)) => {
                    let decor = old.decor().clone();
                    *old = Value::from(new);
                    *old.decor_mut() = decor;
                }
                (None, Some(new)) => drop(document.insert(key, value(new))),
                (_, None) => drop(document.remove(key)),
            }
        }
        Some(document.to_string())
    }

    /// What was found, in one line for people.
    pub fn in_words(&self) -> Vec<String> {
        let version = self.version.iter().map(|version| match &self.upstream {
            Some(upstream) if upstream.as_str() != version.to_string() => {
                format!("version {version} (upstream's {upstream})")
            }
            _ => format!("version {version}"),
        });
        let license = self.stated.license.as_ref().map(|(license, _)| license.clone());
        let license = license.or_else(|| self.license.as_ref().map(|(_, found)| found.ids.join(" or ")));
        let license =
            license.map_or_else(|| "no licence recognised".to_owned(), |id| format!("licence {id}"));
        let role = |found: &FoundRole| match found.paths.as_slice() {
            [path] if path == found.role => path.clone(),
            paths => format!("{} {}", found.role, paths.join(" ")),
        };
        let roles: Vec<String> = self.roles.iter().map(role).collect();
        let roles = (!roles.is_empty()).then(|| format!("exposes {}", roles.join(", ")));
        version.chain([license]).chain(roles).collect()
    }
}

#[cfg(test)]
mod tests {
    use bibliotax_core::manifest::read_stated;

    use super::*;

    fn scaffold(texts: &[(&str, &str)], paths: &[&str]) -> Scaffold {
        let texts = texts.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())).collect();
        let paths = paths.iter().map(|path| (*path).to_owned()).collect();
        Scaffold::of(&UpstreamFiles { all: Vec::new(), paths, texts }, None)
    }

    #[test]
    fn a_scaffold_reads_back_as_a_card_and_keeps_what_people_wrote_later() {
        let package: PackageName = "soil-curve".parse().unwrap();
        let told = r#"{"description": "Water in \"soil\"", "license": "MIT", "homepage": "https://soil.example/#top"}"#;
        let mut first =
            scaffold(&[("package.json", told)], &["package.json", "index.js", "include/soil.h", "src/a.c"]);
        first.version = Some("1.1.1.23".parse().unwrap());
        first.upstream = Some("1.1.1w".parse().unwrap());
        let text = first.text(&package);
        let card = read_stated(&text).unwrap_or_else(|faults| panic!("{faults:?}\n{text}"));
        assert_eq!(card.version, first.version);
        assert_eq!(card.part.upstream_version, first.upstream);
        assert_eq!(card.license.unwrap().to_string(), "MIT");
        assert_eq!(card.part.summary.as_deref(), Some("Water in \"soil\""));
        assert!(card.part.exposes.keys().any(|role| role.as_str() == "include"), "{text}");
        let edited = text.replace("Water", "Dew");
        first.version = Some("1.2".parse().unwrap());
        first.upstream = None;
        let updated = first.updated(&edited).unwrap();
        assert!(updated.contains("version = \"1.2\"\n") && updated.contains("Dew"), "{updated}");
        assert!(!updated.contains("upstream-version"), "{updated}");
        let none = scaffold(&[], &["data.csv"]);
        assert!(read_stated(&none.text(&package)).is_ok());
    }
}
