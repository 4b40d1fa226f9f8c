//! What the names of archives say of the packages in them, as upstreams write them.

use crate::card::ArchiveFormat;
use crate::upstream::{is_early, version_of};
use crate::version::Version;

/// What the name of an archive says of the package in it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct NamedArchive {
    /// The package's name, as names are written here.
    pub name: Option<String>,
    /// The version as upstream writes it.
    pub upstream: Option<String>,
    /// The version that this becomes.
    pub version: Option<Version>,
}

/// Words of an archive's name that are no part of a version: what it holds, and what it is for.
const OTHER_WORDS: [&str; 36] = [
    "src",
    "source",
    "sources",
    "bin",
    "binary",
    "dist",
    "all",
    "any",
    "none",
    "noarch",
    "universal",
    "full",
    "minimal",
    "complete",
    "static",
    "shared",
    "sdk",
    "doc",
    "docs",
    "headers",
    "amalgamation",
    "autoconf",
    "linux",
    "windows",
    "win32",
    "win64",
    "macos",
    "darwin",
    "freebsd",
    "musl",
    "gnu",
    "x86",
    "x64",
    "amd64",
    "arm64",
    "aarch64",
];

/// Segments of URLs that name no package.
const OTHER_SEGMENTS: [&str; 12] = [
    "archive",
    "archives",
    "refs",
    "tags",
    "heads",
    "releases",
    "release",
    "download",
    "downloads",
    "tarball",
    "zipball",
    "files",
];

/// What the last name of a URL or path says of the package in the archive there, and the names before where it says none.
pub fn named_archive(url: &str) -> NamedArchive {
    let path = url.split(['?', '#']).next().unwrap_or(url);
    let segments: Vec<&str> = path.split('/').filter(|segment| !segment.is_empty()).collect();
    let Some((file, before)) = segments.split_last() else { return NamedArchive::default() };
    let stem = ArchiveFormat::stem(&file.to_lowercase()).map_or(*file, |stem| &file[..stem.len()]);
    // Its separator isn't one before a version.
    let stem = stem.strip_suffix(".orig").unwrap_or(stem).replace("x86_64", "amd64");
    let named = named_by(&stem);
    if named.name.is_some() {
        return named;
    }
    let is_name = |segment: &&&str| {
        let plain = segment.to_lowercase();
        let is_host = segment.contains(':') || plain.contains('.');
        !is_host && !OTHER_SEGMENTS.contains(&plain.as_str()) && version_of(segment).is_none()
    };
    let name = before.iter().rev().find(is_name).and_then(|segment| plain_name(segment));
    NamedArchive { name, ..named }
}

/// What an archive's name without its ending says.
fn named_by(stem: &str) -> NamedArchive {
    let starts = stem.match_indices(['-', '_', '.']).map(|(at, _)| (at, at + 1));
    let attached = stem.find(|c: char| c.is_ascii_digit()).map(|at| (at, at));
    for (end, start) in [(0, 0)].into_iter().chain(starts).chain(attached) {
        let (name, rest) = (&stem[..end], &stem[start..]);
        if !begins_version(rest) {
            continue;
        }
        let upstream = without_other_words(rest);
        if let Some(version) = version_of(upstream) {
            let upstream = Some(without_prefix(upstream).to_owned());
            return NamedArchive { name: plain_name(name), upstream, version: Some(version) };
        }
    }
    NamedArchive { name: plain_name(stem), upstream: None, version: None }
}

/// Whether a text begins as versions do: with a digit, or with `v` or `r` and a digit.
fn begins_version(text: &str) -> bool {
    let text = text.strip_prefix(['v', 'V', 'r']).unwrap_or(text);
    text.starts_with(|c: char| c.is_ascii_digit())
}

/// The beginning of a text that is a version: what is behind it says what the archive holds, or what it is for.
fn without_other_words(text: &str) -> &str {
    let mut end = 0;
    for field in text.split_inclusive('-') {
        let word = field.trim_end_matches('-');
        let is_version = end == 0 || begins_version(word) || is_early(word);
        let is_other = OTHER_WORDS.contains(&word.to_lowercase().as_str()) || is_tag_of_python(word);
        if end > 0 && (is_other || !is_version) {
            break;
        }
        end += field.len();
    }
    text[..end].trim_end_matches('-')
}

/// Whether a word says for which Python a wheel is (PEP 425).
fn is_tag_of_python(word: &str) -> bool {
    ["py2", "py3", "cp2", "cp3", "pp3"].iter().any(|tag| word.starts_with(tag))
}

fn without_prefix(text: &str) -> &str {
    match text.strip_prefix(['v', 'V']) {
        Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
        _ => text,
    }
}

/// A name as packages have them here: letters in lower case, digits, and hyphens.
pub fn plain_name(text: &str) -> Option<String> {
    let text = text.replace("++", "pp").to_lowercase();
    let plain: String = text.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let parts: Vec<&str> = plain.split('-').filter(|part| !part.is_empty()).collect();
    let name = parts.into_iter().filter(|part| !OTHER_WORDS.contains(part)).collect::<Vec<_>>().join("-");
    let name = name.trim_start_matches(|c: char| !c.is_ascii_alphabetic()).to_owned();
    (!name.is_empty()).then_some(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_archives_tell_the_package_and_upstreams_version() {
        for (url, name, upstream, version) in [
            ("https://files.example/soil-curve-1.1.zip", "soil-curve", "1.1", "1.1"),
            ("files/moss-map-v2.0.0-rc.1.tar.gz?x=1", "moss-map", "2.0.0-rc.1", "2.0.0-rc.1"),
            ("rain_1.7.15.orig.tar.gz", "rain", "1.7.15", "1.7.15"),
            ("dew-8.1.7-py3-none-any.zip", "dew", "8.1.7", "8.1.7"),
            ("dew_point-8.1.7-cp311-cp311-manylinux_2_17_x86_64.whl", "dew-point", "8.1.7", "8.1.7"),
            (
                "https://git.example/garden/leaf-palette/archive/refs/tags/v2.3.tar.gz",
                "leaf-palette",
                "2.3",
                "2.3",
            ),
            ("moss-amalgamation-3450100.zip", "moss", "3450100", "3450100"),
            ("frost-1.1.1w.tar.gz", "frost", "1.1.1w", "1.1.1.23"),
            ("soil_1_86_0.tar.bz2", "soil", "1_86_0", "1.86.0"),
            ("moss2024b.tar.lz4", "moss", "2024b", "2024.0.0.2"),
            ("mossrc.v9f.tar.gz", "mossrc", "9f", "9.0.0.6"),
            ("garden-7.1.1-39.tar.xz", "garden", "7.1.1-39", "7.1.1.39"),
            ("rain-3.45.01-src.tgz", "rain", "3.45.01", "3.45.1"),
            ("leaf++-1.0b2-linux-x86_64.tar.zst", "leafpp", "1.0b2", "1.0-beta.2"),
            ("files/r3.tar", "files", "r3", "3"),
            ("moss-x86_64-1.2.jar", "moss", "1.2", "1.2"),
        ] {
            let found = named_archive(url);
            let version = version.parse().ok();
            assert_eq!(found.upstream.as_deref(), Some(upstream), "{url}");
            assert_eq!(found.version, version, "{url}");
            if name != "files" {
                assert_eq!(found.name.as_deref(), Some(name), "{url}");
            }
        }
        let plain = named_archive("files/moss-map.zip");
        assert_eq!((plain.name.as_deref(), plain.upstream, plain.version), (Some("moss-map"), None, None));
        assert_eq!(named_archive(""), NamedArchive::default());
    }
}
