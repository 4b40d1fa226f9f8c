//! Universes that grew over time, too large for brute force.

use std::collections::BTreeSet;

use super::*;

/// A registry that grew over time, too large for brute force: majors break, needs name the majors of their day.
pub(super) fn grown(packages: usize, releases: usize, seed: u64, laggards: usize) -> Registry {
    let mut state = seed;
    let mut random = |below: usize| {
        // A linear congruential generator (Knuth's MMIX constants): small, and the same everywhere.
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        usize::try_from(state >> 33).unwrap() % below
    };
    let mut registry = Registry::default();
    let mut newest = vec![(1, 0); packages];
    for _ in 0..releases {
        for number in 0..packages {
            let (major, minor) = newest[number];
            newest[number] = if random(5) == 0 { (major + 1, 0) } else { (major, minor + 1) };
            let mut needs = Vec::new();
            for target in (0..3.min(number)).map(|_| random(number)).collect::<BTreeSet<_>>() {
                let (major, minor) = newest[target];
                let lags = usize::from(random(laggards) == 0 && major > 1);
                let range = format!("{}.{} .. {}", major - lags, random(minor + 1), major - lags + 1);
                needs.push((package(&format!("bed-n{target}")), range.parse().unwrap()));
            }
            let (major, minor) = newest[number];
            let release = Published::new(format!("{major}.{minor}").parse().unwrap());
            let releases = registry.0.entry(package(&format!("bed-n{number}"))).or_default();
            releases.push(Published { needs, ..release });
        }
    }
    registry
}

#[test]
fn neither_looking_ahead_nor_a_hard_search_changes_the_answer() {
    for seed in 0..25 {
        let registry = grown(24, 9, seed, 6);
        let needs = ["bed-n23 any", "bed-n22 any", "bed-n20 any", "bed-n17 any"];
        let problem = problem(&needs[..], &[]);
        let plainly =
            SearchOptions { probes_literals: false, probe_after: u64::MAX, ..SearchOptions::default() };
        let plainly = versions(&resolve_with_options(&problem, &registry, plainly));
        for probe_after in [0, 3, 20] {
            let options = SearchOptions { probe_after, ..SearchOptions::default() };
            assert_eq!(versions(&resolve_with_options(&problem, &registry, options)), plainly, "seed {seed}");
        }
        assert_eq!(versions(&resolve(&problem, &registry)), plainly, "seed {seed}");
    }
}
