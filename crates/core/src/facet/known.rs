//! The known names of operating systems and processors, so that a typo or a foreign name is found.
//!
//! Other values can be said, too: nobody knows all systems and processors.

use super::FacetProblem;
use crate::name::FacetName;
use crate::nearest::nearest;

const SYSTEMS: &[&str] =
    &["linux", "macos", "windows", "android", "ios", "freebsd", "netbsd", "openbsd", "illumos", "none"];

/// Systems whose files can have every name that is no path, and names that differ only by case.
const TOLERANT_SYSTEMS: &[&str] = &["linux", "android", "freebsd", "netbsd", "openbsd", "illumos"];

const PROCESSORS: &[&str] = &[
    "x86_64",
    "x86",
    "aarch64",
    "arm",
    "riscv64",
    "riscv32",
    "powerpc64",
    "powerpc",
    "s390x",
    "mips64",
    "mips",
    "sparc64",
    "loongarch64",
    "wasm32",
    "avr",
    "xtensa",
    "msp430",
];

/// Names from elsewhere, and ours.
const OTHER_NAMES: &[(&str, &str)] = &[
    ("amd64", "x86_64"),
    ("x64", "x86_64"),
    ("x86-64", "x86_64"),
    ("i386", "x86"),
    ("i586", "x86"),
    ("i686", "x86"),
    ("ia32", "x86"),
    ("arm64", "aarch64"),
    ("armv8", "aarch64"),
    ("armhf", "arm"),
    ("ppc64", "powerpc64"),
    ("ppc64le", "powerpc64"),
    ("darwin", "macos"),
    ("osx", "macos"),
    ("mac", "macos"),
    ("win", "windows"),
    ("win32", "windows"),
    ("win64", "windows"),
];

/// Whether files can have every name on an operating system, and names that differ only by case.
pub fn has_any_names(os: &str) -> bool {
    TOLERANT_SYSTEMS.contains(&os)
}

/// The values of a facet that have usual names; none of most facets.
pub fn known_values(facet: &FacetName) -> &'static [&'static str] {
    match facet.as_str() {
        "os" => SYSTEMS,
        "arch" => PROCESSORS,
        _ => &[],
    }
}

/// Sees that a value of `os` or `arch` is no other name of one that we call otherwise, and no slip of one.
pub fn check(facet: &FacetName, value: &str) -> Result<(), FacetProblem> {
    let known = known_values(facet);
    if known.is_empty() || known.contains(&value) {
        return Ok(());
    }
    let lower = value.to_lowercase();
    let ours = OTHER_NAMES.iter().find(|(other, ours)| *other == lower && known.contains(ours));
    let ours = ours.map(|(_, ours)| *ours).or_else(|| {
        // With digits it may well be another one.
        let is_slip = known.contains(&lower.as_str()) || lower.chars().all(char::is_alphabetic);
        let near = if is_slip { nearest(&lower, known.iter().copied(), 1) } else { Vec::new() };
        near.first().copied().filter(|near| near.len() > 3)
    });
    match ours {
        Some(ours) => Err(FacetProblem::CalledOtherwise {
            facet: facet.clone(),
            value: value.to_owned(),
            ours: ours.to_owned(),
        }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn other_names_and_slips_lead_to_ours_and_the_rest_is_taken() {
        let ours = |facet: &str, value: &str| match check(&facet.parse().unwrap(), value) {
            Err(FacetProblem::CalledOtherwise { ours, .. }) => ours,
            other => format!("{other:?}"),
        };
        for (facet, value, wanted) in [
            ("arch", "amd64", "x86_64"),
            ("arch", "ARM64", "aarch64"),
            ("arch", "X86_64", "x86_64"),
            ("os", "linus", "linux"),
            ("os", "Windows", "windows"),
            ("os", "darwin", "macos"),
        ] {
            assert_eq!(ours(facet, value), wanted, "{value}");
        }
        for (facet, value) in [
            ("arch", "linux"),
            ("arch", "riscv128"),
            ("os", "bare"),
            ("os", "greenhouse"),
            ("shade", "amd64"),
        ] {
            assert_eq!(ours(facet, value), "Ok(())", "{value}");
        }
    }
}
