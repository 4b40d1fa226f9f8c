//! Which file of each part a target takes: the most specific that fits it.
//!
//! A file is more specific than another where every target that it is for is one of the other's, too: `linux` on
//! `x86_64` is more specific than `linux`, and level 4 than level 2. Two files that are for one target and neither more
//! specific than the other are a tie, which publishing refuses.

use std::collections::{BTreeMap, BTreeSet};

use crate::card::{Entry, FileRecord};
use crate::facet::{Facets, Fit, FitValue, Fits, Misfit, Target};
use crate::manifest::PartDeclaration;
use crate::name::{ComponentName, FacetName, PartName};

/// Most targets that the files of one part are tried on, to see whether any two of them tie.
const MAX_TARGETS: usize = 20_000;

/// Two files of one part of which neither is more specific, and a target that both are for.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum VariantProblem {
    /// Both are for one target.
    #[error("two files of the part `{part}` are for {target}, and neither is more specific")]
    Tie {
        /** The part. */
        part: PartName,
        /** A target that both are for. */
        target: String,
    },
    /// They say too many different things to find out whether two of them tie.
    #[error("the files of the part `{part}` differ in too many facets and values")]
    TooMany {
        /** The part. */
        part: PartName,
    },
}

/// A file that may be for some targets only.
pub trait Variant {
    /// Which part of a release it holds.
    fn part(&self) -> &PartName;
    /// The targets that it is for: those on which all of this holds.
    fn only_for(&self) -> &Fits;
}

impl Variant for PartDeclaration {
    fn part(&self) -> &PartName {
        &self.part
    }

    fn only_for(&self) -> &Fits {
        &self.only_for
    }
}

impl Variant for FileRecord {
    fn part(&self) -> &PartName {
        &self.part
    }

    fn only_for(&self) -> &Fits {
        &self.only_for
    }
}

impl Facets {
    /// Whether a release works on a target with these components: what it says of facets suits, and each part that
    /// goes along has a file for it. What such a file is made for need not be said again.
    pub fn fit_release(&self, entry: &Entry, components: &BTreeSet<ComponentName>, target: &Target) -> Fit {
        let fit = self.fit(&entry.fits, target);
        if let Fit::No(_) = fit {
            return fit;
        }
        let lacks = |part: &&PartName| !self.has_file(&entry.files, part, target);
        if let Some(part) = parts_along(entry, components, &[]).into_iter().find(lacks) {
            return Fit::No(Misfit::Part { part: part.clone(), there_are: made_for(&entry.files, part) });
        }
        let Fit::NotDeclared(mut undeclared) = fit else { return fit };
        // A file that is made for the target says as much as a release can.
        let files = self.files_for(entry, components, &[], target);
        undeclared.retain(|facet| !files.iter().any(|file| file.only_for.contains_key(facet)));
        if undeclared.is_empty() { Fit::Yes } else { Fit::NotDeclared(undeclared) }
    }

