//! Where something is, as people write it: a path, a URL, or `host:path` as git has it. Read alike on every system, for a manifest
//! is read on all of them.

use std::borrow::Cow;

use percent_encoding::percent_decode_str;

/// Where something is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Location<'t> {
    /// A path that is seen from somewhere, with `/` between its parts.
    Relative(Cow<'t, str>),
    /// A path from the root of a disk, of a share, or of a person's home; of a URL with `file://` the path that it stands for.
    Absolute(Cow<'t, str>),
    /// A URL with another scheme (RFC 3986, section 3), which is given as written.
    Url {
        /// The scheme.
        scheme: &'t str,
        /// What stands behind `://`.
        rest: &'t str,
    },
    /// `host:path` or `user@host:path`, as ssh has it.
    OnHost {
        /// The host, with the user where one is named.
        host: &'t str,
        /// The path on it.
        path: &'t str,
    },
}

impl<'t> Location<'t> {
    /// What a text names.
    pub fn of(text: &'t str) -> Self {
        if let Some((scheme, rest)) = text.split_once("://").filter(|(scheme, _)| is_scheme(scheme)) {
            return if scheme.eq_ignore_ascii_case("file") {
                Self::Absolute(path_of_url(rest))
            } else {
                Self::Url { scheme, rest }
            };
        }
        if text.starts_with(['/', '\\', '~']) || has_drive(text) {
            return Self::Absolute(text.into());
        }
        match text.split_once(':') {
            Some((host, path)) if host.len() > 1 && !host.contains(['/', '\\']) => {
                Self::OnHost { host, path }
            }
            _ if text.contains('\\') => Self::Relative(text.replace('\\', "/").into()),
            _ => Self::Relative(text.into()),
        }
    }

    /// Whether it is a path on this machine.
    pub fn is_path(&self) -> bool {
        self.path().is_some()
    }

    /// The path, where it is one on this machine.
    pub fn path(&self) -> Option<&str> {
        match self {
            Self::Relative(path) | Self::Absolute(path) => Some(path),
            Self::Url { .. } | Self::OnHost { .. } => None,
        }
    }

    /// Whether a word of a command line can't be anything else than a place: a URL, or a path that begins as one.
    pub fn is_meant(word: &'t str) -> bool {
        match Self::of(word) {
            Self::Absolute(_) | Self::Url { .. } => true,
            Self::Relative(path) => path.starts_with("./") || path.starts_with("../"),
            Self::OnHost { host, .. } => host.contains('@'),
        }
    }
}

/// Whether a text is a scheme (RFC 3986, section 3.1). One letter is a disk.
fn is_scheme(text: &str) -> bool {
    let is_letter = |c: char| c.is_ascii_alphanumeric() || matches!(c, '+' | '-' | '.');
    text.len() > 1 && text.starts_with(|c: char| c.is_ascii_alphabetic()) && text.chars().all(is_letter)
}

/// Whether a path begins with a disk: `C:`, `C:\` or `C:/`.
fn has_drive(text: &str) -> bool {
    let mut letters = text.chars();
    let is_disk = letters.next().is_some_and(|c| c.is_ascii_alphabetic()) && letters.next() == Some(':');
    is_disk && matches!(letters.next(), None | Some('/' | '\\'))
}

/// The path that a URL with `file://` stands for, by what is behind that (RFC 8089): percent-decoded, without the host of this
/// machine, and without the slash before a disk.
fn path_of_url(rest: &str) -> Cow<'_, str> {
    let path = rest.strip_prefix("localhost").filter(|path| path.starts_with('/')).unwrap_or(rest);
    let path = path.strip_prefix('/').filter(|path| has_drive(path)).unwrap_or(path);
    percent_decode_str(path).decode_utf8().unwrap_or(path.into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_systems_forms_are_read_alike_on_every_system() {
        let relative = |path: &'static str| Location::Relative(path.into());
        let absolute = |path: &'static str| Location::Absolute(path.into());
        let url = |scheme, rest| Location::Url { scheme, rest };
        let on_host = |host, path| Location::OnHost { host, path };
        for (text, wanted) in [
            ("registry", relative("registry")),
            (".", relative(".")),
            ("", relative("")),
            ("../registry", relative("../registry")),
            (r"..\registry", relative("../registry")),
            (r".\parts\valve", relative("./parts/valve")),
            (r"parts\a:b", relative("parts/a:b")),
            ("parts/a:b", relative("parts/a:b")),
            ("./a:b", relative("./a:b")),
            ("/srv/registry", absolute("/srv/registry")),
            (r"\\shed\share\registry", absolute(r"\\shed\share\registry")),
            ("~/registry", absolute("~/registry")),
            (r"C:\registry", absolute(r"C:\registry")),
            ("c:/registry", absolute("c:/registry")),
            ("C:", absolute("C:")),
            ("file:///srv/our%20registry", absolute("/srv/our registry")),
            ("file://localhost/srv/m%C3%B6ss", absolute("/srv/möss")),
            ("file:///C:/registry", absolute("C:/registry")),
            ("FILE:///srv/x", absolute("/srv/x")),
            ("https://garden.example/a%20b", url("https", "garden.example/a%20b")),
            ("s3://garden/x", url("s3", "garden/x")),
            ("git+ssh://garden.example/x", url("git+ssh", "garden.example/x")),
            ("oci://garden.example", url("oci", "garden.example")),
            ("garden.example:moss", on_host("garden.example", "moss")),
            ("git@garden.example:moss/map.git", on_host("git@garden.example", "moss/map.git")),
            ("shed:/srv/moss", on_host("shed", "/srv/moss")),
        ] {
            assert_eq!(Location::of(text), wanted, "{text}");
        }
    }

    #[test]
    fn a_word_that_is_meant_as_a_place_is_known() {
        for word in
            ["../x", r"..\x", "./x", r".\x", "/x", r"C:\x", "~/x", "https://x.example", "git@x.example:y"]
        {
            assert!(Location::is_meant(word), "{word}");
        }
        for word in ["dew-point", "fernhollow/valve-core", "2.4", "..", ".. 3", "dew-point:1", "vers:x/1"] {
            assert!(!Location::is_meant(word), "{word}");
        }
    }
}
