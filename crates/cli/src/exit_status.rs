//! The program's exit status for each kind of failure.

use std::process::ExitCode;

use bibliotax_app::codes::{Kind, kind_of};

/// How the program ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// The command did its work.
    Done,
    /// Something differs, or was found.
    Differs,
    /// The command line makes no sense.
    Usage,
    /// As a failure of another kind.
    Failed(Kind),
    /// As a program ended that was run.
    Passed(u8),
}

impl Exit {
    /// The status, as `docs/errors.md` lists it.
    pub fn status(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Differs => status_of(Kind::Differs),
            Self::Usage => status_of(Kind::Usage),
            Self::Failed(kind) => status_of(kind),
            Self::Passed(status) => status,
        }
    }

    /// How the program ends after a failure with this code.
    pub fn of_code(code: &str) -> Self {
        Self::Failed(kind_of(code))
    }
}

fn status_of(kind: Kind) -> u8 {
    match kind {
        Kind::Differs => 1,
        Kind::Usage => 2,
        Kind::Input => 3,
        Kind::Unsolved => 4,
        Kind::Unreachable => 5,
        Kind::Integrity => 6,
        Kind::Forbidden => 7,
        Kind::Defect => 70,
        Kind::Disk => 74,
        Kind::NotStarted => 126,
        Kind::NoProgram => 127,
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        Self::from(exit.status())
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;
    use std::fs;
    use std::path::Path;

    use bibliotax_app::check::{FINDING_CODES, FindingCode};
    use bibliotax_app::codes::CODES;

    use super::*;

    /// The table of codes, and this file.
    fn is_left_out(path: &Path) -> bool {
        path.ends_with("codes.rs") || path.ends_with("exit_status.rs")
    }

    /// The sources of all crates, but for those.
    fn sources() -> String {
        fn read(folder: &Path, all: &mut String) {
            for entry in fs::read_dir(folder).unwrap().flatten() {
                let path = entry.path();
                if path.is_dir() && !path.ends_with("target") {
                    read(&path, all);
                } else if path.extension().is_some_and(|e| e == "rs") && !is_left_out(&path) {
                    all.push_str(&fs::read_to_string(path).unwrap());
                }
            }
        }
        let mut all = String::new();
        read(&Path::new(env!("CARGO_MANIFEST_DIR")).join(".."), &mut all);
        all
    }

    /// The codes that the sources make failures and faults of.
    fn used(sources: &str) -> BTreeSet<&str> {
        let calls = ["Fault::new(", "Failure::new("].into_iter();
        let behind = calls.flat_map(|call| sources.split(call).skip(1));
        let codes = behind.filter_map(|text| text.trim_start().strip_prefix('"')?.split('"').next());
        codes.collect()
    }

    #[test]
    fn codes_are_sorted_used_and_documented() {
        let docs = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/errors.md");
        let docs = fs::read_to_string(docs).unwrap();
        let (docs, findings) = docs.split_once("## Findings of `check`").unwrap();
        let (findings, of_editors) = findings.split_once("## What only an editor shows").unwrap();
        assert!(FINDING_CODES.is_sorted_by_key(|known| known.code));
        for FindingCode { code, meaning, help } in FINDING_CODES {
            assert!(
                findings.contains(&format!("\n| `{code}` | {meaning} | {help} |\n")),
                "{code} isn't in the docs"
            );
        }
        assert_eq!(findings.matches("\n| `").count(), FINDING_CODES.len());
        let sources = sources();
        for row in of_editors.split("\n| `").skip(1) {
            let code = row.split('`').next().unwrap();
            assert!(sources.contains(&format!("\"{code}\"")), "{code} is used nowhere");
        }
        assert!(CODES.is_sorted_by_key(|(code, ..)| *code));
        for (code, kind, meaning) in CODES {
            assert!(sources.contains(&format!("\"{code}\"")), "{code} is used nowhere");
            let row = format!("| `{code}` | {} | {meaning} | ", Exit::Failed(*kind).status());
            let remedy = docs.split_once(&row).and_then(|(_, rest)| rest.lines().next());
            let remedy = remedy.unwrap_or_else(|| panic!("docs/errors.md lacks: {row}"));
            assert!(remedy.trim_end_matches(" |").len() > 8, "{code} has no remedy: {remedy}");
        }
        assert_eq!(
            docs.matches("\n| `").count(),
            CODES.len(),
            "docs/errors.md lists codes that there are not"
        );
        for code in used(&sources) {
            assert!(CODES.iter().any(|(known, ..)| *known == code), "{code} is not listed");
        }
    }
}