    /// The files that a target takes of a release with these components, and those parts that are asked for.
    pub fn files_for<'e>(
        &self,
        entry: &'e Entry,
        components: &BTreeSet<ComponentName>,
        asked: &[PartName],
        target: &Target,
    ) -> Vec<&'e FileRecord> {
        let parts = parts_along(entry, components, asked).into_iter();
        parts.filter_map(|part| self.variant(&entry.files, part, target)).collect()
    }

    /// The file of a part that a target takes.
    pub fn variant<'f, F: Variant>(&self, files: &'f [F], part: &PartName, target: &Target) -> Option<&'f F> {
        let is_for = |file: &&F| file.part() == part && self.holds(file.only_for(), target);
        let mut open = files.iter().filter(is_for);
        let first = open.next()?;
        Some(open.fold(first, |best, file| if self.is_narrower(file, best) { file } else { best }))
    }

    /// Whether a part has a file for a place: for a target the one that it takes, for a promise one for every
    /// environment that the promise speaks of, as far as it speaks.
    pub fn has_file(&self, files: &[FileRecord], part: &PartName, place: &Target) -> bool {
        if !place.is_promise {
            return self.variant(files, part, place).is_some();
        }
        let mut of_part = files.iter().filter(|file| file.part == *part);
        if of_part.clone().any(|file| file.only_for.is_empty()) {
            return true;
        }
        let said = |setting: &Fits, file: &FileRecord| {
            file.only_for
                .iter()
                .all(|(facet, value)| setting.get(facet).is_none_or(|has| self.holds_of(facet, value, has)))
        };
        settings(&place.values).iter().all(|setting| of_part.clone().any(|file| said(setting, file)))
            && of_part.next().is_some()
    }

    /// Whether every target that a file is for is one of the other's, too.
    fn is_narrower<F: Variant>(&self, file: &F, other: &F) -> bool {
        other.only_for().iter().all(|(facet, value)| {
            file.only_for().get(facet).is_some_and(|own| self.implies(facet, own, value))
        })
    }

    /// Whether each target has one file of each part that is more specific than all others for it.
    pub fn check_variants(&self, files: &[FileRecord]) -> Result<(), VariantProblem> {
        let parts: BTreeSet<&PartName> = files.iter().map(|file| &file.part).collect();
        for part in parts {
            let of_part: Vec<&FileRecord> = files.iter().filter(|file| file.part == *part).collect();
            let targets = self.telling_targets(&of_part);
            let targets = targets.ok_or_else(|| VariantProblem::TooMany { part: part.clone() })?;
            let tie = targets.iter().find(|target| self.ties(&of_part, target));
            if let Some(target) = tie {
                return Err(VariantProblem::Tie {
                    part: part.clone(),
                    target: crate::facet::words::fits(&target.values),
                });
            }
        }
        Ok(())
    }

    fn ties(&self, files: &[&FileRecord], target: &Target) -> bool {
        let open = || files.iter().filter(|file| self.holds(&file.only_for, target));
        let is_best = |file: &FileRecord| {
            open().all(|other| std::ptr::eq(*other, file) || self.is_strictly_narrower(file, other))
        };
        open().next().is_some() && !open().any(|file| is_best(file))
    }

    fn is_strictly_narrower(&self, file: &FileRecord, other: &FileRecord) -> bool {
        self.is_narrower(file, other) && !self.is_narrower(other, file)
    }

    /// A target of each sort that the files tell apart; `None` where there are too many. The first ones have the
    /// fewest facets.
    fn telling_targets(&self, files: &[&FileRecord]) -> Option<Vec<Target>> {
        let mut values: BTreeMap<&FacetName, BTreeSet<String>> = BTreeMap::new();
        let mut claims: BTreeSet<&FacetName> = BTreeSet::new();
        for (facet, value) in files.iter().flat_map(|file| &file.only_for) {
            match value {
                FitValue::Claim(_) => drop(claims.insert(facet)),
                value => values.entry(facet).or_default().extend(value.values().iter().cloned()),
            }
        }
        let claims =
            claims.into_iter().map(|facet| (facet, vec![FitValue::Claim(true), FitValue::Claim(false)]));
        let values = values.into_iter();
        let values = values.map(|(facet, values)| (facet, values.into_iter().map(FitValue::One).collect()));
        let mut settings = vec![Fits::new()];
        for (facet, values) in claims.chain(values) {
            settings.extend(with_each(&settings, facet, &values));
            if settings.len() > MAX_TARGETS {
                return None;
            }
        }
        settings.sort_by_key(Fits::len);
        Some(
            settings
                .into_iter()
                .map(|values| Target { name: String::new(), values, is_promise: false })
                .collect(),
        )
    }
}

/// The parts of a release that come along with these components, and those of it that are asked for, in the order
/// of its files.
pub fn parts_along<'e>(
    entry: &'e Entry,
    components: &BTreeSet<ComponentName>,
    asked: &[PartName],
) -> Vec<&'e PartName> {
    let mut parts: Vec<&PartName> = Vec::new();
    for file in &entry.files {
        let comes = asked.contains(&file.part) || entry.goes_along(&file.part, components);
        if comes && !parts.contains(&&file.part) {
            parts.push(&file.part);
        }
    }
    parts
}

/// What the files of a part are for.
pub fn made_for<F: Variant>(files: &[F], part: &PartName) -> Vec<Fits> {
    files.iter().filter(|file| file.part() == part).map(|file| file.only_for().clone()).collect()
}

