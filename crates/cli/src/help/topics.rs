//! Topics that `help` explains, each on one screen.

use clap::ValueEnum;

/// A topic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Topic {
    /// Which versions of a package are accepted
    Ranges,
    /// The environments that a project runs in
    Targets,
    /// Where packages come from
    Sources,
    /// Builds that install what was reviewed
    Ci,
    /// Environment variables
    Environment,
}

impl Topic {
    /// The topic of this name.
    pub fn of(name: &str) -> Option<Self> {
        Self::from_str(name, false).ok()
    }

    /// What there is to say. A line with a `#` is its title; lines with an indent stay as they are.
    pub fn text(self) -> &'static str {
        match self {
            Self::Ranges => include_str!("topics/ranges.txt"),
            Self::Targets => include_str!("topics/targets.txt"),
            Self::Sources => include_str!("topics/sources.txt"),
            Self::Ci => include_str!("topics/ci.txt"),
            Self::Environment => include_str!("topics/environment.txt"),
        }
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use bibliotax_core::range::Range;
    use clap::CommandFactory;

    use super::*;

    /// The lines with an indent, each in two columns.
    fn rows(topic: Topic) -> Vec<(&'static str, &'static str)> {
        let indented = topic.text().lines().filter_map(|line| line.strip_prefix("  "));
        indented
            .filter_map(|line| line.split_once("   "))
            .map(|(left, right)| (left.trim(), right.trim()))
            .collect()
    }

    #[test]
    fn the_ranges_that_are_explained_are_ranges() {
        let ranges: Vec<&str> = rows(Topic::Ranges)
            .iter()
            .map(|(range, _)| *range)
            .filter(|left| !left.starts_with("bibliotax"))
            .collect();
        assert!(ranges.len() > 8, "{ranges:?}");
        ranges.iter().for_each(|range| assert!(range.parse::<Range>().is_ok(), "{range}"));
    }

    #[test]
    fn the_commands_and_options_that_topics_name_are_there() {
        let command = crate::args::Arguments::command();
        for topic in Topic::value_variants() {
            for (words, _) in rows(*topic).into_iter().filter(|(left, _)| left.starts_with("bibliotax ")) {
                let mut words = words.split(' ').skip(1).peekable();
                let mut at = &command;
                while let Some(sub) = words.peek().and_then(|word| at.find_subcommand(word)) {
                    at = sub;
                    words.next();
                }
                let known: BTreeSet<String> = at
                    .get_arguments()
                    .chain(command.get_arguments())
                    .filter_map(|arg| Some(format!("--{}", arg.get_long()?)))
                    .collect();
                for option in words.filter(|word| word.starts_with("--")) {
                    assert!(known.contains(option), "{option} of {}", at.get_name());
                }
            }
        }
    }

    #[test]
    fn variables_and_exit_statuses_are_those_of_the_docs() {
        let docs = include_str!("../../../../docs/environment.md");
        for (names, _) in
            rows(Topic::Environment).into_iter().filter(|(left, _)| left.starts_with(char::is_uppercase))
        {
            for name in names.split(", ") {
                let name = name
                    .strip_suffix("INCLUDE")
                    .or(name.strip_suffix("CC"))
                    .or(name.strip_suffix("DEW_POINT"))
                    .unwrap_or(name);
                assert!(docs.contains(name), "{name} isn't in the docs");
            }
        }
        let docs = include_str!("../../../../docs/errors.md");
        for (status, _) in rows(Topic::Ci).into_iter().filter(|(left, _)| left.parse::<u8>().is_ok()) {
            assert!(docs.contains(&format!("| {status} |")), "{status} isn't in the docs");
        }
    }
}