/// The environments that what is said of facets comes to: each value of each choice with each of the others.
fn settings(said: &Fits) -> Vec<Fits> {
    let mut settings = vec![Fits::new()];
    for (facet, value) in said {
        let each: Vec<FitValue> = match value {
            FitValue::Many(values) => values.iter().cloned().map(FitValue::One).collect(),
            one => vec![one.clone()],
        };
        settings = with_each(&settings, facet, &each);
    }
    settings
}

/// Each of the settings with each of the values of one facet more.
fn with_each(settings: &[Fits], facet: &FacetName, values: &[FitValue]) -> Vec<Fits> {
    let with = |setting: &Fits, value: &FitValue| {
        let mut setting = setting.clone();
        setting.insert(facet.clone(), value.clone());
        setting
    };
    settings.iter().flat_map(|setting| values.iter().map(move |value| with(setting, value))).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::facet::Facet;

    fn facets() -> Facets {
        let mut facets = Facets::default();
        let levels = (1..=4).map(|level| level.to_string()).collect();
        let ladder = Facet::Ladder { levels, aliases: [("thicket".to_owned(), "2".to_owned())].into() };
        facets.define(&"orchard-runtime".parse().unwrap(), &ladder).unwrap();
        facets
    }

    fn fits(text: &str) -> Fits {
        serde_json::from_str(text).unwrap()
    }

    fn target(text: &str) -> Target {
        Target { name: "hand-unit".into(), values: fits(text), is_promise: false }
    }

    fn promise(text: &str) -> Target {
        Target { is_promise: true, ..target(text) }
    }

    /// A file of the part `natives`; its size is its place among the others.
    fn files(all: &[&str]) -> Vec<FileRecord> {
        let file = |(size, text): (usize, &&str)| {
            let digest = crate::digest::Digest::of(text.as_bytes());
            let only_for: serde_json::Value = serde_json::from_str(text).unwrap();
            serde_json::from_value(serde_json::json!({ "part": "natives", "for": only_for, "sha256": digest,
                "size": size, "format": "tar" }))
            .unwrap()
        };
        all.iter().enumerate().map(file).collect()
    }

    fn natives() -> PartName {
        "natives".parse().unwrap()
    }

    #[test]
    fn the_most_specific_file_is_taken() {
        let files = files(&[
            r#"{}"#,
            r#"{"os":"linux"}"#,
            r#"{"os":["linux","macos"],"arch":"aarch64"}"#,
            r#"{"os":"linux","arch":"aarch64"}"#,
            r#"{"orchard-runtime":"thicket"}"#,
        ]);
        let rows = [
            (r#"{"os":"windows"}"#, 0),
            (r#"{"os":"linux","arch":"x86_64"}"#, 1),
            (r#"{"os":"macos","arch":"aarch64"}"#, 2),
            (r#"{"os":"linux","arch":"aarch64"}"#, 3),
            (r#"{"os":"windows","orchard-runtime":"3"}"#, 4),
            (r#"{"os":"windows","orchard-runtime":"1"}"#, 0),
        ];
        for (place, expected) in rows {
            let taken = facets().variant(&files, &natives(), &target(place)).unwrap();
            assert_eq!(taken.size, expected, "{place}");
        }
        assert!(facets().variant(&files[1..4], &natives(), &target(r#"{"os":"windows"}"#)).is_none());
    }

    #[test]
    fn a_promise_is_kept_as_far_as_it_speaks() {
        let files = files(&[r#"{"os":"linux"}"#, r#"{"os":"macos","orchard-runtime":"2"}"#]);
        let rows = [
            (r#"{"orchard-runtime":"1"}"#, true),
            (r#"{"os":["linux","macos"],"orchard-runtime":"2"}"#, true),
            (r#"{"os":["linux","macos"],"orchard-runtime":"1"}"#, false),
            (r#"{"os":"windows"}"#, false),
        ];
        for (place, kept) in rows {
            assert_eq!(facets().has_file(&files, &natives(), &promise(place)), kept, "{place}");
        }
    }

    #[test]
    fn a_tie_is_told_with_a_target_that_shows_it() {
        let rows: [(&[&str], &str); 6] = [
            (&["{}", "{}"], "every target"),
            (&[r#"{"os":"linux"}"#, r#"{"arch":"aarch64"}"#], "linux/aarch64"),
            (&[r#"{"os":"linux"}"#, r#"{"arch":"aarch64"}"#, r#"{"os":"linux","arch":"aarch64"}"#], ""),
            (&[r#"{"os":["linux","macos"]}"#, r#"{"os":["macos","windows"]}"#], "macos"),
            (&[r#"{"orchard-runtime":"2"}"#, r#"{"orchard-runtime":"thicket"}"#], "orchard-runtime 2"),
            (
                &[r#"{"orchard-runtime":"2"}"#, r#"{"orchard-runtime":"3"}"#, r#"{"os":"any"}"#],
                "any with orchard-runtime 2",
            ),
        ];
        for (all, expected) in rows {
            let shown = match facets().check_variants(&files(all)) {
                Ok(()) => String::new(),
                Err(VariantProblem::Tie { target, .. }) => target,
                Err(other) => other.to_string(),
            };
            assert_eq!(shown, expected, "{all:?}");
        }
    }

    fn some_fits() -> impl Strategy<Value = Fits> {
        let os = proptest::sample::subsequence(vec!["linux", "macos", "any"], 0..=3);
        let (level, arch) = (proptest::option::of(1..=3_usize), proptest::option::of(Just("aarch64")));
        (os, arch, level).prop_map(|(os, arch, level)| {
            let os = (!os.is_empty()).then(|| FitValue::Many(os.into_iter().map(str::to_owned).collect()));
            let arch = arch.map(|arch| FitValue::One(arch.to_owned()));
            let level = level.map(|level| FitValue::One(level.to_string()));
            let said = [("os", os), ("arch", arch), ("orchard-runtime", level)];
            said.into_iter().filter_map(|(facet, value)| Some((facet.parse().unwrap(), value?))).collect()
        })
    }

    /// All targets that values of these facets make, and one value more of each that no file names.
    fn all_targets() -> Vec<Target> {
        let or_none = |values: &[&str]| -> Vec<Option<String>> {
            values.iter().map(|value| Some((*value).to_owned())).chain([None]).collect()
        };
        let mut targets = Vec::new();
        for os in or_none(&["linux", "macos", "windows"]) {
            for arch in or_none(&["aarch64", "x86_64"]) {
                for level in or_none(&["1", "2", "3", "4"]) {
                    let said = [("os", &os), ("arch", &arch), ("orchard-runtime", &level)];
                    let one = |(facet, value): (&str, &Option<String>)| {
                        Some((facet.parse().unwrap(), FitValue::One(value.clone()?)))
                    };
                    let values = said.into_iter().filter_map(one).collect();
                    targets.push(Target { name: String::new(), values, is_promise: false });
                }
            }
        }
        targets
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(400))]

        #[test]
        fn files_without_a_tie_have_one_answer_for_every_target_whatever_their_order(
            all in proptest::collection::vec(some_fits(), 1..5)
        ) {
            let texts: Vec<String> = all.iter().map(|fits| serde_json::to_string(fits).unwrap()).collect();
            let files = files(&texts.iter().map(String::as_str).collect::<Vec<_>>());
            let backwards: Vec<FileRecord> = files.iter().rev().cloned().collect();
            let facets = facets();
            let differs = |target: &Target| {
                facets.variant(&files, &natives(), target) != facets.variant(&backwards, &natives(), target)
            };
            if facets.check_variants(&files).is_ok() {
                for target in all_targets() {
                    prop_assert!(!differs(&target), "{target:?}");
                    let taken = facets.variant(&files, &natives(), &target);
                    let is_for = |file: &&FileRecord| facets.holds(&file.only_for, &target);
                    prop_assert_eq!(taken.is_some(), files.iter().any(|file| is_for(&file)));
                    for other in files.iter().filter(is_for) {
                        let inside = all_targets().iter().all(|target| {
                            !facets.holds(&taken.unwrap().only_for, target) || facets.holds(&other.only_for, target)
                        });
                        prop_assert!(inside, "{taken:?} is not inside {other:?}");
                    }
                }
            }
        }
    }
}
